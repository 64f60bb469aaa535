package catalogue

import (
	"context"
	"fmt"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
)

// Difference is what a survey is compared with: what is known of a source, folder by folder of the store, and what becomes of that. It
// is all there is to what a sighting does to the records, and why; how spans are written is in Capture. It is not safe for concurrent
// use.
type Difference struct {
	counts    Counts
	ctx       context.Context
	catalogue *Catalogue
	source    Source
	at        time.Time
	following Following
	seen      int64
	memo      []byte          // for the next survey
	held      map[string]bool // the points in time that the store holds; nil where it does not hold several

	// Of the capture under way.
	capture *Capture
	cache   map[string]*neighbours // what is known of folders not yet closed
	dir     *string                // the folder whose sightings are coming
	unread  []string
	fresh   int64
	delta   bool // only what changed since the one before is sighted
}

// Counts are what a survey of one source came to.
type Counts struct {
	Found int64 // copies that the store holds now
	Fresh int64 // of them not known before, or changed
	Gone  int64 // known before and no longer there, or changed
}

// Following is what a survey is told while it runs. All three must be quick.
type Following struct {
	Owner    func(path string, uid entry.Maybe[int64]) string // whose a file is; nil: nobody's
	Progress func(seen int64, dir string)                     // nil: nobody looks
	Note     func(text string)                                // takes a sentence about the store as a whole; nil: none
}

// Survey begins to compare what a source's store reports with what is known of it. End or Abandon it.
func (c *Catalogue) Survey(ctx context.Context, src Source, at time.Time, following Following) *Difference {
	if following.Owner == nil {
		following.Owner = func(string, entry.Maybe[int64]) string { return "" }
	}
	if following.Progress == nil {
		following.Progress = func(int64, string) {}
	}
	if following.Note == nil {
		following.Note = func(string) {}
	}
	return &Difference{ctx: ctx, catalogue: c, source: src, at: at, following: following}
}

// Counts returns what the survey came to so far.
func (d *Difference) Counts() Counts { return d.counts }

// End finishes the survey: what was neither sighted nor called unread has ended, and so have points in time that were not begun. notes
// are kept with the source.
func (d *Difference) End(notes []string) (Counts, error) {
	if d.held == nil && d.capture == nil { // there is nothing in it
		if err := d.beginNow(); err != nil {
			return d.counts, err
		}
	}
	if err := d.finish(); err != nil {
		return d.counts, err
	}
	found := d.seen
	if d.held != nil {
		found = d.source.Found + d.counts.Fresh
	}
	var err error
	if d.counts.Found, err = d.catalogue.endSurvey(d.ctx, d.source, d.at, d.held, found, notes, d.memo); err != nil {
		return d.counts, err
	}
	return d.counts, d.catalogue.FeedNames(d.ctx)
}

// neighbours is what is known of a folder of the store, by name: in the capture before and, where one comes late, behind
// and in this one itself, as far as an interrupted reading has come.
type neighbours struct {
	before, behind, own map[string]knownSpan
}

// Abandon lets go of a survey that does not come to its end; after End it does nothing.
func (d *Difference) Abandon() {
	if d.capture != nil {
		d.capture.abandon()
	}
}

func (d *Difference) beginNow() (err error) {
	d.cache = map[string]*neighbours{}
	d.capture, err = d.catalogue.beginCapture(d.ctx, d.source, d.at)
	return err
}

// Begin begins one of several points in time; what is sighted from here on was in it.
func (d *Difference) Begin(point sighting.Capture) (err error) {
	if err := d.finish(); err != nil {
		return err
	}
	if d.held == nil {
		d.held = map[string]bool{}
		if err := d.renew(); err != nil {
			return err
		}
	}
	d.held[point.Name] = true
	if point.Same {
		return nil
	}
	d.cache, d.unread, d.fresh, d.delta = map[string]*neighbours{}, nil, 0, point.Since != ""
	if d.capture, err = d.catalogue.beginDated(d.ctx, d.source, point); err != nil || !d.delta {
		return err
	}
	before, err := d.capture.nameBefore(d.ctx)
	if err == nil && (d.capture.late() || before != point.Since) {
		err = fmt.Errorf("survey %s: %s tells what changed since %s, but the latest that is known is %s", d.source.At,
			place.Quote(point.Name), place.Quote(point.Since), place.Quote(before))
	}
	return err
}

// renew forgets points in time that an earlier version of the program recorded wrongly, now that the store turned out to be
// there to be read anew.
func (d *Difference) renew() error {
	if !d.source.Renew {
		return nil
	}
	d.source.Renew, d.source.Found = false, 0
	d.following.Note(
		"All its points in time were read anew, because an earlier version of the program could take two contents of a file for one. " +
			"Its copies have new numbers; those that receipts and cases name still lead to them.",
	)
	return d.catalogue.Renew(d.ctx, d.source)
}

// Discard takes back the point in time begun last.
func (d *Difference) Discard() error {
	d.counts.Fresh -= d.fresh
	d.dir = nil
	k := d.capture
	d.capture = nil
	return k.discard(d.ctx)
}

// finish ends the capture under way, if there is one.
func (d *Difference) finish() error {
	if d.capture == nil {
		return nil
	}
	if err := d.closeDir(); err != nil {
		return err
	}
	unread := d.unread
	if d.delta {
		unread = []string{""} // what was not sighted is as it was
	}
	ended, err := d.capture.finish(d.ctx, unread)
	d.counts.Gone += ended
	d.capture = nil
	return err
}

// Memo is what the last complete survey asked to be remembered.
func (d *Difference) Memo() []byte { return d.source.Memo }

// Remember keeps something for the next survey, once this one has come to its end.
func (d *Difference) Remember(memo []byte) { d.memo = memo }

// Captures lists the points in time that were read completely, by name.
func (d *Difference) Captures(ctx context.Context) (map[string]time.Time, error) {
	if d.source.Renew {
		return nil, nil // so that all of them are read
	}
	return d.catalogue.Points(ctx, d.source.ID)
}

// Unchanged tells whether a folder of the store holds just what it held when it was last read, by a digest over its entries.
func (d *Difference) Unchanged(ctx context.Context, dir string, print []byte, entries int) (bool, error) {
	if d.capture == nil {
		if err := d.beginNow(); err != nil {
			return false, err
		}
	}
	same, err := d.capture.unchanged(ctx, dir, print)
	if same {
		d.seen += int64(entries)
		d.following.Progress(d.seen, dir)
	}
	return same, err
}

func (d *Difference) known(dir string) (*neighbours, error) {
	if d.capture == nil {
		if err := d.beginNow(); err != nil {
			return nil, err
		}
	}
	if known, ok := d.cache[dir]; ok {
		return known, nil
	}
	n := &neighbours{}
	var err error
	if d.capture.late() {
		n.before, n.behind, n.own, err = d.capture.around(d.ctx, dir)
	} else {
		n.before, err = d.capture.known(d.ctx, dir)
	}
	if err == nil {
		d.cache[dir] = n
	}
	return n, err
}

// Marks returns a look-up of the marks of what a folder of the store held, by name; the zero Mark is not known.
func (d *Difference) Marks(_ context.Context, dir string) (func(name string) entry.Mark, error) {
	n, err := d.known(dir)
	return func(name string) entry.Mark {
		if d.source.Recheck {
			return entry.Mark{} // so that all is told anew
		}
		for _, spans := range []map[string]knownSpan{n.own, n.before, n.behind} {
			if s, ok := spans[name]; ok {
				return s.Mark
			}
		}
		return entry.Mark{}
	}, err
}

// Sight compares a sighting with what is known.
func (d *Difference) Sight(s sighting.Sighting) error {
	known, err := d.enter(s.At.Dir)
	if err != nil {
		return err
	}
	d.seen++
	if d.seen%512 == 0 {
		if err := d.ctx.Err(); err != nil {
			return err
		}
		d.following.Progress(d.seen, s.At.Dir)
	}
	if d.capture.late() {
		return d.insert(known, s)
	}
	before, wasKnown := known.before[s.At.Name]
	delete(known.before, s.At.Name) // what is left when the folder is closed has vanished
	if wasKnown && (s.Same || before.Mark == s.Mark) {
		if d.source.Recheck {
			at := d.placeOf(s)
			return d.capture.amendSpan(d.ctx, before.ID, s, at, d.following.Owner(at, s.UID))
		}
		return nil
	}
	if s.Same {
		return fmt.Errorf("survey %s: the source calls %s unchanged, but it is not known", d.source.At, place.Quote(s.At.Path()))
	}
	if wasKnown {
		d.counts.Gone++
		if err := d.capture.end(d.ctx, before.ID); err != nil {
			return err
		}
	}
	return d.add(s)
}

func (d *Difference) add(s sighting.Sighting) error {
	d.counts.Fresh++
	d.fresh++
	at := d.placeOf(s)
	return d.capture.add(d.ctx, s, at, d.following.Owner(at, s.UID))
}

// placeOf is where something came from or, where that is not known, where it lies.
func (d *Difference) placeOf(s sighting.Sighting) string {
	if s.Origin != "" {
		return s.Origin
	}
	return place.Join(d.source.At, s.At.Path())
}

// insert records a sighting of a point in time that comes late, between two that are known.
func (d *Difference) insert(known *neighbours, s sighting.Sighting) error {
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
		return d.capture.extend(d.ctx, before)
	case isBehind && behind.Mark == s.Mark:
		return d.capture.extend(d.ctx, behind)
	case through:
		if err := d.capture.splitSpan(d.ctx, before.ID); err != nil {
			return err
		}
	}
	return d.add(s)
}

// closeDir ends what is known of the folder and was not sighted.
func (d *Difference) closeDir() error {
	if d.dir == nil {
		return nil
	}
	known := d.cache[*d.dir]
	if d.delta { // what was not sighted is as it was
		d.capture.unprinted(*d.dir)
		known = &neighbours{}
	}
	for name, span := range known.before {
		var err error
		if !d.capture.late() {
			d.counts.Gone++
			err = d.capture.end(d.ctx, span.ID)
		} else if behind, ok := known.behind[name]; ok && behind.ID == span.ID {
			err = d.capture.splitSpan(d.ctx, span.ID)
		}
		if err != nil {
			return err
		}
	}
	delete(d.cache, *d.dir)
	err := d.capture.visit(d.ctx, *d.dir)
	d.dir = nil
	return err
}

// Unread says that a folder of the store could not be read, so that what is known below it stays as it is.
func (d *Difference) Unread(dir string) error {
	if _, err := d.known(dir); err != nil { // a capture has begun, though it may hold nothing that can be read
		return err
	}
	d.unread = append(d.unread, dir)
	return nil
}

// Gone says of a point in time that tells only what changed that something is no longer in it.
func (d *Difference) Gone(at sighting.Locator) error {
	known, err := d.enter(at.Dir)
	if err != nil {
		return err
	}
	if !d.delta {
		return fmt.Errorf("survey %s: %s is called gone, but all that is there is sighted", d.source.At, place.Quote(at.Path()))
	}
	span, ok := known.before[at.Name]
	if !ok {
		return nil
	}
	delete(known.before, at.Name)
	d.counts.Gone++
	return d.capture.end(d.ctx, span.ID)
}

// enter returns what is known of the folder that a sighting is in, the one before being closed.
func (d *Difference) enter(dir string) (*neighbours, error) {
	if d.dir == nil || *d.dir != dir {
		if err := d.closeDir(); err != nil {
			return nil, err
		}
		d.dir = &dir
	}
	return d.known(dir)
}
