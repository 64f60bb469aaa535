// Package survey brings the catalogue up to date with what stores hold now.
//
// It compares one folder of a store at a time with what is known of it, writes only what began and what ended, and can
// be killed anywhere: another survey ends with the same records as an undisturbed one.
package survey

import (
	"context"
	"fmt"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/site"
	"humble-rewind/internal/source"
)

// Result is what a survey of one source came to.
type Result struct {
	Found int64 // copies that the store holds now
	Fresh int64 // of them not known before, or changed
	Gone  int64 // known before and no longer there, or changed
	Notes []string
}

// Run surveys one source. progress is called with the number of copies seen so far and the folder being read; it must
// be quick. An error leaves what is known of the source as it was, apart from what had been written until then.
func Run(ctx context.Context, s *site.Site, src catalogue.Source, at time.Time, progress func(seen int64, dir string)) (Result, error) {
	machine, err := s.Catalogue.Machine(ctx, src.Machine)
	if err != nil {
		return Result{}, err
	}
	store, err := s.Source(ctx, src)
	if err != nil {
		return Result{}, err
	}
	capture, err := s.Catalogue.BeginCapture(ctx, src, at)
	if err != nil {
		return Result{}, err
	}
	defer capture.Abandon()
	c := &comparison{ctx: ctx, capture: capture, source: src, owner: ownerOf(machine), progress: progress, cache: map[string]map[string]catalogue.KnownSpan{}}
	if err := store.Survey(ctx, c, c); err != nil {
		return c.Result, err
	}
	if err := c.closeDir(); err != nil {
		return c.Result, err
	}
	ended, err := capture.Finish(ctx, c.Found, c.unread, c.Notes)
	c.Gone += ended
	if err != nil {
		return c.Result, err
	}
	return c.Result, s.Catalogue.FeedNames(ctx)
}

// comparison is the known and the reporter of one survey.
type comparison struct {
	Result
	ctx      context.Context
	capture  *catalogue.Capture
	source   catalogue.Source
	owner    func(path string, uid int64) string
	progress func(int64, string)
	cache    map[string]map[string]catalogue.KnownSpan // known spans of folders not yet closed
	dir      *string                                   // the folder whose sightings are coming
	unread   []string
}

func (c *comparison) known(dir string) (map[string]catalogue.KnownSpan, error) {
	if known, ok := c.cache[dir]; ok {
		return known, nil
	}
	known, err := c.capture.Known(c.ctx, dir)
	if err == nil {
		c.cache[dir] = known
	}
	return known, err
}

func (c *comparison) Marks(_ context.Context, dir string) (func(name string) string, error) {
	known, err := c.known(dir)
	return func(name string) string { return known[name].Mark }, err
}

func (c *comparison) Sight(s source.Sighting) error {
	if c.dir == nil || *c.dir != s.At.Dir {
		if err := c.closeDir(); err != nil {
			return err
		}
		c.dir = &s.At.Dir
	}
	known, err := c.known(s.At.Dir)
	if err != nil {
		return err
	}
	before, wasKnown := known[s.At.Name]
	delete(known, s.At.Name) // what is left when the folder is closed has vanished
	c.Found++
	if c.Found%512 == 0 {
		if err := c.ctx.Err(); err != nil {
			return err
		}
		c.progress(c.Found, s.At.Dir)
	}
	if wasKnown && (s.Same || before.Mark == s.Mark) {
		return nil
	}
	if s.Same {
		return fmt.Errorf("survey %s: the source calls %s unchanged, but it is not known", c.source.At, place.Quote(s.At.Path()))
	}
	if wasKnown {
		c.Gone++
		if err := c.capture.End(c.ctx, before.ID); err != nil {
			return err
		}
	}
	c.Fresh++
	at := s.Origin
	if at == "" {
		at = place.Join(c.source.At, s.At.Path())
	}
	return c.capture.Add(c.ctx, s, at, c.owner(at, s.UID))
}

// closeDir ends what is known of the folder and was not sighted.
func (c *comparison) closeDir() error {
	if c.dir == nil {
		return nil
	}
	for _, span := range c.cache[*c.dir] {
		c.Gone++
		if err := c.capture.End(c.ctx, span.ID); err != nil {
			return err
		}
	}
	delete(c.cache, *c.dir)
	err := c.capture.Visit(c.ctx, *c.dir)
	c.dir = nil
	return err
}

func (c *comparison) Unread(dir string, why error) error {
	c.unread = append(c.unread, dir)
	c.Note(fmt.Sprintf("%s could not be read: %v. What is known of it stays as it was.", place.Readable(place.Join(c.source.At, dir)), why))
	return nil
}

// maxNotes keeps a store that is wrong all over from flooding the records.
const maxNotes = 50

func (c *comparison) Note(text string) {
	switch {
	case len(c.Notes) < maxNotes:
		c.Notes = append(c.Notes, text)
	case len(c.Notes) == maxNotes:
		c.Notes = append(c.Notes, "There are more such notes.")
	}
}

// ownerOf tells whose a file is: the person whose home it is in, the innermost where homes lie in each other, else
// whose user number it has.
func ownerOf(machine catalogue.Machine) func(path string, uid int64) string {
	return func(path string, uid int64) string {
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
			if p.UID == uid {
				return p.Name
			}
		}
		return ""
	}
}
