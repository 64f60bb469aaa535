package dav

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/multistatus"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/spool"
)

// folder is a folder of a drive, by its path.
type folder struct {
	s    *server
	path string
	info reach.Info
}

func (f *folder) Close() error { return nil }

func (f *folder) at(name string) (string, error) {
	if err := reach.CheckName(name); err != nil {
		return "", err
	}
	return place.Join(f.path, name), nil
}

func (f *folder) Info(ctx context.Context) (reach.Info, error) {
	r, err := f.s.look(ctx, f.path)
	return r.info(f.info.Name), err
}

func (f *folder) List(ctx context.Context) ([]reach.Info, error) {
	all, err := f.s.list(ctx, f.path)
	infos := make([]reach.Info, len(all))
	for i := range all {
		infos[i] = all[i].Info
	}
	return infos, err
}

func (f *folder) Look(ctx context.Context, name string) (reach.Info, error) {
	at, err := f.at(name)
	if err != nil {
		return reach.Info{}, err
	}
	r, err := f.s.look(ctx, at)
	if err != nil {
		return reach.Info{}, fmt.Errorf("%s: %w", place.Quote(at), err)
	}
	return r.info(name), nil
}

func (f *folder) Open(ctx context.Context, name string) (reach.File, error) {
	at, err := f.at(name)
	if err != nil {
		return nil, err
	}
	r, err := f.s.look(ctx, at)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", place.Quote(at), err)
	}
	if r.Folder {
		return nil, fmt.Errorf("%s: %w", place.Quote(at), problem.NotFile)
	}
	return &file{s: f.s, path: at, info: r.info(name)}, nil
}

// Target is of links, of which a drive has none.
func (f *folder) Target(context.Context, string) (string, error) { return "", problem.Unsupported }

// Attributes are none.
func (f *folder) Attributes(context.Context, string) (reach.Attributes, error) { return nil, nil }

func (f *folder) Enter(ctx context.Context, name string) (reach.Tree, error) {
	return f.into(ctx, name)
}

func (f *folder) Into(ctx context.Context, name string) (reach.Folder, error) {
	return f.into(ctx, name)
}

func (f *folder) into(ctx context.Context, name string) (*folder, error) {
	at, err := f.at(name)
	if err != nil {
		return nil, err
	}
	return f.s.folder(ctx, at)
}

// onlyNew is what keeps a PUT from writing over anything.
var onlyNew = http.Header{"If-None-Match": {"*"}}

func (f *folder) Create(ctx context.Context, name string) (reach.NewFile, error) {
	at, err := f.free(ctx, name)
	if err != nil {
		return nil, err
	}
	n := &newFile{file: file{s: f.s, path: at, info: reach.Info{Name: name, Type: entry.File}}, ctx: ctx}
	if n.tag, err = f.s.put(ctx, at, onlyNew, http.NoBody, 0); err != nil {
		return nil, fmt.Errorf("%s: %w", place.Quote(at), err)
	}
	return n, nil
}

// free is the path of a name that nothing has. The server checks that again where it can.
func (f *folder) free(ctx context.Context, name string) (string, error) {
	at, err := f.at(name)
	if err != nil {
		return "", err
	}
	_, err = f.s.look(ctx, at)
	switch {
	case err == nil:
		return "", fmt.Errorf("%s: %w", place.Quote(at), problem.Taken)
	case !errors.Is(err, problem.NotThere):
		return "", err
	}
	return at, nil
}

func (s *server) put(ctx context.Context, path string, header http.Header, body io.Reader, size int64) (tag string, err error) {
	answer, err := s.request(ctx, "PUT", s.url(path, false), header, body, size, http.StatusCreated, http.StatusNoContent, http.StatusOK)
	if err != nil {
		return "", err
	}
	answer.Body.Close()
	if tag = answer.Header.Get("ETag"); tag == "" {
		r, err := s.look(ctx, path)
		return r.Tag, err
	}
	return tag, nil
}

func (f *folder) Mkdir(ctx context.Context, name string) error {
	at, err := f.free(ctx, name)
	if err != nil {
		return err
	}
	answer, err := f.s.request(ctx, "MKCOL", f.s.url(at, true), nil, nil, -1, http.StatusCreated)
	if err != nil {
		return fmt.Errorf("%s: %w", place.Quote(at), err)
	}
	return answer.Body.Close()
}

// Symlink and Link are of file systems.
func (f *folder) Symlink(context.Context, string, string) error {
	return fmt.Errorf("a cloud drive has no links: %w", problem.Unsupported)
}

// Link is of file systems.
func (f *folder) Link(context.Context, string, reach.Folder, string) error {
	return problem.Unsupported
}

func (f *folder) Rename(ctx context.Context, oldName string, to reach.Folder, newName string) error {
	other, ok := to.(*folder)
	if !ok || other.s != f.s {
		return problem.OtherFileSystem
	}
	from, err := f.at(oldName)
	if err != nil {
		return err
	}
	at, err := other.free(ctx, newName)
	if err != nil {
		return err
	}
	return f.move(ctx, from, at, false)
}

// Replace moves an entry over another of the same folder.
func (f *folder) Replace(ctx context.Context, oldName, newName string) error {
	from, err := f.at(oldName)
	if err != nil {
		return err
	}
	at, err := f.at(newName)
	if err != nil {
		return err
	}
	return f.move(ctx, from, at, true)
}

func (f *folder) move(ctx context.Context, from, to string, over bool) error {
	r, err := f.s.look(ctx, from)
	if err != nil {
		return fmt.Errorf("%s: %w", place.Quote(from), err)
	}
	header := http.Header{"Destination": {f.s.url(to, r.Folder).String()}, "Overwrite": {"F"}}
	if over {
		header.Set("Overwrite", "T")
	}
	answer, err := f.s.request(ctx, "MOVE", f.s.url(from, r.Folder), header, nil, -1, http.StatusCreated, http.StatusNoContent)
	if err != nil {
		return fmt.Errorf("%s: %w", place.Quote(from), err)
	}
	return answer.Body.Close()
}

// Remove removes a file or an empty folder for good: what only ever was on its way is not for the drive's trash.
func (f *folder) Remove(ctx context.Context, name string) error {
	at, err := f.at(name)
	if err != nil {
		return err
	}
	r, err := f.s.look(ctx, at)
	if err != nil {
		return fmt.Errorf("%s: %w", place.Quote(at), err)
	}
	header := http.Header{"Trash": {"F"}}
	if r.Folder {
		all, err := f.s.list(ctx, at)
		if err != nil {
			return err
		}
		if len(all) > 0 {
			return fmt.Errorf("%s: %w", place.Quote(at), problem.NotEmpty)
		}
	} else if r.Tag != "" {
		tag, err := f.s.strong(ctx, at, r.Tag)
		if err != nil {
			return err
		}
		header.Set("If-Match", tag)
	}
	answer, err := f.s.request(ctx, "DELETE", f.s.url(at, r.Folder), header, nil, -1, http.StatusNoContent, http.StatusOK)
	if err != nil {
		return fmt.Errorf("%s: %w", place.Quote(at), err)
	}
	return answer.Body.Close()
}

// lost is what a drive does not keep of an entry.
func lost(m reach.Meta) error {
	var all []string
	if !m.Written.IsZero() {
		all = append(all, "write time (a cloud drive gives its own)")
	}
	if m.Mode.Known || m.UID.Known {
		all = append(all, "owner and mode (a cloud drive has none)")
	}
	if all == nil {
		return nil
	}
	return &reach.MetaError{Lost: all}
}

func (f *folder) SetMeta(_ context.Context, m reach.Meta) error { return lost(m) }

// Date does nothing: a drive dates its folders itself.
func (f *folder) Date(context.Context, time.Time) error { return nil }

// SetLinkMeta is of links.
func (f *folder) SetLinkMeta(context.Context, string, reach.Meta) error { return problem.Unsupported }

// Sync and Settle do nothing: what the server has confirmed lasts as long as it says.
func (f *folder) Sync(context.Context) error { return nil }

// Settle does nothing, as Sync.
func (f *folder) Settle(context.Context) error { return nil }

// Room asks for the quota of RFC 4331.
func (f *folder) Room(ctx context.Context) (free int64, readOnly bool, err error) {
	free = -1
	err = f.s.find(ctx, f.path, "0", []string{"<D:quota-available-bytes/>"}, func(r resource) error {
		if n, err := strconv.ParseInt(strings.TrimSpace(r.Available), 10, 64); err == nil {
			free = n
		}
		return nil
	})
	return free, false, err
}

// file is a file of a drive.
type file struct {
	s    *server
	path string // or, of a version, ""
	href string // of a version
	info reach.Info
}

func (f *file) Close() error { return nil }

func (f *file) Info(context.Context) (reach.Info, error) { return f.info, nil }

// Stream reads the content. It ends with an error where it is not as long as was told.
func (f *file) Stream(ctx context.Context) (io.ReadCloser, error) {
	u := f.s.url(f.path, false)
	if f.href != "" {
		var err error
		if u, err = f.s.base.Parse(f.href); err != nil || u.Host != f.s.base.Host || u.Scheme != f.s.base.Scheme {
			return nil, fmt.Errorf("%w (a version lies on another server)", multistatus.ErrAnswer)
		}
	}
	answer, err := f.s.request(ctx, "GET", u, nil, nil, -1, http.StatusOK)
	if err != nil {
		return nil, err
	}
	return &counted{answer.Body, ctx, f.info.Size, 0}, nil
}

// counted checks that a content is as long as was told.
type counted struct {
	io.ReadCloser
	ctx  context.Context
	want int64 // negative where nothing was told
	got  int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.got += int64(n)
	switch {
	case c.ctx.Err() != nil:
		return n, c.ctx.Err()
	case c.want >= 0 && c.got > c.want, err == io.EOF && c.want >= 0 && c.got != c.want:
		return n, fmt.Errorf("the server said %d bytes and sent another number: %w", c.want, problem.Broken)
	case err != nil && err != io.EOF:
		return n, failure(c.ctx, err)
	}
	return n, err
}

// newFile is a file being written. What is written is kept here until it is whole, and sent then: a drive takes no pieces.
type newFile struct {
	file
	ctx   context.Context
	tag   string // of what the server has
	small bytes.Buffer
	large *spool.File // once there is more than fits into memory
	size  int64
	dirty bool
}

// inMemory is how much of a file being written is held in memory, in bytes.
const inMemory = 4 << 20

func (n *newFile) Write(p []byte) (int, error) {
	n.dirty = true
	if n.large == nil && n.size+int64(len(p)) > inMemory {
		f, err := spool.Common.File(nil)
		if err != nil {
			return 0, err
		}
		n.large = f
		if _, err := f.Write(n.small.Bytes()); err != nil {
			return 0, err
		}
		n.small = bytes.Buffer{}
	}
	var count int
	var err error
	if n.large != nil {
		count, err = n.large.Write(p)
	} else {
		count, err = n.small.Write(p)
	}
	n.size += int64(count)
	return count, err
}

func (n *newFile) Skip(_ context.Context, count int64) error {
	zeros := make([]byte, min(count, 1<<20))
	for ; count > 0; count -= int64(len(zeros)) {
		if _, err := n.Write(zeros[:min(count, int64(len(zeros)))]); err != nil {
			return err
		}
	}
	return nil
}

func (n *newFile) Cut(_ context.Context, size int64) error {
	if size == n.size {
		return nil
	}
	if size > n.size {
		return n.Skip(n.ctx, size-n.size)
	}
	n.size, n.dirty = size, true
	if n.large != nil {
		return n.large.Cut(size)
	}
	n.small.Truncate(int(size))
	return nil
}

// send puts what was written in place of the empty file that was made, if that is still what is there.
func (n *newFile) send(ctx context.Context) error {
	if !n.dirty {
		return nil
	}
	var body io.Reader = bytes.NewReader(n.small.Bytes())
	if n.large != nil {
		if err := n.large.Whole(); err != nil {
			return err
		}
		body = io.NewSectionReader(n.large, 0, n.size)
	}
	header := http.Header{}
	if n.tag != "" {
		strong, err := n.s.strong(ctx, n.path, n.tag)
		if err != nil {
			return err
		}
		header.Set("If-Match", strong)
	}
	tag, err := n.s.put(ctx, n.path, header, body, n.size)
	if errors.Is(err, problem.Taken) {
		err = fmt.Errorf("somebody else wrote it meanwhile: %w", problem.Changed)
	}
	if err != nil {
		return err
	}
	n.tag, n.dirty, n.info.Size = tag, false, n.size
	return nil
}

func (n *newFile) Stream(ctx context.Context) (io.ReadCloser, error) {
	if err := n.send(ctx); err != nil {
		return nil, err
	}
	return n.file.Stream(ctx)
}

func (n *newFile) Info(ctx context.Context) (reach.Info, error) {
	if err := n.send(ctx); err != nil {
		return reach.Info{}, err
	}
	r, err := n.s.look(ctx, n.path)
	return r.info(n.info.Name), err
}

func (n *newFile) SetMeta(ctx context.Context, m reach.Meta) error {
	if err := n.send(ctx); err != nil {
		return err
	}
	return lost(m)
}

func (n *newFile) Close() error {
	err := n.send(context.WithoutCancel(n.ctx))
	if n.large != nil {
		err = errors.Join(err, n.large.Close())
	}
	return err
}
