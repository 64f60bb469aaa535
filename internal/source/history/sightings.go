package history

import (
	"fmt"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
)

func locate(path string) sighting.Locator {
	return sighting.Locator{Dir: folderOf(path), Name: nameOf(path)}
}

// What is beside the line lies in its folder under a name that no file has, since it holds a slash.
func besideAt(path, commit string) sighting.Locator {
	l := locate(path)
	l.Name += "/" + commit
	return l
}

func stagedAt(path string) sighting.Locator { return besideAt(path, "index") }

func lostAt(blob string) sighting.Locator { return sighting.Locator{Name: "/" + blob} }

// origin is where on the machine a path of the repository stood; "" where nothing tells. A map may speak of paths in the repository, or
// of those of its folder of files. One that holds homes tells by their paths.
func (r *survey) origin(path string) string {
	in, at := "/"+path, ""
	if r.repository.tree != "" {
		at = place.Join(r.repository.tree, path)
	}
	for _, name := range []string{in, at} {
		for _, m := range r.Maps {
			if name != "" && place.Under(name, m.From) {
				return place.Mapped(r.Maps, name)
			}
		}
	}
	if !r.Elsewhere {
		return at
	}
	for _, home := range r.Homes {
		if place.Under(in, home) {
			return in
		}
	}
	return ""
}

func (r *survey) sighting(v version) sighting.Sighting {
	seen := sighting.Sighting{At: locate(v.path), Origin: r.origin(v.path), Type: entry.File, Number: v.number, Readable: true}
	if v.blob == "" {
		seen.Type, seen.Size = entry.Folder, -1
		seen.Mark = entry.Mark{Type: entry.Folder}
		return seen
	}
	if v.by != nil {
		seen.Written, seen.Author, seen.Message = v.by.authored, v.by.author, v.by.message
		seen.Lies = fmt.Sprintf("commit %.10s", v.by.id)
	}
	size, there := r.sizes[v.blob]
	there = there && size != missing
	seen.Size, seen.Readable = size, there
	if !there {
		seen.Size = -1
		seen.Notes = []string{"The commit names it, but its content is not in the repository."}
	}
	if v.link {
		seen.Type, seen.Target = entry.Link, r.targets[v.blob]
	}
	seen.Mark = entry.Mark{Type: seen.Type, Size: max(seen.Size, 0), Content: entry.ContentID{Kind: entry.GitBlob, Value: v.blob}}
	seen.Ref = blobRef(v.blob, v.link, seen.Written)
	return seen
}

// beside is what lies beside the line.
func (r *survey) beside(t told) (all []reported) {
	for _, v := range t.beside {
		all = append(all, reported{Sighting: r.besideSighting(v)})
	}
	return all
}

func (r *survey) besideSighting(v version) sighting.Sighting {
	seen := r.sighting(v)
	seen.At, seen.Beside, seen.Number = besideAt(v.path, v.by.id), true, 0
	label := r.labels[v.by.id]
	if label == "" {
		label = "which nothing names any more"
	}
	seen.Lies = fmt.Sprintf("commit %.10s, %s", v.by.id, label)
	return seen
}

func (r *survey) stagedSighting(v version) sighting.Sighting {
	seen := r.sighting(v)
	seen.At, seen.Beside, seen.Written = stagedAt(v.path), true, r.index
	seen.Lies = "staged, and in no commit"
	seen.Ref = blobRef(v.blob, false, r.index)
	return seen
}

// lost is a blob that no tree names.
func (r *survey) lost(blob string, size int64) sighting.Sighting {
	return sighting.Sighting{At: lostAt(blob), Ref: blobRef(blob, false, time.Time{}), Type: entry.File, Size: size, Nameless: true, Beside: true,
		Readable: true, Lies: fmt.Sprintf("blob %.10s, which nothing names any more", blob),
		Mark: entry.Mark{Type: entry.File, Size: size, Content: entry.ContentID{Kind: entry.GitBlob, Value: blob}}}
}
