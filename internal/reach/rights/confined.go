package rights

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
)

// Confined is a session for reading a store that leads outside its location only where all who may write the store may read. What lies
// inside is read whoever it belongs to: nobody could put it there who could not read it. Nothing is written through it outside.
//
// A store can be made to point elsewhere by whoever writes it, and is read as root; so what it points to is read as its writers would.
func (m *Machine) Confined(at string, writers Writers) reach.Session {
	if writers.None() {
		return m.files
	}
	c := &confined{Session: m.files, at: at}
	for _, uid := range writers.Users {
		c.readers = append(c.readers, m.User(uid))
	}
	if writers.Everyone || writers.Unknown {
		c.readers = append(c.readers, Everyone)
	}
	return c
}

type confined struct {
	reach.Session
	at      string
	readers []Who
}

// Inner is the session that calls go to.
func (c *confined) Inner() reach.Session { return c.Session }

// Tree opens a folder inside as it is. Outside, it goes down from the top, looking at each folder by its descriptor.
func (c *confined) Tree(ctx context.Context, path string) (reach.Tree, error) {
	path, err := place.Clean(path)
	if err != nil {
		return nil, err
	}
	if place.Under(path, c.at) {
		return c.Session.Tree(ctx, path)
	}
	top, err := c.Session.Tree(ctx, "/")
	if err != nil {
		return nil, err
	}
	at := reach.Tree(&outside{Tree: top, of: c, path: "/"})
	for name := range strings.SplitSeq(strings.Trim(path, "/"), "/") {
		if name == "" {
			break
		}
		next, err := at.Enter(ctx, name)
		at.Close()
		if err != nil {
			return nil, err
		}
		at = next
	}
	return at, nil
}

func (c *confined) Folder(ctx context.Context, path string) (reach.Folder, error) {
	if path, err := place.Clean(path); err != nil || !place.Under(path, c.at) {
		return nil, c.refuse(path)
	}
	return c.Session.Folder(ctx, path)
}

// allow refuses an entry outside where one of the readers does not have a right to it.
func (c *confined) allow(a access, right func(access, Who) bool, path string) error {
	if slices.ContainsFunc(c.readers, func(w Who) bool { return !right(a, w) }) {
		return c.refuse(path)
	}
	return nil
}

func reads(a access, w Who) bool  { return a.owns(w) || a.grants(w)&read != 0 }
func enters(a access, w Who) bool { return a.owns(w) || a.grants(w)&search != 0 }

func (c *confined) refuse(path string) error {
	return fmt.Errorf("%s lies outside %s, and somebody who may write there may not read it: %w", place.Quote(path), place.Quote(c.at),
		problem.Refused)
}

// outside is a folder outside the location that all readers may enter.
type outside struct {
	reach.Tree
	of   *confined
	path string
	list []byte // its access list
}

// leads tells whether an entry is the location, or on the way to it.
func (o *outside) leads(name string) bool { return place.Under(o.of.at, place.Join(o.path, name)) }

// listOf reads an entry's access list.
func (o *outside) listOf(ctx context.Context, name string) []byte {
	attributes, err := o.Tree.Attributes(ctx, name)
	if err != nil {
		return []byte{} // which cannot be read
	}
	return attributes[listName]
}

// readable refuses to list the folder where not all readers may.
func (o *outside) readable(ctx context.Context) error {
	info, err := o.Tree.Info(ctx)
	if err != nil {
		return err
	}
	return o.of.allow(accessOf(info, o.list), reads, o.path)
}

func (o *outside) List(ctx context.Context) ([]reach.Info, error) {
	if err := o.readable(ctx); err != nil {
		return nil, err
	}
	return o.Tree.List(ctx)
}

func (o *outside) Open(ctx context.Context, name string) (reach.File, error) {
	list := o.listOf(ctx, name)
	f, err := o.Tree.Open(ctx, name)
	if err != nil || o.leads(name) {
		return f, err
	}
	info, err := f.Info(ctx)
	if err == nil {
		err = o.of.allow(accessOf(info, list), reads, place.Join(o.path, name))
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (o *outside) Attributes(ctx context.Context, name string) (reach.Attributes, error) {
	info, err := o.Tree.Look(ctx, name)
	if err == nil && !o.leads(name) {
		err = o.of.allow(accessOf(info, o.listOf(ctx, name)), reads, place.Join(o.path, name))
	}
	if err != nil {
		return nil, err
	}
	return o.Tree.Attributes(ctx, name)
}

func (o *outside) Enter(ctx context.Context, name string) (reach.Tree, error) {
	path, list := place.Join(o.path, name), o.listOf(ctx, name)
	t, err := o.Tree.Enter(ctx, name)
	if err != nil || place.Under(path, o.of.at) {
		return t, err
	}
	info, err := t.Info(ctx)
	if err == nil && !o.leads(name) {
		err = o.of.allow(accessOf(info, list), enters, path)
	}
	if err != nil {
		t.Close()
		return nil, err
	}
	return &outside{Tree: t, of: o.of, path: path, list: list}, nil
}
