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
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
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
	c := &comparison{ctx: ctx, catalogue: s.Catalogue, source: src, at: at, owner: ownerOf(machine), progress: progress}
	defer c.abandon()
	if err := store.Survey(ctx, c, c); err != nil {
		return c.Result, err
	}
	if c.held == nil && c.capture == nil { // there is nothing in it
		if err := c.beginNow(); err != nil {
			return c.Result, err
		}
	}
	if err := c.finish(); err != nil {
		return c.Result, err
	}
	found := c.seen
	if c.held != nil {
		found = c.source.Found + c.Fresh
	}
	if c.Found, err = s.Catalogue.EndSurvey(ctx, src, at, c.held, found, c.Notes); err != nil {
		return c.Result, err
	}
	return c.Result, s.Catalogue.FeedNames(ctx)
}

// comparison is the known and the reporter of one survey.
type comparison struct {
	Result
	ctx       context.Context
	catalogue *catalogue.Catalogue
	source    catalogue.Source
	at        time.Time
	owner     func(path string, uid int64) string
	progress  func(int64, string)
	seen      int64
	held      map[string]bool // the points in time that the store holds; nil where it does not hold several

	// Of the capture under way.
	capture *catalogue.Capture
	cache   map[string]*neighbours // what is known of folders not yet closed
	dir     *string                // the folder whose sightings are coming
	unread  []string
	fresh   int64
}

// neighbours is what is known of a folder of the store, by name: in the capture before and, where one comes late, behind
// and in this one itself, as far as an interrupted reading has come.
type neighbours struct {
	before, behind, own map[string]catalogue.KnownSpan
}

func (c *comparison) abandon() {
	if c.capture != nil {
		c.capture.Abandon()
	}
}

func (c *comparison) beginNow() (err error) {
	c.cache = map[string]*neighbours{}
	c.capture, err = c.catalogue.BeginCapture(c.ctx, c.source, c.at)
	return err
}

func (c *comparison) Begin(point source.Capture) (err error) {
	if err := c.finish(); err != nil {
		return err
	}
	if c.held == nil {
		c.held = map[string]bool{}
		if err := c.renew(); err != nil {
			return err
		}
	}
	c.held[point.Name] = true
	if point.Same {
		return nil
	}
	c.cache, c.unread, c.fresh = map[string]*neighbours{}, nil, 0
	c.capture, err = c.catalogue.BeginDated(c.ctx, c.source, point)
	return err
}

// renew forgets points in time that an earlier version of the program recorded wrongly, now that the store turned out to be
// there to be read anew.
func (c *comparison) renew() error {
	if !c.source.Renew {
		return nil
	}
	c.source.Renew, c.source.Found = false, 0
	c.Note("All its points in time were read anew, because an earlier version of the program could take two contents of a file for one. " +
		"Its copies have new numbers; those that receipts and cases name still lead to them.")
	return c.catalogue.Renew(c.ctx, c.source)
}

func (c *comparison) Discard(why string) error {
	c.Note(why)
	c.Fresh -= c.fresh
	c.dir = nil
	k := c.capture
	c.capture = nil
	return k.Discard(c.ctx)
}

// finish ends the capture under way, if there is one.
func (c *comparison) finish() error {
	if c.capture == nil {
		return nil
	}
	if err := c.closeDir(); err != nil {
		return err
	}
	ended, err := c.capture.Finish(c.ctx, c.unread)
	c.Gone += ended
	c.capture = nil
	return err
}

func (c *comparison) Captures(ctx context.Context) (map[string]time.Time, error) {
	if c.source.Renew {
		return nil, nil // so that all of them are read
	}
	return c.catalogue.Points(ctx, c.source.ID)
}

func (c *comparison) Unchanged(ctx context.Context, dir string, print []byte, entries int) (bool, error) {
	if c.capture == nil {
		if err := c.beginNow(); err != nil {
			return false, err
		}
	}
	same, err := c.capture.Unchanged(ctx, dir, print)
	if same {
		c.seen += int64(entries)
		c.progress(c.seen, dir)
	}
	return same, err
}

func (c *comparison) known(dir string) (*neighbours, error) {
	if c.capture == nil {
		if err := c.beginNow(); err != nil {
			return nil, err
		}
	}
	if known, ok := c.cache[dir]; ok {
		return known, nil
	}
	n := &neighbours{}
	var err error
	if c.capture.Late() {
		n.before, n.behind, n.own, err = c.capture.Around(c.ctx, dir)
	} else {
		n.before, err = c.capture.Known(c.ctx, dir)
	}
	if err == nil {
		c.cache[dir] = n
	}
	return n, err
}

func (c *comparison) Marks(_ context.Context, dir string) (func(name string) entry.Mark, error) {
	n, err := c.known(dir)
	return func(name string) entry.Mark {
		if c.source.Recheck {
			return entry.Mark{} // so that all is told anew
		}
		for _, spans := range []map[string]catalogue.KnownSpan{n.own, n.before, n.behind} {
			if s, ok := spans[name]; ok {
				return s.Mark
			}
		}
		return entry.Mark{}
	}, err
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
	c.seen++
	if c.seen%512 == 0 {
		if err := c.ctx.Err(); err != nil {
			return err
		}
		c.progress(c.seen, s.At.Dir)
	}
	if c.capture.Late() {
		return c.insert(known, s)
	}
	before, wasKnown := known.before[s.At.Name]
	delete(known.before, s.At.Name) // what is left when the folder is closed has vanished
	if wasKnown && (s.Same || before.Mark == s.Mark) {
		if c.source.Recheck {
			at := c.placeOf(s)
			return c.capture.Amend(c.ctx, before.ID, s, at, c.owner(at, s.UID))
		}
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
	return c.add(s)
}

func (c *comparison) add(s source.Sighting) error {
	c.Fresh++
	c.fresh++
	if !s.Written.IsZero() && !entry.Countable(s.Written) {
		s.Notes = append(s.Notes, fmt.Sprintf("Its write time is %s, as of a clock that was wrong; it is kept, but not counted with.",
			s.Written.Format("2006-01-02 15:04:05")))
	}
	at := c.placeOf(s)
	return c.capture.Add(c.ctx, s, at, c.owner(at, s.UID))
}

// placeOf is where something came from or, where that is not known, where it lies.
func (c *comparison) placeOf(s source.Sighting) string {
	if s.Origin != "" {
		return s.Origin
	}
	return place.Join(c.source.At, s.At.Path())
}

// insert records a sighting of a point in time that comes late, between two that are known.
func (c *comparison) insert(known *neighbours, s source.Sighting) error {
	name := s.At.Name
	own, sighted := known.own[name]
	before, wasBefore := known.before[name]
	behind, isBehind := known.behind[name]
	delete(known.before, name)
	through := wasBefore && isBehind && before.ID == behind.ID
	switch {
	case sighted && own.Mark == s.Mark: // by an interrupted reading
		return nil
	case wasBefore && before.Mark == s.Mark:
		if through {
			return nil
		}
		return c.capture.Extend(c.ctx, before)
	case isBehind && behind.Mark == s.Mark:
		return c.capture.Extend(c.ctx, behind)
	case through:
		if err := c.capture.Split(c.ctx, before.ID); err != nil {
			return err
		}
	}
	return c.add(s)
}

// closeDir ends what is known of the folder and was not sighted.
func (c *comparison) closeDir() error {
	if c.dir == nil {
		return nil
	}
	known := c.cache[*c.dir]
	for name, span := range known.before {
		var err error
		if !c.capture.Late() {
			c.Gone++
			err = c.capture.End(c.ctx, span.ID)
		} else if behind, ok := known.behind[name]; ok && behind.ID == span.ID {
			err = c.capture.Split(c.ctx, span.ID)
		}
		if err != nil {
			return err
		}
	}
	delete(c.cache, *c.dir)
	err := c.capture.Visit(c.ctx, *c.dir)
	c.dir = nil
	return err
}

func (c *comparison) Unread(dir string, why error) error {
	if _, err := c.known(dir); err != nil { // a capture has begun, though it may hold nothing that can be read
		return err
	}
	c.unread = append(c.unread, dir)
	c.Note(fmt.Sprintf("%s could not be read: %s. What is known of it stays as it was.", place.Readable(place.Join(c.source.At, dir)),
		reach.Worded(why)))
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
