package spans

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/catalogue/rows"
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
	room      *room
	source    rows.Source
	at        time.Time
	following Following
	seen      int64
	memo      []byte          // for the next survey
	further   bool            // all points in time that were known stay
	partly    bool            // of what it holds now only what changed was sighted
	line      bool            // all its points in time were told at once
	held      map[string]bool // the points in time that the store holds; nil where it does not hold several

	// Of the capture under way.
	capture *Capture
	folders *knownFolders // of the source; nil until they are needed
	unread  []string
	fresh   int64
	delta   bool // only what changed since the one before is sighted

	recount bool  // an earlier survey wrote what nobody has counted
	failed  error // of a look-up that could not say so itself

	// Of slices, see slices.go.
	slice  slice
	cursor []byte
	sliced bool
	begun  int64 // sightings, and points in time, of this slice
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

// Begin begins to compare what a source's store reports with what is known of it. End or Abandon it.
func (c Surveys) Begin(ctx context.Context, src rows.Source, at time.Time, following Following) *Difference {
	if following.Owner == nil {
		following.Owner = func(string, entry.Maybe[int64]) string { return "" }
	}
	if following.Progress == nil {
		following.Progress = func(int64, string) {}
	}
	if following.Note == nil {
		following.Note = func(string) {}
	}
	d := &Difference{ctx: ctx, room: c.room, source: src, at: at, following: following}
	d.failed = d.resume()
	if is, err := c.interrupted(ctx, src.ID); err != nil {
		d.failed = errors.Join(d.failed, err)
	} else if is {
		d.recount = true
	}
	return d
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
	if err := errors.Join(d.failed, d.finish()); err != nil {
		return d.counts, err
	}
	found := d.seen
	switch {
	case d.held != nil && !d.line:
		found = d.source.Found + d.counts.Fresh - d.slice.Fresh
	case d.partly:
		found = d.source.Found + d.counts.Fresh - d.counts.Gone
	}
	if d.recount && (d.held != nil || d.partly) && !d.line {
		found = -1
	}
	var err error
	held := d.held
	if d.line || d.further { // nothing that was known before is left to be thinned out, or all of it stays
		held = nil
	}
	if d.counts.Found, err = d.room.endSurvey(d.ctx, d.source, d.at, held, found, notes, d.memo); err != nil {
		return d.counts, err
	}
	return d.counts, nil
}

// Abandon lets go of a survey that does not come to its end; after End it does nothing.
func (d *Difference) Abandon() {
	if d.capture != nil {
		d.capture.abandon()
	}
}

// beginNow begins what is there now. Where the clock was set back since the last survey, this one comes right after that: what is seen
// later must not count as earlier.
func (d *Difference) beginNow() error {
	var nanos sql.NullInt64
	const latest = "SELECT max(at) FROM captures WHERE source_id = ? AND complete"
	if err := d.room.f.Reads.QueryRowContext(d.ctx, latest, d.source.ID).Scan(&nanos); err != nil {
		return err
	}
	at := d.at
	if last := file.Moment(nanos); at.Before(last) {
		at = last.Add(1)
		d.following.Note(fmt.Sprintf("The service's clock was set back since the last survey: what was seen now is recorded as of %s.",
			at.UTC().Format(time.RFC3339)))
	}
	return d.begin(sighting.Capture{At: at}, false)
}

func (d *Difference) begin(point sighting.Capture, dated bool) (err error) {
	if d.folders == nil {
		if err := d.room.forgetPending(d.ctx, d.source.ID); err != nil {
			return err
		}
		if d.folders, err = d.room.knownFoldersOf(d.ctx, d.source.ID); err != nil {
			return err
		}
	}
	d.capture, err = d.room.capture(d.ctx, d.source, point, dated, d.folders)
	if err != nil {
		return err
	}
	d.capture.owner = d.following.Owner
	if d.slice.N > 0 && !dated {
		err = d.capture.readBefore(d.ctx)
	}
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
	d.begun++
	d.unread, d.fresh, d.delta = nil, 0, point.Since != ""
	if err := d.begin(point, true); err != nil || !d.delta {
		return err
	}
	d.capture.delta = true
	before, err := d.capture.nameBefore(d.ctx)
	if err == nil && (d.capture.late() || before != point.Since) {
		err = fmt.Errorf("survey %s: %s tells what changed since %s, but the latest that is known is %s", d.source.At,
			place.Quote(point.Name), place.Quote(point.Since), place.Quote(before))
	}
	return err
}

// Since says that only what changed since the last complete survey is sighted or called gone.
func (d *Difference) Since() error {
	if d.capture != nil {
		return fmt.Errorf("survey %s: what changed was told after something else", d.source.At)
	}
	if err := d.beginNow(); err != nil {
		return err
	}
	if d.capture.before == never {
		return fmt.Errorf("survey %s: what changed was told, but nothing is known that it changed since", d.source.At)
	}
	d.delta, d.capture.delta, d.partly = true, true, true
	return nil
}

// Further says that all points in time that are known are still held, so that only later ones are begun.
func (d *Difference) Further() error {
	if d.capture != nil || d.held != nil || d.source.Renew {
		return fmt.Errorf("survey %s: what came later was told after something else, or of what has to be read anew", d.source.At)
	}
	d.held, d.further = map[string]bool{}, true
	return nil
}

// Latest is the latest point in time that was read completely and is still held; "" where there is none.
func (d *Difference) Latest(ctx context.Context) (name string, at time.Time, err error) {
	if d.source.Renew {
		return "", at, nil // so that all of them are read
	}
	var nanos int64
	const latest = "SELECT name, at FROM captures WHERE source_id = ? AND complete AND held ORDER BY at DESC LIMIT 1"
	err = d.room.f.Reads.QueryRowContext(ctx, latest, d.source.ID).Scan(&name, &nanos)
	if errors.Is(err, sql.ErrNoRows) {
		return "", at, nil
	}
	return name, atNanos(nanos), err
}

// Line begins all points in time that the store holds, oldest first, at once; what is sighted from here on says by From and Until which of
// them showed it. What was known of the source before is told anew by it.
func (d *Difference) Line(points []sighting.Capture) error {
	if d.capture != nil || d.held != nil || len(points) == 0 {
		return fmt.Errorf("survey %s: its line was told twice, after something else, or empty", d.source.At)
	}
	d.source.Renew, d.source.Found = false, 0
	numbers, err := d.room.beginLine(d.ctx, d.source, points)
	if err != nil {
		return err
	}
	d.held = map[string]bool{}
	for _, p := range points {
		d.held[p.Name] = true
	}
	d.line = true
	if err = d.begin(points[len(points)-1], true); err == nil {
		d.capture.line, d.capture.numbers = true, numbers
	}
	return err
}

// renew forgets points in time that were recorded otherwise than they are to be now, now that the store turned out to be there to be read
// anew.
func (d *Difference) renew() error {
	if !d.source.Renew {
		return nil
	}
	d.source.Renew, d.source.Found = false, 0
	d.following.Note(
		"All its points in time were read anew, because how it is read was changed, or was wrong in an earlier version of the program. " +
			"Its copies have new numbers; those that receipts and cases name still lead to them.",
	)
	d.folders = nil
	return Surveys{d.room}.Renew(d.ctx, d.source)
}

// Discard takes back the point in time begun last.
func (d *Difference) Discard() error {
	d.counts.Fresh -= d.fresh
	k := d.capture
	d.capture, d.folders = nil, nil
	return k.discard(d.ctx)
}

// finish ends the capture under way, if there is one.
func (d *Difference) finish() error {
	if d.capture == nil {
		return nil
	}
	if d.held != nil && !d.line {
		d.capture.fresh = d.fresh // counted as soon as it is shown: the service may be killed before the end
	}
	err := d.capture.finish(d.ctx, d.unread)
	d.counts.Gone += d.capture.gone + int64(len(d.capture.numbers))
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
	return Surveys{d.room}.Points(ctx, d.source.ID)
}

// Unchanged tells whether a folder of the store holds just what it held when it was last read, by a digest over its entries.
func (d *Difference) Unchanged(ctx context.Context, dir string, print []byte, entries int) (bool, error) {
	if d.capture == nil {
		if err := d.beginNow(); err != nil {
			return false, err
		}
	}
	same := d.capture.unchanged(dir, print)
	if same {
		d.seen += int64(entries)
		d.following.Progress(d.seen, dir)
	}
	return same, ctx.Err()
}

// Marks returns a look-up of the marks of what a folder of the store held, by name; the zero Mark is not known.
func (d *Difference) Marks(ctx context.Context, dir string) (func(name string) entry.Mark, error) {
	if d.capture == nil {
		if err := d.beginNow(); err != nil {
			return nil, err
		}
	}
	known, err := d.capture.ask(ctx, dir)
	if err != nil || d.source.Recheck { // so that all is told anew
		return func(string) entry.Mark { return entry.Mark{} }, err
	}
	return func(name string) entry.Mark {
		mark, err := known.mark(ctx, name)
		if err != nil {
			d.failed = err
		}
		return mark
	}, nil
}

// Sight compares a sighting with what is known.
func (d *Difference) Sight(s sighting.Sighting) error {
	known, err := d.enter(s.At.Dir)
	if err != nil {
		return err
	}
	d.seen++
	d.begun++
	if d.seen%512 == 0 {
		if err := d.ctx.Err(); err != nil {
			return err
		}
		d.following.Progress(d.seen, s.At.Dir)
	}
	fresh, err := known.sight(d.ctx, &s)
	if fresh {
		d.counts.Fresh++
		d.fresh++
	}
	return err
}

// Unread says that a folder of the store could not be read, so that what is known below it stays as it is.
func (d *Difference) Unread(dir string) error {
	if d.capture == nil { // a capture has begun, though it may hold nothing that can be read
		if err := d.beginNow(); err != nil {
			return err
		}
	}
	if open := d.capture.open; open != nil && open.folder.path == dir { // some of it was sighted
		open.broken = true
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
	return known.gone(d.ctx, at.Name)
}

// enter returns what is known of the folder that a sighting is in, the one before being closed.
func (d *Difference) enter(dir string) (*merge, error) {
	if d.failed != nil {
		return nil, d.failed
	}
	if d.capture == nil {
		if err := d.beginNow(); err != nil {
			return nil, err
		}
	}
	return d.capture.in(d.ctx, dir)
}
