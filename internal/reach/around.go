package reach

import (
	"context"
	"io"
	"io/fs"
	"time"

	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/turns"
)

// Limited lets a session take only so many calls side by side; the others wait, as long as their contexts last, those first that somebody waits
// for, see package turns.
func Limited(s Session, atOnce int) Session {
	room := turns.New(atOnce)
	return Around(s, func(ctx context.Context) (func(), error) {
		if err := room.Take(ctx, turns.Of(ctx)); err != nil {
			return nil, err
		}
		return room.Give, nil
	})
}

// Around calls something before and after each call that goes to a machine: enter may wait, count or refuse, and returns what is
// called when the call is over.
func Around(s Session, enter func(context.Context) (leave func(), err error)) Session {
	return &session{Session: s, around: around{enter: enter}}
}

type around struct {
	enter func(context.Context) (func(), error)
	hold  func() (release func()) // is called for what is opened, and its answer when that is closed; nil: nothing is
}

// held is what is called when something that was opened is closed.
func (a around) held() func() {
	if a.hold == nil {
		return func() {}
	}
	return a.hold()
}

// around1 makes a call that has one answer.
func around1[T any](ctx context.Context, a around, call func() (T, error)) (T, error) {
	leave, err := a.enter(ctx)
	if err != nil {
		var none T
		return none, err
	}
	defer leave()
	return call()
}

func (a around) do(ctx context.Context, call func() error) error {
	_, err := around1(ctx, a, func() (struct{}, error) { return struct{}{}, call() })
	return err
}

type session struct {
	Session
	around
}

// Inner is the session that calls go to.
func (s session) Inner() Session { return s.Session }

func (s session) Tree(ctx context.Context, path string) (Tree, error) {
	return around1(ctx, s.around, func() (Tree, error) { return s.tree(s.Session.Tree(ctx, path)) })
}

func (s session) Folder(ctx context.Context, path string) (Folder, error) {
	return around1(ctx, s.around, func() (Folder, error) { return s.folder(s.Session.Folder(ctx, path)) })
}

func (a around) tree(t Tree, err error) (Tree, error) {
	if err != nil {
		return nil, err
	}
	return tree{t, a, a.held()}, nil
}

func (a around) folder(f Folder, err error) (Folder, error) {
	if err != nil {
		return nil, err
	}
	return folder{tree{f, a, a.held()}, f}, nil
}

func (a around) file(f File, err error) (File, error) {
	if err != nil {
		return nil, err
	}
	if r, ok := f.(Random); ok {
		return random{file{f, a, a.held()}, r}, nil
	}
	return file{f, a, a.held()}, nil
}

type tree struct {
	of Tree
	around
	release func()
}

func (t tree) Close() error {
	defer t.release()
	return t.of.Close()
}

func (t tree) Info(ctx context.Context) (Info, error) {
	return around1(ctx, t.around, func() (Info, error) { return t.of.Info(ctx) })
}

func (t tree) List(ctx context.Context) ([]Info, error) {
	return around1(ctx, t.around, func() ([]Info, error) { return t.of.List(ctx) })
}

func (t tree) Look(ctx context.Context, name string) (Info, error) {
	return around1(ctx, t.around, func() (Info, error) { return t.of.Look(ctx, name) })
}

func (t tree) LookAll(ctx context.Context, names []string) ([]Info, error) {
	return around1(ctx, t.around, func() ([]Info, error) { return LookAll(ctx, t.of, names) })
}

func (t tree) Names(ctx context.Context) ([]string, error) {
	return around1(ctx, t.around, func() ([]string, error) {
		names, _, err := Names(ctx, t.of)
		return names, err
	})
}

func (t tree) ReadFile(ctx context.Context, name string, limit int64) ([]byte, error) {
	return around1(ctx, t.around, func() ([]byte, error) { return ReadFile(ctx, t.of, name, limit) })
}

func (t tree) Open(ctx context.Context, name string) (File, error) {
	return around1(ctx, t.around, func() (File, error) { return t.file(t.of.Open(ctx, name)) })
}

func (t tree) Target(ctx context.Context, name string) (string, error) {
	return around1(ctx, t.around, func() (string, error) { return t.of.Target(ctx, name) })
}

func (t tree) Attributes(ctx context.Context, name string) (Attributes, error) {
	return around1(ctx, t.around, func() (Attributes, error) { return t.of.Attributes(ctx, name) })
}

func (t tree) Enter(ctx context.Context, name string) (Tree, error) {
	return around1(ctx, t.around, func() (Tree, error) { return t.tree(t.of.Enter(ctx, name)) })
}

type folder struct {
	tree
	of Folder
}

// inner is the folder that another call is to be given.
func inner(f Folder) Folder {
	if wrapped, ok := f.(folder); ok {
		return wrapped.of
	}
	return f
}

func (f folder) Into(ctx context.Context, name string) (Folder, error) {
	return around1(ctx, f.around, func() (Folder, error) { return f.folder(f.of.Into(ctx, name)) })
}

func (f folder) Create(ctx context.Context, name string) (NewFile, error) {
	return around1(ctx, f.around, func() (NewFile, error) {
		n, err := f.of.Create(ctx, name)
		if err != nil {
			return nil, err
		}
		wrapped := newFile{file{n, f.around, f.held()}, n, ctx}
		if r, ok := n.(Random); ok {
			return newRandom{wrapped, random{wrapped.file, r}}, nil
		}
		return wrapped, nil
	})
}

func (f folder) Mkdir(ctx context.Context, name string) error {
	return f.do(ctx, func() error { return f.of.Mkdir(ctx, name) })
}

func (f folder) Symlink(ctx context.Context, target, name string) error {
	return f.do(ctx, func() error { return f.of.Symlink(ctx, target, name) })
}

func (f folder) Link(ctx context.Context, oldName string, to Folder, newName string) error {
	return f.do(ctx, func() error { return f.of.Link(ctx, oldName, inner(to), newName) })
}

func (f folder) Rename(ctx context.Context, oldName string, to Folder, newName string) error {
	return f.do(ctx, func() error { return f.of.Rename(ctx, oldName, inner(to), newName) })
}

func (f folder) Replace(ctx context.Context, oldName, newName string) error {
	return f.do(ctx, func() error { return f.of.Replace(ctx, oldName, newName) })
}

func (f folder) Remove(ctx context.Context, name string) error {
	return f.do(ctx, func() error { return f.of.Remove(ctx, name) })
}

func (f folder) SetMeta(ctx context.Context, m Meta) error {
	return f.do(ctx, func() error { return f.of.SetMeta(ctx, m) })
}

func (f folder) Date(ctx context.Context, written time.Time) error {
	return f.do(ctx, func() error { return f.of.Date(ctx, written) })
}

func (f folder) SetLinkMeta(ctx context.Context, name string, m Meta) error {
	return f.do(ctx, func() error { return f.of.SetLinkMeta(ctx, name, m) })
}

func (f folder) Sync(ctx context.Context) error {
	return f.do(ctx, func() error { return f.of.Sync(ctx) })
}

func (f folder) Settle(ctx context.Context) error {
	return f.do(ctx, func() error { return f.of.Settle(ctx) })
}

func (f folder) Room(ctx context.Context) (free int64, readOnly bool, err error) {
	err = f.do(ctx, func() (err error) {
		free, readOnly, err = f.of.Room(ctx)
		return err
	})
	return free, readOnly, err
}

type file struct {
	of File
	around
	release func()
}

func (f file) Close() error {
	defer f.release()
	return f.of.Close()
}

func (f file) Info(ctx context.Context) (Info, error) {
	return around1(ctx, f.around, func() (Info, error) { return f.of.Info(ctx) })
}

func (f file) Stream(ctx context.Context) (io.ReadCloser, error) {
	s, err := around1(ctx, f.around, func() (io.ReadCloser, error) { return f.of.Stream(ctx) })
	if err != nil {
		return nil, err
	}
	return stream{s, ctx, f.around, f.held()}, nil
}

// Forget passes on what the file offers; one that offers nothing is silent, see Forget.
func (f file) Forget(ctx context.Context, at, size int64) error {
	return f.do(ctx, func() error { return Forget(ctx, f.of, at, size) })
}

func (f file) SetMode(ctx context.Context, mode fs.FileMode) error {
	return f.do(ctx, func() error { return SetMode(ctx, f.of, mode) })
}

type stream struct {
	io.ReadCloser
	ctx context.Context
	around
	release func()
}

func (s stream) Close() error {
	defer s.release()
	return s.ReadCloser.Close()
}

func (s stream) Read(p []byte) (int, error) {
	return around1(s.ctx, s.around, func() (int, error) { return s.ReadCloser.Read(p) })
}

// random is a file that can be read at any offset.
type random struct {
	file
	at io.ReaderAt
}

// ReadAt waits for its turn however long that takes; see UntilAt for one that can be left.
func (r random) ReadAt(p []byte, off int64) (int, error) {
	return r.readAtUntil(context.Background(), p, off)
}

func (r random) readAtUntil(ctx context.Context, p []byte, off int64) (int, error) {
	return around1(ctx, r.around, func() (int, error) { return r.at.ReadAt(p, off) })
}

// NextData passes on what the file knows of its holes; problem.Unsupported where it knows nothing.
func (r random) NextData(off int64) (start, end int64, err error) {
	gaps, ok := r.at.(Gaps)
	if !ok {
		return 0, 0, problem.Unsupported
	}
	err = r.do(context.Background(), func() (err error) {
		start, end, err = gaps.NextData(off)
		return err
	})
	return start, end, err
}

// newFile is a file being written until the context ends in which it was created.
type newFile struct {
	file
	of  NewFile
	ctx context.Context
}

func (f newFile) Write(p []byte) (int, error) {
	return around1(f.ctx, f.around, func() (int, error) { return f.of.Write(p) })
}

// Clone passes on what the file offers; false where it offers nothing.
func (f newFile) Clone(from File) (cloned bool) {
	cloner, ok := f.of.(Cloner)
	if !ok {
		return false
	}
	switch wrapped := from.(type) {
	case file:
		from = wrapped.of
	case random:
		from = wrapped.of
	}
	_ = f.do(f.ctx, func() error { // where it had no turn, it is copied
		cloned = cloner.Clone(from)
		return nil
	})
	return cloned
}

func (f newFile) SetMeta(ctx context.Context, m Meta) error {
	return f.do(ctx, func() error { return f.of.SetMeta(ctx, m) })
}

func (f newFile) Skip(ctx context.Context, n int64) error {
	return f.do(ctx, func() error { return f.of.Skip(ctx, n) })
}

func (f newFile) Cut(ctx context.Context, size int64) error {
	return f.do(ctx, func() error { return f.of.Cut(ctx, size) })
}

// newRandom is a file being written that can be read at any offset.
type newRandom struct {
	newFile
	at random
}

func (f newRandom) ReadAt(p []byte, off int64) (int, error)          { return f.at.readAtUntil(f.ctx, p, off) }
func (f newRandom) NextData(off int64) (start, end int64, err error) { return f.at.NextData(off) }
