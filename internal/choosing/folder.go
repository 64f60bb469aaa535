package choosing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/past"
)

// Folder is the advice for a folder: each file its own best copy, or the folder as one.
type Folder struct {
	advice.FolderAdvice
	Whole   *copies.Copy  // the folder itself as one copy, where a source holds it so; nil where none does
	WholeAt time.Time     // of a folder that a store shows at many points in time: which; zero: the latest
	Sealed  string        // why it only makes sense whole; "" where it does not
	Aside   *place.Place  // where a sealed folder goes; nil: to its own place
	SameAt  []place.Place // where the same sealed folder is known too
	Moved   *copies.Copy  // the folder where it stands now; nil where it did not move or was not surveyed as such
}

// Copies are what to bring back.
func (f *Folder) Copies() []copies.ID {
	if f.Whole != nil {
		return []copies.ID{f.Whole.ID}
	}
	var ids []copies.ID
	for _, e := range f.Entries {
		if e.Copy != 0 {
			ids = append(ids, e.Copy)
		}
	}
	return ids
}

// folder answers for a folder; ok is false where the place is none.
func (a *Adviser) folder(ctx context.Context, q Question, now time.Time) (answer Answer, ok bool, err error) {
	types, err := a.Past.View.Copies.TypesAt(ctx, q.Place)
	types = slices.DeleteFunc(types, func(t entry.Type) bool { return t == entry.Other }) // a record without its item has no type
	if err != nil || len(types) > 0 && !slices.Contains(types, entry.Folder) {
		return answer, false, err
	}
	stores, err := a.Past.View.Copies.Stores(ctx)
	if err != nil {
		return answer, false, err
	}
	seen, err := a.Past.View.Copies.At(ctx, q.Place)
	if err != nil {
		return answer, false, err
	}
	if len(types) > 1 && !folderIsMeant(seen) {
		return answer, false, nil
	}
	b := &folderAdvice{Adviser: a, ctx: ctx, q: q, now: now, stores: stores, Folder: &Folder{}, from: map[copies.SourceID]int{}}
	err = a.Past.Under(ctx, q.Place, b.see)
	if errors.Is(err, past.ErrNothingThere) {
		return answer, false, nil // a place that nothing is known of is answered as a file
	}
	if err != nil {
		return answer, true, err
	}
	if err := b.advise(seen); err != nil {
		return answer, true, err
	}
	if answer, err = b.answer(seen); err != nil {
		return answer, true, err
	}
	return answer, true, ctx.Err()
}

// folderIsMeant tells, of a place at which both a folder and something else was seen, whether it is the folder that is
// missed: what is there now is not missed; where nothing does, what was seen last is.
func folderIsMeant(seen []*copies.Copy) bool {
	var last time.Time
	folder := true
	for _, f := range seen {
		is := f.Type == entry.Folder
		if f.Type == entry.Other {
			continue
		}
		if f.Open && f.Store.Traits.Live() {
			return !is
		}
		at := f.Last
		if !f.Gone.IsZero() {
			at = f.Gone
		}
		if at.After(last) {
			last, folder = at, is
		}
	}
	return folder
}

// folderAdvice gathers what is known of a folder's files and lets package advice choose.
type folderAdvice struct {
	*Adviser
	*Folder
	ctx    context.Context
	q      Question
	now    time.Time
	stores map[copies.SourceID]*copies.Store
	files  []advice.FolderFile
	from   map[copies.SourceID]int // files that a source has copies of
	left   []namedLeftover         // of leftovers, in the order of files
}

// see takes up one place below the folder.
func (b *folderAdvice) see(rel string, t *trail.Trail, seen []*copies.Copy) {
	f := advice.FolderFile{Path: rel}
	for n := range t.Versions {
		v := &t.Versions[n]
		if v.Type != entry.File || b.leftOnly(v, seen) {
			continue
		}
		compact := b.version(v, seen)
		compact.Ends = !v.Superseded.IsZero() && (n+1 == len(t.Versions) || v.Superseded.Before(t.Versions[n+1].Arrived))
		f.Versions = append(f.Versions, compact)
	}
	met := map[copies.SourceID]bool{}
	for i := range seen {
		one := seen[i]
		if one.Readable && !met[one.Store.ID] {
			met[one.Store.ID] = true
			b.from[one.Store.ID]++
		}
		if one.Store.Traits.Leftovers && one.Open && one.Readable && one.Type == entry.File && one.Size > 0 {
			b.left = append(b.left, namedLeftover{len(b.files), one})
		}
	}
	if len(f.Versions) == 0 {
		f.Versions = recordAlone(seen)
	}
	if len(f.Versions) == 0 {
		for len(b.left) > 0 && b.left[len(b.left)-1].file == len(b.files) {
			b.left = b.left[:len(b.left)-1]
		}
		return
	}
	b.files = append(b.files, f)
}

// recordAlone is a file of which nothing is left but the record that it was thrown away.
func recordAlone(seen []*copies.Copy) []advice.FolderVersion {
	for i := range seen {
		if f := seen[i]; !f.Readable && !f.Gone.IsZero() && f.Type == entry.Other {
			gone := f.Gone.UnixNano()
			return []advice.FolderVersion{{Arrived: gone - 1, First: gone - 1, LastSeen: gone, Superseded: gone, Size: -1, Proved: true, Ends: true}}
		}
	}
	return nil
}

// version keeps of a version what a folder's advice is made of.
func (b *folderAdvice) version(v *trail.Version, seen []*copies.Copy) advice.FolderVersion {
	compact := advice.FolderVersion{
		Written: nano(v.Written), Arrived: nano(v.Arrived), LastSeen: nano(v.LastSeen), Superseded: nano(v.Superseded),
		After: nano(v.After), First: nano(v.First), Size: v.Size, Copy: past.ReadFrom(v, seen), Content: int32(v.Content),
		Proved: v.Doubt == "" && v.Arrived.Equal(v.Written), Doubted: v.Doubt != "", Hidden: v.Hidden,
	}
	for _, i := range v.Seen {
		one := seen[i]
		if at := one.Recorded(); !at.IsZero() && one.Written.Equal(v.Written) {
			compact.Stamp = at.UnixNano()
		}
		switch {
		case one.Open && one.Readable && one.Store.Traits.Live():
			compact.Live = one.ID
		case !one.Gone.IsZero() && one.Readable && one.Gone.Equal(v.Superseded):
			compact.Thrown, compact.ThrownAt = one.ID, one.Gone.UnixNano()
		}
	}
	return compact
}

func nano(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

// advise lets package advice choose, and finds a folder that only makes sense whole as one.
func (b *folderAdvice) advise(seen []*copies.Copy) error {
	b.Sealed = b.sealed()
	if err := b.describeLeftovers(); err != nil {
		return err
	}
	r := b.reading()
	nameless, err := b.nameless()
	if err != nil {
		return err
	}
	ev := advice.FolderEvidence{Place: b.q.Place, Files: b.files, Nameless: nameless, Thrown: b.thrown(seen), Sealed: b.Sealed != "",
		Now: b.now}
	b.FolderAdvice = advice.AdviseFolder(b.q.Question, ev, r)
	switch {
	case r.err != nil:
		return r.err
	case b.FolderAdvice.Whole != nil:
		b.Whole = b.FolderAdvice.Whole.Copy.Record
		b.Bytes = max(0, b.Whole.Size)
		return nil
	case b.MovedTo != place.Place{}:
		return b.movedCopy()
	case b.Sealed == "":
		return nil
	}
	if b.AsOf.IsZero() && b.q.Loss == advice.Damaged {
		b.AsOf = advice.LastRight(b.q.Good, b.q.Noticed, b.now)
	}
	if b.AsOf.IsZero() {
		return nil
	}
	return b.asOne(seen)
}

func (b *folderAdvice) because(code string, pairs ...any) {
	b.Because = append(b.Because, remark.New(code, pairs...))
}

// thrown lists the folder itself where stores hold it as one item that was thrown away.
func (b *folderAdvice) thrown(seen []*copies.Copy) (all []advice.Thrown) {
	for i := range seen {
		f := seen[i]
		if f.Type != entry.Folder || f.Gone.IsZero() {
			continue
		}
		all = append(all, advice.Thrown{Copy: advice.CandidateOf(f, -1), At: f.Gone, Source: Name(&f.Store.Source, b.q.Place.Machine)})
	}
	return all
}

// movedCopy finds the folder where it stands now among what was surveyed.
func (b *folderAdvice) movedCopy() error {
	seen, err := b.Past.View.Copies.At(b.ctx, b.MovedTo)
	if err != nil {
		return err
	}
	for _, f := range seen {
		if f.Open && f.Type == entry.Folder && f.Store.Traits.Live() {
			b.Moved = f
		}
	}
	return err
}

// answer says what came of it, and where we looked.
func (b *folderAdvice) answer(seen []*copies.Copy) (Answer, error) {
	t := &past.Trail{Place: b.q.Place, Names: []trail.Name{{Place: b.q.Place}}, Seen: seen}
	g := &gathering{Adviser: b.Adviser, ctx: b.ctx, q: b.q, t: t, now: b.now, number: map[copies.SourceID]int{}, all: b.stores}
	g.order()
	answer := Answer{Question: b.q, Stores: g.stores, Missing: g.missing(), Folder: b.Folder}
	answer.Notes = b.FolderAdvice.Notes
	answer.FoundAt = append(answer.FoundAt, b.SameAt...)
	var err error
	if t.Covers, err = b.Past.Covering(b.ctx, b.q.Place); err != nil {
		return answer, err
	}
	sources, err := g.sources()
	if err != nil {
		return answer, err
	}
	for i, s := range g.stores {
		n := b.from[s.ID]
		note := sources[i].Nothing(remark.New("the-folder"))
		if n > 0 {
			note = remark.New("has-files", "n", n)
		}
		notes := []advice.Reason{note}
		if s.Trouble != "" {
			notes = append(notes, remark.New("store-trouble", "why", strings.TrimSuffix(s.Trouble, ".")))
		}
		answer.Looked = append(answer.Looked, advice.Looked{Source: i, Found: n > 0, Excluded: sources[i].Excluded, Note: notes})
	}
	if len(b.Copies()) > 0 || b.MovedTo.Path != "" {
		return answer, nil
	}
	answer.Because = b.Because
	answer.Next = []advice.Reason{remark.New("next-say-when")}
	if n := b.Counts[advice.PartMissing]; n > 0 {
		answer.Because = append(answer.Because, remark.New("folder-missing", "n", n))
		answer.Next = []advice.Reason{remark.New("next-find-files"), remark.New("next-image")}
	}
	return answer, nil
}

// Bring is what an answer recommends to bring back.
type Bring struct {
	Copies []copies.ID
	To     *place.Place // nil: each to its own place
	At     time.Time    // of a folder that a store shows at many points in time: which; zero: the latest
}

// Bring returns what an answer recommends to bring back.
func (a *Answer) Bring() (Bring, error) {
	const what = "bring back what is recommended"
	switch {
	case a.Folder != nil && len(a.Folder.Copies()) > 0:
		return Bring{Copies: a.Folder.Copies(), To: a.Folder.Aside, At: a.Folder.WholeAt}, nil
	case a.Recommended != nil && a.Recommended.Copy.Live && !a.Recommended.Copy.Leftover:
		return Bring{}, &problem.Input{
			What: what,
			Err:  fmt.Errorf("it stands at %s and is not lost", a.Recommended.Copy.Place),
			Next: "Tell the user where it is.",
		}
	case a.Recommended != nil:
		return Bring{Copies: []copies.ID{a.Recommended.Copy.ID}, To: &a.Recommended.To}, nil
	}
	return Bring{}, &problem.Input{
		What: what,
		Err:  errors.New("nothing is recommended"),
		Next: "Read where we looked and what remains to be tried, or choose a copy yourself.",
	}
}
