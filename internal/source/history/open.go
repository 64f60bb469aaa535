package history

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/refs"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// blobRef is a ref to a blob: "blob", or "link" where it is the target of one, its name, and the seconds of the write time that it has as a
// file; none where nothing tells.
func blobRef(blob string, link bool, written time.Time) sighting.Ref {
	kind, at := "blob", ""
	if link {
		kind = "link"
	}
	if !written.IsZero() {
		at = strconv.FormatInt(written.Unix(), 10)
	}
	return sighting.Ref(kind + " " + blob + " " + at)
}

// maxHeld is how large a content is held in memory whole, in bytes; larger ones are read as they come.
const maxHeld = 4 << 20

func (s *store) Open(ctx context.Context, ref sighting.Ref) (source.Opened, error) {
	kind, rest, _ := strings.Cut(string(ref), " ")
	blob, at, ok := strings.Cut(rest, " ")
	if (kind == "blob" || kind == "link") && ok && refs.IsObject(blob) {
		var written time.Time
		if seconds, err := strconv.ParseInt(at, 10, 64); err == nil {
			written = time.Unix(seconds, 0).UTC()
		}
		return s.openBlob(ctx, blob, kind == "link", written)
	}
	l, err := ref.Locator()
	if err != nil {
		return source.Opened{}, err
	}
	if !refs.IsObject(l.Capture) {
		return source.Opened{}, fmt.Errorf("%s: %w", place.Quote(l.Path()), errMissing)
	}
	path := strings.TrimPrefix(place.Join("/"+l.Dir, l.Name), "/")
	o, _, err := s.objects().get(ctx, l.Capture+":"+path, -1)
	if err != nil {
		return source.Opened{}, fmt.Errorf("%s: %w", place.Quote(l.Path()), err)
	}
	if o.kind != "tree" {
		return source.Opened{}, fmt.Errorf("%s: %w", place.Quote(l.Path()), problem.NotThere)
	}
	info := reach.Info{Name: l.Name, Type: entry.Folder, Size: -1}
	return source.Opened{Info: info, Folder: &tree{store: s, commit: l.Capture, path: path, info: info}}, nil
}

func (s *store) openBlob(ctx context.Context, name string, link bool, written time.Time) (source.Opened, error) {
	o, content, err := s.objects().get(ctx, name, maxHeld)
	if err != nil {
		return source.Opened{}, fmt.Errorf("open %.10s in the repository: %w", name, err)
	}
	if o.kind != "blob" {
		return source.Opened{}, fmt.Errorf("open %.10s in the repository: it is a %s: %w", name, o.kind, problem.NotFile)
	}
	info := reach.Info{Type: entry.File, Size: o.size, Written: written}
	switch {
	case link && content != nil:
		info.Type = entry.Link
		return source.Opened{Info: info, Target: string(content)}, nil
	case content != nil || o.size == 0:
		return source.Opened{Info: info, File: held{bytes.NewReader(content), info}}, nil
	}
	return source.Opened{Info: info, File: streamed{&s.mirror, name, info}}, nil
}

// held is a content in memory.
type held struct {
	*bytes.Reader
	info reach.Info
}

func (h held) Info(context.Context) (reach.Info, error) { return h.info, nil }
func (h held) Close() error                             { return nil }

func (h held) Stream(ctx context.Context) (io.ReadCloser, error) {
	return io.NopCloser(reach.Until(ctx, io.NewSectionReader(h.Reader, 0, h.info.Size))), nil
}

// streamed is a content that a child of git of its own passes through whenever it is read.
type streamed struct {
	mirror *mirror
	name   string
	info   reach.Info
}

func (s streamed) Info(context.Context) (reach.Info, error) { return s.info, nil }
func (s streamed) Close() error                             { return nil }

func (s streamed) Stream(ctx context.Context) (io.ReadCloser, error) {
	ctx, stop := context.WithCancel(ctx)
	r, w := io.Pipe()
	done := make(chan struct{})
	go func() {
		defer close(done)
		n := int64(0)
		err := s.mirror.pipe(ctx, nil, func(out *bufio.Reader) (err error) {
			n, err = io.Copy(w, io.LimitReader(out, s.info.Size+1))
			return err
		}, "cat-file", "blob", s.name)
		if err == nil && n != s.info.Size {
			err = fmt.Errorf("git gave %d of %d bytes: %w", n, s.info.Size, problem.Broken)
		}
		w.CloseWithError(err)
	}()
	return &stream{r, stop, done}, nil
}

type stream struct {
	*io.PipeReader
	stop context.CancelFunc
	done chan struct{}
}

// Close ends the child and waits for it.
func (s *stream) Close() error {
	s.stop()
	err := s.PipeReader.Close()
	<-s.done
	return err
}

// tree is a folder as a commit holds it.
type tree struct {
	store  *store
	commit string
	path   string
	info   reach.Info
}

func (t *tree) Close() error                             { return nil }
func (t *tree) Info(context.Context) (reach.Info, error) { return t.info, nil }

// List reads the tree object.
func (t *tree) List(ctx context.Context) ([]reach.Info, error) {
	all, err := t.entries(ctx)
	infos := make([]reach.Info, len(all))
	for i := range all {
		infos[i] = all[i].info
	}
	return infos, err
}

type treeEntry struct {
	info reach.Info
	blob string
}

func (t *tree) entries(ctx context.Context) (all []treeEntry, err error) {
	err = t.store.mirror.run(ctx, nil, func(out *bufio.Reader) error {
		for {
			line, err := field(out, 0)
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return err
			}
			meta, name, ok := strings.Cut(string(line), "\t")
			f := strings.Fields(meta)
			if !ok || len(f) != 4 || reach.CheckName(name) != nil || len(all) >= maxEntries {
				continue
			}
			e := treeEntry{reach.Info{Name: name, Type: entry.File, Size: -1}, f[2]}
			if n, err := strconv.ParseInt(f[3], 10, 64); err == nil {
				e.info.Size = n
			}
			switch {
			case f[1] == "tree":
				e.info.Type = entry.Folder
			case f[0] == "120000":
				e.info.Type = entry.Link
			case f[1] != "blob":
				e.info.Type = entry.Other
			}
			all = append(all, e)
		}
	}, "ls-tree", "-l", "-z", t.commit+":"+t.path)
	var broken *gitError
	if errors.As(err, &broken) {
		err = fmt.Errorf("%w: %w", errMissing, err)
	}
	return all, err
}

func (t *tree) entry(ctx context.Context, name string) (treeEntry, error) {
	all, err := t.entries(ctx)
	if err != nil {
		return treeEntry{}, err
	}
	for _, e := range all {
		if e.info.Name == name {
			return e, nil
		}
	}
	return treeEntry{}, fmt.Errorf("%s: %w", place.Quote(name), problem.NotThere)
}

// Look describes an entry.
func (t *tree) Look(ctx context.Context, name string) (reach.Info, error) {
	e, err := t.entry(ctx, name)
	return e.info, err
}

// Open opens a file.
func (t *tree) Open(ctx context.Context, name string) (reach.File, error) {
	e, err := t.entry(ctx, name)
	if err != nil {
		return nil, err
	}
	if e.info.Type != entry.File {
		return nil, fmt.Errorf("%s: %w", place.Quote(name), problem.NotFile)
	}
	c, err := t.store.openBlob(ctx, e.blob, false, time.Time{})
	return c.File, err
}

// Target returns where a link points to.
func (t *tree) Target(ctx context.Context, name string) (string, error) {
	e, err := t.entry(ctx, name)
	if err != nil {
		return "", err
	}
	c, err := t.store.openBlob(ctx, e.blob, true, time.Time{})
	return c.Target, err
}

// Attributes are none.
func (t *tree) Attributes(context.Context, string) (reach.Attributes, error) { return nil, nil }

// Enter opens a folder in this one.
func (t *tree) Enter(ctx context.Context, name string) (reach.Tree, error) {
	info, err := t.Look(ctx, name)
	if err != nil {
		return nil, err
	}
	if info.Type != entry.Folder {
		return nil, fmt.Errorf("%s: %w", place.Quote(name), problem.NotFolder)
	}
	return &tree{t.store, t.commit, strings.TrimPrefix(place.Join("/"+t.path, name), "/"), info}, nil
}
