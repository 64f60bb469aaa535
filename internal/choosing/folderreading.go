package choosing

import (
	"maps"
	"slices"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/past"
)

// What reading the files of a folder may cost, beside what is known of them already: enough to know the nature of what happened and to
// examine what comes back, never all of a huge folder.
const (
	assureFiles = 600
	assureBytes = 256 << 20
	holdPairs   = 600 // contents that are held against each other
	gatherFiles = 60  // files of which everything is gathered
)

// folderReading reads the contents of a folder's files within a budget.
type folderReading struct {
	*reading
	known map[copies.ID]catalogue.Judged
	files int
	left  int64 // bytes
	pairs int
	anew  int
	q     Question
	now   time.Time
	err   error // of the records
}

func (b *folderAdvice) reading() *folderReading {
	return &folderReading{reading: b.Adviser.reading(b.ctx, b.q.Place, b.stores), known: map[copies.ID]catalogue.Judged{}, left: assureBytes,
		q: b.q, now: b.now}
}

// Recall finds out in one go what is known of some copies.
func (r *folderReading) Recall(ids []copies.ID) {
	const some = 2000 // at once
	for part := range slices.Chunk(ids, some) {
		known, err := r.Site.Catalogue.Contents.Known(r.ctx, part)
		if err != nil {
			r.err = err
			return
		}
		maps.Copy(r.known, known)
	}
}

// Ahead finds out about some copies what is known, and examines others, the first of them first, in one go.
func (r *folderReading) Ahead(some []advice.Sized) {
	ids := make([]copies.ID, len(some))
	for i, s := range some {
		ids[i] = s.ID
	}
	r.Recall(ids)
	var unread []copies.ID
	for _, s := range some {
		if r.known[s.ID].State == condition.Unread && r.affords(s.Size) {
			unread = append(unread, s.ID)
		}
	}
	if len(unread) == 0 {
		return
	}
	all, err := r.Past.View.Copies.ByIDs(r.ctx, unread)
	if err == nil {
		_, err = r.Examiner.Some(r.ctx, all)
	}
	if err != nil {
		r.err = err
		return
	}
	found, err := r.Site.Catalogue.Contents.Known(r.ctx, unread)
	if err != nil {
		r.err = err
	}
	maps.Copy(r.known, found)
	for _, j := range found {
		if j.State == condition.Unread { // it could not be read: it is asked once more, for the reason
			r.files--
		}
	}
}

// affords takes a file out of the budget, and tells whether there was room for it.
func (r *folderReading) affords(size int64) bool {
	if r.files >= assureFiles || size > r.left {
		return false
	}
	r.files, r.left = r.files+1, r.left-max(0, size)
	return true
}

// Condition examines a content, where it is known already or the budget allows.
func (r *folderReading) Condition(content advice.Content) advice.Examined {
	if len(content.Copies) == 0 {
		return advice.Examined{Verdict: condition.Verdict{State: condition.Unread}}
	}
	id := content.Copies[0].ID
	if known, ok := r.judged[judgedKey{id, content.As}]; ok {
		return known // it was paid for
	}
	j, ok := r.known[id]
	if !ok {
		more, err := r.Site.Catalogue.Contents.Known(r.ctx, []copies.ID{id})
		if err != nil {
			r.err = err
		}
		j = more[id]
		r.known[id] = j
	}
	if j.State == condition.Unread && !r.affords(content.Size) {
		return advice.Examined{Verdict: condition.Verdict{State: condition.Unread}, SHA256: j.SHA256}
	}
	return r.reading.Condition(content)
}

// Kept holds two contents against each other, as far as the budget allows.
func (r *folderReading) Kept(a, b advice.Content) (kept, had float64, ok bool) {
	if r.pairs >= holdPairs {
		return 0, 0, false
	}
	r.pairs++
	return r.reading.Kept(a, b)
}

// Same digests two contents, as far as the budget allows.
func (r *folderReading) Same(a, b advice.Content) (same, ok bool) {
	if a.Size != b.Size {
		return false, true
	}
	if r.pairs >= holdPairs {
		return false, false
	}
	r.pairs++
	return r.reading.Same(a, b)
}

// Anew gathers what is known of one file as if it had been asked for alone.
func (r *folderReading) Anew(f *advice.FolderFile) (advice.Evidence, bool) {
	if r.anew >= gatherFiles {
		return advice.Evidence{}, false
	}
	r.anew++
	q := r.q
	q.Place = place.Place{Machine: r.own.Machine, Path: place.Join(r.own.Path, f.Path)}
	t, err := r.Past.TrailNow(r.ctx, q.Place, past.Present{At: r.now, Reread: true})
	if err != nil {
		r.err = err
		return advice.Evidence{}, false
	}
	g := &gathering{Adviser: r.Adviser, ctx: r.ctx, q: q, t: &t, now: r.now, number: map[copies.SourceID]int{}}
	ev, err := g.evidence()
	if err != nil {
		r.err = err
	}
	return ev, err == nil
}

// MovedTo finds what came, on any machine, once a file had gone, with its size, its time and, where both are known, its digest.
func (r *folderReading) MovedTo(f *advice.FolderFile) (place.Place, bool) {
	const some = 20
	last := &f.Versions[len(f.Versions)-1]
	own := place.Place{Machine: r.own.Machine, Path: place.Join(r.own.Path, f.Path)}
	if last.Size <= 0 || last.Stamp == 0 {
		return place.Place{}, false
	}
	var sum digest.Sum
	var tick time.Duration
	if c, err := r.copy(last.Copy); err == nil {
		sum, tick = c.SHA256, c.Store.Resolution
	}
	seen, err := r.Past.View.Search.Twins(r.ctx, own, last.Size, time.Unix(0, last.Stamp), tick, some)
	if err != nil {
		r.err = err
	}
	first, stands := map[place.Place]int64{}, map[place.Place]bool{}
	for _, t := range seen {
		if t.Type != entry.File || !t.Store.Traits.Shows() || sum.Known() && t.SHA256.Known() && t.SHA256 != sum {
			continue
		}
		if at, ok := first[t.Place]; !ok || t.First.UnixNano() < at {
			first[t.Place] = t.First.UnixNano()
		}
		stands[t.Place] = stands[t.Place] || t.Open && t.Store.Traits.Live()
	}
	if last.ThrownAt != 0 {
		return place.Place{}, false
	}
	// What came up when it went is it; what came up later it became by further moves, of which not all need have been seen.
	best, came := place.Place{}, int64(0)
	for _, t := range seen { // in their order
		if at := first[t.Place]; stands[t.Place] && at > last.LastSeen && (came == 0 || at < came) {
			best, came = t.Place, at
		}
	}
	return best, came != 0
}
