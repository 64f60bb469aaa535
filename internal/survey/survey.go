// Package survey brings the catalogue up to date with what stores hold now.
//
// It hands what a store reports to the catalogue, which compares one folder of a store at a time with what is known of it, writes only
// what began and what ended, and can be killed anywhere: another survey ends with the same records as an undisturbed one.
package survey

import (
	"context"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/say"
	"humble-rewind/internal/site"
	"humble-rewind/internal/source"
)

// Result is what a survey of one source came to.
type Result struct {
	catalogue.Counts
	Notes []string
	Again bool // the survey goes on in another slice, once others had their turn
}

// Following is what a survey is told and asked while it runs. All must be quick.
type Following struct {
	Seen     func(seen int64, dir string)          // copies so far, and the folder being read
	Progress func(done, total int64, doing string) // of a store that knows how much there is
	Due      func() bool                           // whether others should have their turn
}

// Run surveys one source, or a slice of it: then another call goes on. An error leaves what is known of the source as it was, apart from what had
// been written until then.
func Run(ctx context.Context, s *site.Site, src catalogue.Source, at time.Time, following Following) (Result, error) {
	if following.Seen == nil {
		following.Seen = func(int64, string) {}
	}
	if following.Progress == nil {
		following.Progress = func(int64, int64, string) {}
	}
	if following.Due == nil {
		following.Due = func() bool { return false }
	}
	if !entry.Countable(at) {
		return Result{}, fmt.Errorf("the service's clock says that it is the year %d; put it right first", at.Year())
	}
	machine, err := s.Catalogue.Machines.Named(ctx, src.Machine)
	if err != nil {
		return Result{}, err
	}
	store, err := s.OpenStore(ctx, src.Source)
	if err != nil {
		return Result{}, err
	}
	defer store.Close()
	if src.Traits, err = ownTraits(ctx, s, src, store); err != nil {
		return Result{}, err
	}
	judge, err := s.Judge(ctx, src.Source)
	if err != nil {
		return Result{}, err
	}
	defer judge.Close()
	r := &reporter{source: src, following: following, judge: func(seen sighting.Sighting) sighting.Sighting { return judge.Of(ctx, store, seen) }}
	r.Difference = s.Catalogue.Surveys.Begin(ctx, src, at, catalogue.Following{Owner: ownerOf(machine), Progress: following.Seen, Note: r.Note})
	defer r.Abandon()
	_, r.notes = r.Sliced()
	if src.Traits.Live() {
		if _, latest, err := r.Latest(ctx); err != nil {
			return Result{}, err
		} else if latest.After(at.Add(ahead)) {
			r.Note(fmt.Sprintf("The survey before it was as of %s, which is still to come: the service's clock was wrong then, or is now. What is seen "+
				"until then is put right behind it. To have it told by the right times, remove the source and add it again once the clock is right.",
				latest.UTC().Format("2006-01-02 15:04 MST")))
		}
	}
	if err := store.Survey(ctx, r, r); err != nil {
		return Result{Counts: r.Counts(), Notes: r.notes}, err
	}
	if again, _ := r.Sliced(); again {
		return Result{Counts: r.Counts(), Notes: r.notes, Again: true}, nil
	}
	counts, err := r.End(r.notes)
	return Result{Counts: counts, Notes: r.notes}, err
}

// ownTraits keeps what a store that was opened says of itself.
func ownTraits(ctx context.Context, s *site.Site, src catalogue.Source, store source.Store) (traits.Traits, error) {
	kind, err := s.Kinds.Named(src.Kind)
	if err != nil {
		return src.Traits, err
	}
	t, told := source.TraitsOf(ctx, kind, store)
	if told && t.Unproved && !src.Traits.Unproved {
		if err := s.Catalogue.Contents.Disbelieve(ctx, src.ID); err != nil { // before it is kept: else a kill between would leave it
			return t, err
		}
	}
	if told && t != src.Traits {
		err = s.Catalogue.Sources.SetOwnTraits(ctx, src.ID, t)
	}
	return t, err
}

// ahead is how far ahead of now a survey may have been without a word.
const ahead = time.Hour

// reporter is what a survey reports to: the catalogue's comparison, with what is to be said about it.
type reporter struct {
	*catalogue.Difference
	source    catalogue.Source
	following Following
	judge     func(sighting.Sighting) sighting.Sighting
	notes     []string
	furthest  int64 // that was told of progress
}

// Progress says how far the store is. It never goes backwards, whatever the store says.
func (r *reporter) Progress(done, total int64, doing string) {
	r.furthest = max(r.furthest, done)
	if total > 0 {
		r.furthest = min(r.furthest, total)
	}
	r.following.Progress(r.furthest, max(0, total), doing)
}

func (r *reporter) Due() bool { return r.following.Due() }

// Again ends a slice.
func (r *reporter) Again(cursor []byte) error { return r.Difference.Again(cursor, r.notes) }

// Sight adds what is to be said about a sighting whatever its kind of store is.
func (r *reporter) Sight(s sighting.Sighting) error {
	if s.Same {
		return r.Difference.Sight(s)
	}
	if !s.Written.IsZero() && !entry.Countable(s.Written) {
		s.Notes = append(s.Notes, fmt.Sprintf("Its write time is %s, as of a clock that was wrong; it is kept, but not counted with.",
			s.Written.Format("2006-01-02 15:04:05")))
	}
	if r.source.Traits.Ownerless {
		s.UID, s.Mark.UID, s.Mark.GID, s.Mark.Mode = entry.Maybe[int64]{}, entry.Maybe[int64]{}, entry.Maybe[int64]{}, entry.Maybe[fs.FileMode]{}
	}
	if s.Nameless {
		s.Notes = append(s.Notes, "What it was called is lost; it is shown by what its store calls it.")
	}
	return r.Difference.Sight(r.judge(s))
}

func (r *reporter) Unread(dir string, why error) error {
	if err := r.Difference.Unread(dir); err != nil {
		return err
	}
	r.Note(fmt.Sprintf("%s could not be read: %s. What is known of it stays as it was.", place.Readable(place.Join(r.source.At, dir)),
		say.Error(why)))
	return nil
}

func (r *reporter) Discard(why string) error {
	r.Note(why)
	return r.Difference.Discard()
}

// maxNotes keeps a store that is wrong all over from flooding the records.
const maxNotes = 50

func (r *reporter) Note(text string) {
	switch {
	case slices.Contains(r.notes, text): // in an earlier slice
	case len(r.notes) < maxNotes:
		r.notes = append(r.notes, text)
	case len(r.notes) == maxNotes:
		r.notes = append(r.notes, "There are more such notes.")
	}
}

// ownerOf tells whose a file is: the person whose home it is in, the innermost where homes lie in each other, else
// whose user number it has.
func ownerOf(machine catalogue.Machine) func(path string, uid entry.Maybe[int64]) string {
	return func(path string, uid entry.Maybe[int64]) string {
		name, depth := "", -1
		for _, p := range machine.People {
			if place.Under(path, p.Home) && len(p.Home) > depth {
				name, depth = p.Name, len(p.Home)
			}
		}
		if name != "" {
			return name
		}
		for _, p := range machine.People {
			if uid.Is(p.UID) {
				return p.Name
			}
		}
		return ""
	}
}
