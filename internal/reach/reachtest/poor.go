package reachtest

import (
	"context"
	"io"
	"io/fs"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
)

// Poor makes a session one that can tell little: it has no identity, change time, link counts, owners, room or random access, and
// cannot give a file a second name, as is usual over a network. What is asked of it takes a while.
func Poor(s reach.Session, roundTrip time.Duration) reach.Session {
	return reach.Around(poor{s, roundTrip}, func(ctx context.Context) (func(), error) {
		select {
		case <-time.After(roundTrip):
			return func() {}, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	})
}

// PoorWay reaches what a way reaches, as Poor does, by addresses with another scheme.
func PoorWay(way reach.Way, roundTrip time.Duration) reach.Way {
	return reach.Way{Scheme: "poor", AtOnce: 4, Open: func(ctx context.Context, at reach.Address) (reach.Session, error) {
		if err := at.TakeOnly("read-only"); err != nil {
			return nil, err
		}
		s, err := way.Open(ctx, reach.Address{Path: at.Path})
		if err != nil {
			return nil, err
		}
		return Poor(s, roundTrip), nil
	}}
}

type poor struct {
	reach.Session
	roundTrip time.Duration
}

func (p poor) Traits() reach.Traits { return reach.Traits{RoundTrip: p.roundTrip, Clock: time.Second} }

func (p poor) Tree(ctx context.Context, path string) (reach.Tree, error) {
	return poorly(p.Session.Tree(ctx, path))
}

func (p poor) Folder(ctx context.Context, path string) (reach.Folder, error) {
	return poorlyWritten(p.Session.Folder(ctx, path))
}

// dim leaves of what is told about an entry what a poor way tells.
func dim(i reach.Info, err error) (reach.Info, error) {
	return reach.Info{Name: i.Name, Type: i.Type, Size: i.Size, Mode: i.Mode, Written: i.Written.Truncate(time.Second)}, err
}

func poorly(t reach.Tree, err error) (reach.Tree, error) {
	if err != nil {
		return nil, err
	}
	return poorTree{t}, nil
}

func poorlyWritten(f reach.Folder, err error) (reach.Folder, error) {
	if err != nil {
		return nil, err
	}
	return poorFolder{poorTree{f}, f}, nil
}

type poorTree struct{ of reach.Tree }

func (t poorTree) Close() error                                 { return t.of.Close() }
func (t poorTree) Info(ctx context.Context) (reach.Info, error) { return dim(t.of.Info(ctx)) }

func (t poorTree) List(ctx context.Context) ([]reach.Info, error) {
	all, err := t.of.List(ctx)
	for n := range all {
		all[n], _ = dim(all[n], nil)
	}
	return all, err
}

func (t poorTree) Look(ctx context.Context, name string) (reach.Info, error) {
	return dim(t.of.Look(ctx, name))
}

func (t poorTree) Open(ctx context.Context, name string) (reach.File, error) {
	f, err := t.of.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	return poorFile{f}, nil
}

func (t poorTree) Target(ctx context.Context, name string) (string, error) {
	return t.of.Target(ctx, name)
}

func (t poorTree) Attributes(context.Context, string) (reach.Attributes, error) { return nil, nil }

func (t poorTree) Enter(ctx context.Context, name string) (reach.Tree, error) {
	return poorly(t.of.Enter(ctx, name))
}

type poorFolder struct {
	poorTree
	of reach.Folder
}

func (f poorFolder) Into(ctx context.Context, name string) (reach.Folder, error) {
	return poorlyWritten(f.of.Into(ctx, name))
}

func (f poorFolder) Create(ctx context.Context, name string) (reach.NewFile, error) {
	n, err := f.of.Create(ctx, name)
	if err != nil {
		return nil, err
	}
	return poorNew{poorFile{n}, n}, nil
}

func (f poorFolder) Mkdir(ctx context.Context, name string) error { return f.of.Mkdir(ctx, name) }

func (f poorFolder) Symlink(ctx context.Context, target, name string) error {
	return f.of.Symlink(ctx, target, name)
}

func (f poorFolder) Link(context.Context, string, reach.Folder, string) error {
	return problem.Unsupported
}

func (f poorFolder) Rename(ctx context.Context, oldName string, to reach.Folder, newName string) error {
	other, ok := to.(poorFolder)
	if !ok {
		return problem.OtherFileSystem
	}
	return f.of.Rename(ctx, oldName, other.of, newName)
}

func (f poorFolder) Replace(ctx context.Context, oldName, newName string) error {
	return f.of.Replace(ctx, oldName, newName)
}
func (f poorFolder) Remove(ctx context.Context, name string) error { return f.of.Remove(ctx, name) }

func (f poorFolder) SetMeta(ctx context.Context, m reach.Meta) error {
	return f.of.SetMeta(ctx, ownerless(m))
}

func (f poorFolder) Date(ctx context.Context, written time.Time) error {
	return f.of.Date(ctx, written.Truncate(time.Second))
}

func (f poorFolder) SetLinkMeta(ctx context.Context, name string, m reach.Meta) error {
	return f.of.SetLinkMeta(ctx, name, ownerless(m))
}

func (f poorFolder) Sync(ctx context.Context) error   { return f.of.Sync(ctx) }
func (f poorFolder) Settle(ctx context.Context) error { return f.of.Settle(ctx) }

func (f poorFolder) Room(context.Context) (int64, bool, error) { return -1, false, nil }

// ownerless is what of an entry can be set.
func ownerless(m reach.Meta) reach.Meta {
	return reach.Meta{Mode: m.Mode, UID: entry.Maybe[int64]{}, Written: m.Written.Truncate(time.Second)}
}

// poorFile can only be read from its beginning to its end.
type poorFile struct{ of reach.File }

func (f poorFile) Close() error                                        { return f.of.Close() }
func (f poorFile) Info(ctx context.Context) (reach.Info, error)        { return dim(f.of.Info(ctx)) }
func (f poorFile) Stream(ctx context.Context) (io.ReadCloser, error)   { return f.of.Stream(ctx) }
func (f poorFile) SetMode(ctx context.Context, mode fs.FileMode) error { return problem.Unsupported }

type poorNew struct {
	poorFile
	of reach.NewFile
}

func (f poorNew) Write(p []byte) (int, error) { return f.of.Write(p) }

func (f poorNew) SetMeta(ctx context.Context, m reach.Meta) error {
	return f.of.SetMeta(ctx, ownerless(m))
}
func (f poorNew) Skip(ctx context.Context, n int64) error   { return f.of.Skip(ctx, n) }
func (f poorNew) Cut(ctx context.Context, size int64) error { return f.of.Cut(ctx, size) }
