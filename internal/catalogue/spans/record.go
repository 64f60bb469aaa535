package spans

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"hash/maphash"
	"math"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
)

// Capture is one reading of a source that is under way, or of one of the points in time that it holds. What it finds out of a folder is
// written as a whole, many folders in one transaction. Of a point in time, what is new is written at once; what changes in folders that
// were known waits for its end, for one that is being removed meanwhile would seem to lack files.
type Capture struct {
	c       *room
	id      int64  // 0 until something is written
	name    string // of a point in time
	source  rows.Source
	at      int64
	dated   bool                  // of a store that holds many
	before  int64                 // the time of the complete capture before this one; no time where there is none
	after   int64                 // the same behind it
	delta   bool                  // only what changed since the one before is sighted
	numbers map[lineKey]copies.ID // of what was known of a line, before it is told anew
	line    bool                  // it is told together with all before it: what is sighted says itself which of them showed it
	owner   func(path string, uid entry.Maybe[int64]) string

	folders *knownFolders
	open    *merge            // the folder whose sightings are coming
	ahead   map[string]*merge // folders that were only asked about so far
	read    content           // the block read last
	prints  map[string][]byte // of folders that were asked about and are not yet closed
	changes []folderChange
	weight  int
	delayed bool       // something waits in the catalogue for the end
	waiting []waiting  // of which folders
	writing chan error // of the batch being written meanwhile; nil where none is
	dirs    map[string]int64
	gone    int64              // spans that ended
	fresh   int64              // copies that one of several points in time adds to those of its store
	earlier map[[2]uint64]bool // folders that earlier slices of the survey have read
}

// waiting is a folder whose change waits, and when it was read.
type waiting struct{ folder, since int64 }

const (
	never   = math.MinInt64
	forever = math.MaxInt64
)

// What one transaction records: enough to make its cost small, few enough that a killed survey loses little and that readers' view of
// the log stays short.
const (
	batchFolders = 2000
	batchSpans   = 16_000
)

// knownFolders are the folders of a store, as they were and become during a survey, in little memory.
type knownFolders struct {
	seed  [2]maphash.Seed
	all   map[[2]uint64]knownFolder
	epoch int32                     // counts the captures
	alive int                       // folders with spans that stand
	seen  int                       // of them in this capture
	later map[[2]uint64]knownFolder // as they become with the end of the capture
}

type knownFolder struct {
	id       int64
	standing int32
	visited  int32 // the capture that did last
	print    [16]byte
	printed  bool
}

func (k *knownFolders) key(path string) [2]uint64 {
	return [2]uint64{maphash.String(k.seed[0], path), maphash.String(k.seed[1], path)}
}

// knownFoldersOf reads which folders of a source are known.
func (c *room) knownFoldersOf(ctx context.Context, source copies.SourceID) (*knownFolders, error) {
	k := &knownFolders{seed: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}, all: map[[2]uint64]knownFolder{}}
	rows, err := c.f.Reads.QueryContext(ctx, "SELECT id, path, standing, print FROM folders WHERE source_id = ?", source)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var path, print sql.RawBytes
	for rows.Next() {
		var f knownFolder
		if err := rows.Scan(&f.id, &path, &f.standing, &print); err != nil {
			return nil, err
		}
		f.printed = len(print) > 0
		copy(f.print[:], print)
		k.all[[2]uint64{maphash.Bytes(k.seed[0], path), maphash.Bytes(k.seed[1], path)}] = f
		if f.standing > 0 {
			k.alive++
		}
	}
	return k, rows.Err()
}

// begin begins another capture.
func (k *knownFolders) begin() {
	k.epoch++
	k.seen = 0
	k.later = map[[2]uint64]knownFolder{}
}

// end takes over what the capture found out.
func (k *knownFolders) end() {
	for key, f := range k.later {
		k.put(key, f)
	}
	k.later = nil
}

func (k *knownFolders) put(key [2]uint64, f knownFolder) {
	if k.all[key].standing > 0 {
		k.alive--
	}
	if f.standing > 0 {
		k.alive++
	}
	k.all[key] = f
}

// visit notes that the capture has read a folder.
func (k *knownFolders) visit(key [2]uint64) {
	f, ok := k.all[key]
	if !ok || f.visited == k.epoch {
		return
	}
	f.visited = k.epoch
	k.all[key] = f
	if f.standing > 0 {
		k.seen++
	}
}

func (c *room) capture(ctx context.Context, src rows.Source, point sighting.Capture, dated bool, known *knownFolders) (*Capture, error) {
	known.begin()
	k := &Capture{c: c, name: point.Name, source: src, at: point.At.UnixNano(), dated: dated, folders: known, dirs: map[string]int64{},
		prints: map[string][]byte{}}
	err := c.f.Reads.QueryRowContext(ctx, `SELECT coalesce((SELECT max(at) FROM captures WHERE source_id = ?1 AND complete AND at < ?2), ?3),
		coalesce((SELECT min(at) FROM captures WHERE source_id = ?1 AND complete AND at > ?2), ?4)`, src.ID, k.at, int64(never),
		int64(forever)).Scan(&k.before, &k.after)
	return k, err
}

// enter records the capture itself, together with the first that it saw: most are small enough for one transaction.
func (k *Capture) enter(ctx context.Context, w *file.Writing) error {
	if k.id != 0 {
		return nil
	}
	err := w.QueryRowContext(ctx, "SELECT id FROM captures WHERE source_id = ? AND name = ? AND at = ?", k.source.ID, []byte(k.name),
		k.at).Scan(&k.id)
	if errors.Is(err, sql.ErrNoRows) {
		err = w.QueryRowContext(ctx, "INSERT INTO captures (source_id, at, name, held) VALUES (?, ?, ?, ?) RETURNING id", k.source.ID,
			k.at, []byte(k.name), k.dated).Scan(&k.id)
	}
	return err
}

// late tells whether a later point in time was read before this one.
func (k *Capture) late() bool { return k.after != forever }

// unchanged tells by its print whether a folder of the store was read and holds just what the latest capture showed. If
// not, the print is kept with the capture. A capture that comes late has no such folder: prints are of the latest.
func (k *Capture) unchanged(dir string, print []byte) bool {
	if k.late() {
		return false
	}
	print = print[:min(len(print), len(knownFolder{}.print))]
	key := k.folders.key(dir)
	if f, ok := k.folders.all[key]; ok && f.printed && bytes.Equal(f.print[:], print) {
		k.folders.visit(key)
		return true
	}
	k.prints[dir] = print
	return false
}

// nameBefore is what the complete capture before this one is called.
func (k *Capture) nameBefore(ctx context.Context) (name string, err error) {
	err = k.c.f.Reads.QueryRowContext(ctx, "SELECT name FROM captures WHERE source_id = ? AND complete AND at = ?", k.source.ID, k.before).
		Scan(&name)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return name, err
}

// in returns the folder to compare, having closed the one before.
func (k *Capture) in(ctx context.Context, dir string) (*merge, error) {
	if k.open != nil && k.open.folder.path == dir {
		return k.open, nil
	}
	if err := errors.Join(k.closeFolder(ctx), k.toldBefore(dir)); err != nil {
		return nil, err
	}
	m, err := k.ask(ctx, dir)
	delete(k.ahead, dir)
	k.open = m
	return m, err
}

// ask returns the folder to look up marks in.
func (k *Capture) ask(ctx context.Context, dir string) (*merge, error) {
	if k.open != nil && k.open.folder.path == dir {
		return k.open, nil
	}
	if m, ok := k.ahead[dir]; ok {
		return m, nil
	}
	var at *folder
	if known, ok := k.folders.all[k.folders.key(dir)]; ok {
		var err error
		if at, err = folderByID(ctx, k.c.f.Reads, known.id); err != nil {
			return nil, err
		}
	}
	m, err := k.enterFolder(ctx, dir, at)
	if err == nil {
		if k.ahead == nil {
			k.ahead = map[string]*merge{}
		}
		k.ahead[dir] = m
	}
	return m, err
}

// closeFolder ends what is known of the open folder and was not sighted.
func (k *Capture) closeFolder(ctx context.Context) error {
	if k.open == nil {
		return nil
	}
	m := k.open
	k.open = nil
	return k.take(ctx, m)
}

// take takes over what became of a folder.
func (k *Capture) take(ctx context.Context, m *merge) error {
	blocks, err := m.close(ctx)
	if err != nil {
		return err
	}
	path := m.folder.path
	key := k.folders.key(path)
	k.folders.visit(key)
	print := k.prints[path]
	delete(k.prints, path)
	if k.delta || m.broken { // what was not sighted is not in it
		print = nil
	}
	before := k.folders.all[key]
	if len(blocks) == 0 && (m.fresh || before.printed == (print != nil) && bytes.Equal(before.print[:len(print)], print) || k.late()) {
		return nil
	}
	if m.fresh {
		m.folder.id = k.c.counters.nextFolder()
	}
	after := knownFolder{id: m.folder.id, standing: int32(min(m.folder.standing, math.MaxInt32)), visited: k.folders.epoch,
		printed: print != nil}
	copy(after.print[:], print)
	if k.late() {
		print = before.print[:]
		if after.printed = before.printed; !after.printed {
			print = nil
		}
		after.print = before.print
	}
	change := folderChange{folder: m.folder, fresh: m.fresh, print: print, blocks: blocks, delayed: k.dated && !m.fresh,
		since: m.since}
	if m.fresh {
		k.folders.put(key, after)
		if after.standing > 0 {
			k.folders.seen++
		}
	} else {
		k.folders.later[key] = after
	}
	k.changes = append(k.changes, change)
	k.weight += change.weight()
	if len(k.changes) < batchFolders && k.weight < batchSpans {
		return nil
	}
	return k.flush(ctx)
}

// flush hands a full batch over to be written while the next is gathered.
func (k *Capture) flush(ctx context.Context) error {
	if err := k.written(); err != nil {
		return err
	}
	changes, done := k.changes, make(chan error, 1)
	k.changes, k.weight, k.writing = nil, 0, done
	k.delayed = k.delayed || k.dated
	for i := range changes {
		if changes[i].delayed {
			k.waiting = append(k.waiting, waiting{changes[i].folder.id, changes[i].since})
		}
	}
	go func() {
		done <- k.c.writeFolders(ctx, k.source, k.dirs, changes, func(w *file.Writing) error { return k.enter(ctx, w) })
	}()
	return nil
}

// written waits for the batch being written.
func (k *Capture) written() error {
	if k.writing == nil {
		return nil
	}
	err := <-k.writing
	k.writing = nil
	return err
}

// abandon waits for what is being written; call it where a capture does not come to finish.
func (k *Capture) abandon() { _ = k.written() }

// finish ends what lies in folders of the store that no longer exist, and makes the capture the source's latest. What
// lies at or below the paths in unread stays as it is.
func (k *Capture) finish(ctx context.Context, unread []string) error {
	if err := errors.Join(k.closeFolder(ctx), k.vanished(ctx, unread)); err != nil {
		return err
	}
	if err := k.written(); err != nil {
		return err
	}
	for i := range k.changes {
		k.changes[i].delayed = k.changes[i].delayed && k.delayed // else nothing has to wait
	}
	defer k.c.forgetStore(k.source.ID)
	err := k.c.writeFolders(ctx, k.source, k.dirs, k.changes, func(w *file.Writing) error { return k.complete(ctx, w) })
	if err == nil {
		k.folders.end()
	}
	return err
}

// complete makes the capture a complete one.
func (k *Capture) complete(ctx context.Context, w *file.Writing) error {
	if err := k.enter(ctx, w); err != nil {
		return err
	}
	for _, f := range k.waiting {
		if k.c.rewrites.since(f.folder, f.since) {
			return ErrMeanwhile
		}
	}
	if k.delayed {
		if err := takePending(ctx, w, k.source.ID); err != nil {
			return err
		}
	}
	if !k.dated { // what it showed before, its store does not hold any more
		if err := w.Exec(ctx, "UPDATE captures SET held = 0 WHERE source_id = ? AND held", k.source.ID); err != nil {
			return err
		}
	}
	if k.line {
		if err := w.Exec(ctx, "UPDATE captures SET complete = 1 WHERE source_id = ?", k.source.ID); err != nil {
			return err
		}
	}
	if err := errors.Join(w.Exec(ctx, "UPDATE captures SET complete = 1, held = 1 WHERE id = ?", k.id), k.lastSlice(ctx, w), k.countStep(ctx, w)); err != nil {
		return err
	}
	return w.Exec(ctx, "UPDATE sources SET last_capture = (SELECT id FROM captures WHERE source_id = ?1 AND complete ORDER BY at DESC "+
		"LIMIT 1), found = found + ?2 WHERE id = ?1", k.source.ID, k.fresh)
}

// takePending makes what waited for the end of a point in time known.
func takePending(ctx context.Context, w *file.Writing, source copies.SourceID) error {
	for _, step := range []string{
		"INSERT INTO blocks (" + blockColumns + ") SELECT " + blockColumns + " FROM pending_blocks WHERE source_id = ? " +
			putBlock,
		`UPDATE folders SET print = p.print, standing = p.standing, parts = p.parts, greatest = p.greatest, gone_last = p.gone_last,
			gone_first = p.gone_first, written = p.written, largest = p.largest FROM pending_folders p WHERE p.id = folders.id AND
			p.source_id = ?`,
		dropPendingBlocks, dropPendingFolders,
	} {
		if err := w.Exec(ctx, step, source); err != nil {
			return err
		}
	}
	return nil
}

const (
	dropPendingBlocks  = "DELETE FROM pending_blocks WHERE source_id = ?"
	dropPendingFolders = "DELETE FROM pending_folders WHERE source_id = ?"
)

// vanished ends what lies in folders that the capture did not read.
func (k *Capture) vanished(ctx context.Context, unread []string) error {
	if k.delta || !k.late() && k.folders.seen >= k.folders.alive {
		return nil
	}
	for after := int64(0); ; {
		// In pieces, so that no reading stays open while something is written.
		some, err := foldersWhere(ctx, k.c.f.Reads, "f.source_id = ? AND f.id > ? AND (f.standing > 0 OR ?) ORDER BY f.id LIMIT 1000",
			k.source.ID, after, k.late())
		if err != nil || len(some) == 0 {
			return err
		}
		after = some[len(some)-1].id
		for _, f := range some {
			if k.folders.all[k.folders.key(f.path)].visited == k.folders.epoch || underAny(f.path, unread) {
				continue
			}
			m, err := k.enterFolder(ctx, f.path, f)
			if err != nil {
				return err
			}
			if err := k.take(ctx, m); err != nil {
				return err
			}
		}
	}
}

func underAny(path string, folders []string) bool {
	for _, folder := range folders {
		if place.Under("/"+path, "/"+folder) {
			return true
		}
	}
	return false
}
