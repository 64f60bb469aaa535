package catalogue

import (
	"context"
	"encoding/hex"
	"fmt"
	"slices"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
)

// Copy is one readable copy, or the record of one.
type Copy struct {
	ID          int64
	Place       place.Place // where it came from; where that is not known, where it lies
	OriginKnown bool
	Claimed     string // the path that a record says it came from, which is not trusted; "" where there is none
	Type        entry.Type
	Class       fileclass.Class
	Source      Source
	At          sighting.Locator
	Person      string
	Written     time.Time
	Captured    time.Time // of the capture that first showed it
	LastSeen    time.Time // of the capture that last did
	Gone        time.Time
	Ended       bool   // the latest capture of its source does not show it any more
	State       string // of its place today: present, gone or changed
	Readable    bool
	Within      bool   // it lies in a folder that is a copy itself
	Size        int64  // negative where nothing tells
	Target      string // of a link
	Number      int64  // tells hard links from equal files; 0 where it does not
	Content     entry.ContentID
	SHA256      string // hex; "" while unknown
	Condition   condition.Verdict
	Notes       []string
	ItemOf      int64  // the copy of the folder that it lies in; 0 where it lies in none
	Lies        string // where it lies, for people; "" where that is the path of LiesAt

	Beside  bool   // of no point in time of its store: on another line, or nobody knows when
	Author  string // who made it, where its store tells
	Message string // what they said of it

	ref sighting.Ref // "" where that of At is enough
}

// Ref is how the copy's store finds it.
func (c Copy) Ref() sighting.Ref {
	if c.ref != "" {
		return c.ref
	}
	return c.At.Ref()
}

// Expires returns when the store's policy removes the copy; zero where it never does.
func (c Copy) Expires() time.Time { return c.Source.Expires(c.Gone) }

// LiesAt returns the place of the copy's own bytes.
func (c Copy) LiesAt() place.Place {
	return place.Place{Machine: c.Source.AtMachine, Path: place.Join(c.Source.At, c.At.Path())}
}

// The states of a place.
const (
	present = "present"
	changed = "changed"
	gone    = "gone"
)

// Copy returns a copy by its number.
func (c *Catalogue) Copy(ctx context.Context, id int64) (Copy, error) {
	all, err := c.Copies(ctx, []int64{id})
	if err != nil {
		return Copy{}, err
	}
	return all[0], nil
}

// Copies returns copies by their numbers, in their order. ErrNotFound names the first that is not there.
func (c *Catalogue) Copies(ctx context.Context, ids []int64) ([]Copy, error) {
	return c.copiesWith(ctx, ids, true)
}

// CopiesOfPlace is Copies for those of one place, whose state the caller works out for all of them together.
func (c *Catalogue) CopiesOfPlace(ctx context.Context, ids []int64) ([]Copy, error) {
	return c.copiesWith(ctx, ids, false)
}

func (c *Catalogue) copiesWith(ctx context.Context, ids []int64, state bool) ([]Copy, error) {
	r, err := c.reading(ctx)
	if err != nil {
		return nil, err
	}
	found, err := r.find(ctx, ids)
	if err != nil {
		return nil, err
	}
	all := make([]located, len(ids))
	for i, id := range ids {
		l, ok := found[id]
		if !ok {
			if l, err = r.successor(ctx, id); err != nil {
				return nil, err
			}
		}
		all[i] = l
	}
	return r.copies(ctx, all, state)
}

// copies tells everything about spans.
func (r *reading) copies(ctx context.Context, all []located, state bool) ([]Copy, error) {
	ids := make([]int64, len(all))
	for i := range all {
		ids[i] = all[i].ID
	}
	known, err := r.c.contentsOf(ctx, ids, true)
	if err != nil {
		return nil, err
	}
	copies := make([]Copy, 0, len(all))
	for i := range all {
		f, err := r.copy(ctx, &all[i], known[all[i].ID])
		if err == nil && state {
			f.State, err = r.state(ctx, &all[i], known[all[i].ID].sha256)
		}
		if err != nil {
			return nil, err
		}
		copies = append(copies, f)
	}
	return copies, nil
}

func (r *reading) copy(ctx context.Context, l *located, known contentRow) (Copy, error) {
	store := r.stores[l.folder.source]
	if store == nil { // it was removed meanwhile
		return Copy{}, fmt.Errorf("source s%d: %w", l.folder.source, ErrNotFound)
	}
	at := l.placePath()
	f := Copy{ID: l.ID, Place: place.Place{Machine: store.Source.Machine, Path: at}, OriginKnown: l.OriginKnown, Claimed: l.Claimed,
		Type: l.Type, Class: classOf(l), Source: store.Source, At: sighting.Locator{Dir: l.folder.path, Name: l.Name}, Person: l.Person,
		Written: moment(instantNanos(l.Written)), Captured: atNanos(l.First), LastSeen: atNanos(r.lastSeen(l)),
		Gone: moment(instantNanos(l.Gone)), Ended: !l.Stands(), Readable: r.readable(l), Within: l.Within, Size: l.Size, Target: l.Target,
		Number: int64(l.Number), Content: l.Mark.Content, SHA256: hex.EncodeToString(known.sha256), Notes: l.Notes, Lies: l.Lies,
		Beside: l.Beside, Author: l.Author, Message: l.Message, ref: sighting.Ref(l.Ref)}
	if l.Mark.Written.Known { // also what cannot be counted
		f.Written = l.Mark.Written.Time()
	}
	f.At.Capture = r.captureName(l)
	f.Condition.State = condition.Unread
	if known.findings != "" && l.Type == entry.File {
		found, err := fromJSON[condition.Findings](known.findings)
		if err != nil {
			return Copy{}, err
		}
		f.Condition = found.For(place.Name(at))
	}
	var err error
	f.ItemOf, err = r.itemOf(ctx, l)
	return f, err
}

func classOf(l *located) fileclass.Class {
	if l.Type == entry.Folder {
		return fileclass.Folders
	}
	return fileclass.Of(place.Name(l.placePath()))
}

// captureName is the latest of the points in time that still hold a span; "" where the store holds but one.
func (r *reading) captureName(l *located) string {
	s := r.stores[l.folder.source]
	if s == nil || !s.Source.Traits.Dated() {
		return ""
	}
	if i, ok := s.held(l.First, l.Last); ok {
		return s.names[i]
	}
	return ""
}

// itemOf finds the open copy of the folder that a copy lies in: it is the copy's own folder in the store.
func (r *reading) itemOf(ctx context.Context, l *located) (int64, error) {
	dir := l.folder.path
	if dir == "" || !l.Within {
		return 0, nil
	}
	f, err := folderAt(ctx, r.q, l.folder.source, place.Folder("/" + dir)[1:])
	if err != nil || f == nil {
		return 0, err
	}
	all, err := r.under(ctx, f, place.Name("/"+dir))
	for _, x := range all {
		if x.Stands() {
			return x.ID, err
		}
	}
	return 0, err
}

// alike is how far write times of one content may be apart: some file systems keep every other second.
const alike = 2_000_000_000

// state tells how the place of a span is today, as far as is known: by the machine's own files where those are surveyed there, else by
// the store's latest capture.
func (r *reading) state(ctx context.Context, l *located, sum []byte) (string, error) {
	store := r.stores[l.folder.source]
	p := place.Place{Machine: store.Source.Machine, Path: l.placePath()}
	live := store.Source.Traits.Live()
	if live && l.Stands() {
		return present, nil
	}
	var own, there *located
	err := r.at(ctx, p, func(source int64) bool {
		x := r.stores[source]
		return source == l.folder.source && !l.Stands() || source != l.folder.source && !live && x != nil && x.Source.Traits.Live()
	}, func(x *located) {
		switch {
		case !x.Stands():
		case x.folder.source == l.folder.source:
			own = x
		default:
			there = x
		}
	})
	switch {
	case err != nil:
		return "", err
	case live && own != nil:
		return changed, nil
	case live:
		return gone, nil
	case there != nil && l.OriginKnown:
		return r.compared(ctx, l, sum, there)
	case l.Gone.Known || !l.OriginKnown || r.lookedAfter(p):
		return gone, nil
	case l.Stands():
		return present, nil
	case own != nil:
		return changed, nil
	}
	return gone, nil
}

// compared tells whether what stands at a place is what a span is of.
func (r *reading) compared(ctx context.Context, l *located, sum []byte, there *located) (string, error) {
	if there.Type != l.Type {
		return changed, nil
	}
	if l.Type != entry.File && l.Type != entry.Link {
		return present, nil
	}
	known, err := r.c.contentsOf(ctx, []int64{there.ID}, false)
	if err != nil {
		return "", err
	}
	theirs := known[there.ID].sha256
	if sum != nil && theirs != nil {
		if slices.Equal(sum, theirs) {
			return present, nil
		}
		return changed, nil
	}
	a, b := instantNanos(l.Written), instantNanos(there.Written)
	if apart := a.Int64 - b.Int64; a.Valid && b.Valid && l.Size == there.Size && -alike <= apart && apart <= alike {
		return present, nil
	}
	return changed, nil
}

// lookedAfter tells whether the machine's own files are surveyed at a place.
func (r *reading) lookedAfter(p place.Place) bool {
	for _, s := range r.stores {
		if s.Source.Machine == p.Machine && s.Source.Traits.Live() && len(s.Captures) > 0 &&
			place.Under(place.Folder(p.Path), s.Source.At) {
			return true
		}
	}
	return false
}

// Lying is where the bytes of a copy are, and what they are like.
type Lying struct {
	ID      int64
	Source  int64
	At      sighting.Locator
	Size    int64
	Written time.Time
	Number  int64     // tells hard links from equal files; 0 where it does not
	First   time.Time // the capture that first showed it
	Last    time.Time // the one that last did; zero while the latest still does
	Mark    entry.Mark

	ref sighting.Ref
}

// Ref is how the copy's store finds it.
func (l Lying) Ref() sighting.Ref {
	if l.ref != "" {
		return l.ref
	}
	return l.At.Ref()
}

// Lying returns where copies lie, by their numbers, for work on very many that needs no more.
func (c *Catalogue) Lying(ctx context.Context, ids []int64) (map[int64]Lying, error) {
	r, err := c.reading(ctx)
	if err != nil {
		return nil, err
	}
	found, err := r.find(ctx, ids)
	if err != nil {
		return nil, err
	}
	all := make(map[int64]Lying, len(found))
	for id, l := range found {
		x := Lying{ID: id, Source: l.folder.source, At: sighting.Locator{Capture: r.captureName(&l), Dir: l.folder.path, Name: l.Name},
			Size: l.Size, Written: moment(instantNanos(l.Written)), Number: int64(l.Number), First: atNanos(l.First), Mark: l.Mark,
			ref: sighting.Ref(l.Ref)}
		if !l.Stands() {
			x.Last = atNanos(l.Last)
		}
		all[id] = x
	}
	return all, nil
}

// SetDigest keeps the digest of a copy's content.
func (c *Catalogue) SetDigest(ctx context.Context, id int64, sha256 []byte) error {
	return c.SetDigests(ctx, map[int64][]byte{id: sha256})
}
