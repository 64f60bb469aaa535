package corpus

import (
	"fmt"
	"os"

	"humble-rewind/internal/core/advice"
)

// movedFolders are not lost: they were moved, and moved again.
func movedFolders() []FolderCase {
	var all []FolderCase
	add := func(family string, make func(s scene) FolderCase) { all = append(all, scenes(family, make)...) }
	for _, seen := range []bool{true, false} {
		between := map[bool]string{true: "seen between, ", false: "not seen between, "}[seen]
		for _, loss := range []advice.Loss{advice.Deleted, advice.Misplaced} {
			add("moved twice", func(s scene) FolderCase {
				b, c := docs("Old/"+s.k.name), docs("Archive 2026/Done/"+s.k.name)
				ask := advice.Question{Loss: loss}
				return FolderCase{Variant: string(loss) + ", " + between, Ask: ask, Found: First + ":" + c, Play: func(h *History) {
					s.begin(h)
					h.At(ago(9*day + 18*hour))
					h.Move(s.folder, b)
					if seen {
						h.Days(ago(9*day), ago(6*day))
					}
					h.At(ago(5*day + 18*hour))
					h.Move(b, c)
					h.Days(ago(5*day), ago(day))
				}}
			})
		}
		add("some moved twice, some removed", func(s scene) FolderCase {
			want := map[string][]byte{s.name(1): s.of(1, s.revision(1)), s.name(5): s.of(5, s.revision(5))}
			return FolderCase{Variant: between, Ask: advice.Question{Loss: advice.Deleted}, Want: want, Play: func(h *History) {
				s.begin(h)
				h.At(ago(9*day + 18*hour))
				for i := range s.n {
					if i != 1 && i != 5 && i != 8 {
						h.Move(s.path(i), docs("First/"+s.k.name+"/"+s.name(i)))
					}
				}
				h.Remove(s.path(1))
				h.Remove(s.path(5))
				if seen {
					h.Days(ago(9*day), ago(6*day))
				}
				h.At(ago(5*day + 18*hour))
				h.Move(docs("First/"+s.k.name), docs("Second/"+s.k.name))
				h.Days(ago(5*day), ago(day))
			}}
		})
	}
	return all
}

// nobodys are folders with files of which nobody has a version that can be read: they are named.
func nobodys() []FolderCase {
	var all []FolderCase
	add := func(family string, make func(s scene) FolderCase) { all = append(all, scenes(family, make)...) }
	for _, suffix := range []string{"", ".sealed"} {
		add("made and encrypted while nobody looked", func(s scene) FolderCase {
			made := []string{"new list" + s.k.ext, "Details/new plan" + s.k.ext}
			return FolderCase{Variant: fmt.Sprintf("renamed %q, ", suffix), Ask: advice.Question{Loss: advice.Damaged}, Want: s.now(), Missing: made,
				Play: func(h *History) {
					s.begin(h)
					for n, name := range made {
						h.At(ago(8*day - hour))
						h.Save(s.folder+"/"+name, s.k.of(prose(uint64(4400+n), 0, 14)))
					}
					for i := range s.n {
						h.At(ago(7 * day).Add(hour / 3600 * 1))
						if h.Save(s.path(i), noise(s.seed+uint64(i), 1400)); suffix != "" {
							h.Move(s.path(i), s.path(i)+suffix)
						}
					}
					for n, name := range made {
						h.At(ago(7 * day).Add(2 * hour / 3600))
						if h.Save(s.folder+"/"+name, noise(uint64(4500+n), 1400)); suffix != "" {
							h.Move(s.folder+"/"+name, s.folder+"/"+name+suffix)
						}
					}
					h.Days(ago(6*day), ago(day))
				}}
		})
	}
	add("thrown away, of some only the record is left", func(s scene) FolderCase {
		lost := []string{"new list" + s.k.ext, "new plan" + s.k.ext}
		return FolderCase{Ask: advice.Question{Loss: advice.Deleted}, Want: s.now(), Missing: lost, Play: func(h *History) {
			s.begin(h)
			for n, name := range lost {
				h.At(ago(8*day - hour))
				h.Save(s.folder+"/"+name, s.k.of(prose(uint64(4600+n), 0, 14)))
			}
			h.At(ago(7 * day))
			for _, name := range lost {
				h.Discard(s.folder + "/" + name)
				h.fail(os.Remove(h.on(First, Home+"/.local/share/Trash/files/"+name)))
			}
			for i := range s.n {
				h.At(h.clock.Add(hour / 3600))
				h.Discard(s.path(i))
			}
			h.Days(ago(6*day), ago(day))
		}}
	})
	return all
}
