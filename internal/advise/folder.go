package advise

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/masschange"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/site"
	"humble-rewind/internal/trails"
)

// Part says what becomes of a file in a folder that is brought back.
type Part string

// The parts.
const (
	Certain Part = "certain" // its best copy is proved to be what stood there
	Assumed Part = "assumed" // nobody looked between, or only an older version can be read
	Missing Part = "missing" // no copy of it can be read any more
	Kept    Part = "kept"    // it was worked on since, and stays
	Came    Part = "came"    // it came with the mass change, and stays for a technician to remove
)

// FolderEntry is one file of the folder that is not simply as it was.
type FolderEntry struct {
	Path  string // relative to the folder
	Copy  int64  // what to bring back; 0 where nothing is
	Size  int64
	Part  Part
	Note  string
	Place place.Place

	file, version int // what Copy holds, in folderAdvice.files
}

// Folder is the advice for a folder: each file its own best copy.
type Folder struct {
	AsOf    time.Time // the moment that is offered
	Mass    *masschange.Mass
	Because []string
	Costs   []string
	Entries []FolderEntry // by path
	Counts  map[Part]int
	Same    int // files that stand as they did then
	Bytes   int64
	Whole   catalogue.Copy // the folder itself as one copy, where a source holds it so; ID 0 where none does
	WholeAt time.Time      // of a folder that a store shows at many points in time: which; zero: the latest
	Sealed  string         // why it only makes sense whole; "" where it does not
	Aside   *place.Place   // where a sealed folder goes; nil: to its own place
	SameAt  []place.Place  // where the same sealed folder is known too
	MovedTo place.Place    // where the folder stands now, if it moved
	Moved   catalogue.Copy // the folder there; ID 0 where it was not surveyed as such
}

// Copies are what to bring back.
func (f *Folder) Copies() []int64 {
	if f.Whole.ID != 0 {
		return []int64{f.Whole.ID}
	}
	var ids []int64
	for _, e := range f.Entries {
		if e.Copy != 0 {
			ids = append(ids, e.Copy)
		}
	}
	return ids
}

// version is what a folder's advice remembers of a file's version; times are nanoseconds since 1970.
type version struct {
	arrived, lastSeen, superseded int64 // superseded 0: it stands
	// after and first are the captures between which it came: the last without it, 0 where there is none, and the first with it.
	after, first int64
	size, copy   int64 // copy is what it is best read from; 0 where it cannot be
	live         int64 // the copy of it that stands on the machine; 0 where none does
	content      int32
	proved       bool // its arrival is its write time
	ends         bool // nothing took its place
}

type folderFile struct {
	path     string
	versions []version
}

// folder answers for a folder; ok is false where the place is none.
func (a *Adviser) folder(ctx context.Context, q Question, now time.Time) (answer Answer, ok bool, err error) {
	types, err := a.Site.Catalogue.TypesAt(ctx, q.Place)
	if err != nil || len(types) > 0 && !slices.Contains(types, entry.Folder) {
		return answer, false, err
	}
	stores, err := a.Site.Catalogue.Stores(ctx)
	if err != nil {
		return answer, false, err
	}
	facts, err := a.Site.Catalogue.FactsOf(ctx, stores, q.Place)
	if err != nil {
		return answer, false, err
	}
	if len(types) > 1 && !folderIsMeant(facts, stores) {
		return answer, false, nil
	}
	b := &folderAdvice{Adviser: a, ctx: ctx, q: q, now: now, stores: stores, Folder: &Folder{Counts: map[Part]int{}}}
	err = a.Trails.Under(ctx, q.Place, b.see)
	if errors.Is(err, trails.ErrNothingThere) {
		return answer, false, nil // a place that nothing is known of is answered as a file
	}
	if err != nil {
		return answer, true, err
	}
	if err := b.advise(facts); err != nil {
		return answer, true, err
	}
	if answer, err = b.answer(facts); err != nil {
		return answer, true, err
	}
	return answer, true, ctx.Err()
}

// folderIsMeant tells, of a place at which both a folder and something else was seen, whether it is the folder that is
// missed: what stands there now is not missed; where nothing does, what was seen last is.
func folderIsMeant(facts []catalogue.Fact, stores map[int64]*catalogue.Store) bool {
	var last time.Time
	folder := true
	for _, f := range facts {
		is := f.Type == entry.Folder
		if f.Open && stores[int64(f.Source)].Source.Traits.Live() {
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

// answer says what came of it, and where we looked.
func (b *folderAdvice) answer(facts []catalogue.Fact) (Answer, error) {
	t := &trails.Trail{Place: b.q.Place, Names: []trail.Name{{Place: b.q.Place}}, Facts: facts}
	g := &gathering{Adviser: b.Adviser, ctx: b.ctx, q: b.q, t: t, now: b.now, number: map[int64]int{}, all: b.stores}
	g.order()
	answer := Answer{Question: b.q, Stores: g.stores, Missing: g.missing(), Folder: b.Folder}
	answer.Notes = b.notes
	answer.FoundAt = append(answer.FoundAt, b.SameAt...)
	var err error
	if t.Covers, err = b.Trails.Covering(b.ctx, b.q.Place); err != nil {
		return answer, err
	}
	sources, err := g.sources()
	if err != nil {
		return answer, err
	}
	for i, s := range g.stores {
		n := b.from[s.Source.ID]
		note := sources[i].Nothing("the folder", b.now, b.q.Zone)
		switch {
		case n == 1:
			note = "It has copies of one file of the folder."
		case n > 1:
			note = fmt.Sprintf("It has copies of %d files of the folder.", n)
		}
		if s.Source.Trouble != "" {
			note += " It could not be read last: " + strings.TrimSuffix(s.Source.Trouble, ".") + "."
		}
		answer.Looked = append(answer.Looked, advice.Looked{Source: i, Found: n > 0, Note: note})
	}
	if len(b.Copies()) == 0 && b.MovedTo.Path == "" {
		answer.Because = b.Because
		answer.Next = []string{"Say when the folder was last right, so that each file can be held against that moment."}
		if n := b.Counts[Missing]; n > 0 {
			answer.Because = append(
				answer.Because,
				fmt.Sprintf("%s in question, and no copy of any can be read any more.", files(n, "comes", "come")),
			)
			answer.Next = []string{
				"Look for single files under other names with humble-rewind find, and ask the user where else they may be: a stick, a " +
					"mail, a colleague's machine.",
				"If nothing is found, stop writing to the drive and make an image of it; deleted files can often be read from that.",
			}
		}
	}
	return answer, nil
}

type folderAdvice struct {
	*Adviser
	*Folder
	ctx     context.Context
	q       Question
	now     time.Time
	stores  map[int64]*catalogue.Store
	files   []folderFile
	changes []masschange.Change
	masses  []masschange.Mass
	from    map[int64]int // files that a source has copies of
	notes   []string
	// unexamined counts the copies to come back that nobody examined.
	unexamined int
}

// see takes up one place below the folder.
func (b *folderAdvice) see(rel string, t *trail.Trail, facts []catalogue.Fact) {
	f := folderFile{path: rel}
	for n := range t.Versions {
		v := &t.Versions[n]
		if v.Type != entry.File {
			continue
		}
		next := n + 1
		f.versions = append(
			f.versions,
			version{
				arrived:    v.Arrived.UnixNano(),
				lastSeen:   v.LastSeen.UnixNano(),
				superseded: nano(v.Superseded),
				after:      nano(v.After),
				first:      nano(v.First),
				size:       v.Size,
				copy: trails.ReadFrom(
					v,
					facts,
					b.stores,
				),
				live:    b.live(v, facts),
				content: int32(v.Content),
				proved:  v.Doubt == "" && v.Arrived.Equal(v.Written),
				ends:    !v.Superseded.IsZero() && (next == len(t.Versions) || v.Superseded.Before(t.Versions[next].Arrived)),
			},
		)
	}
	if len(f.versions) == 0 {
		return
	}
	if b.from == nil {
		b.from = map[int64]int{}
	}
	met := map[int]bool{}
	for i := range facts {
		if facts[i].Readable && !met[facts[i].Source] {
			met[facts[i].Source] = true
			b.from[int64(facts[i].Source)]++
		}
	}
	b.record(len(b.files), f.versions)
	b.files = append(b.files, f)
}

// live returns the copy of a version that stands on the machine.
func (b *folderAdvice) live(v *trail.Version, facts []catalogue.Fact) int64 {
	for _, i := range v.Seen {
		if f := &facts[i]; f.Open && f.Readable && b.stores[int64(f.Source)].Source.Traits.Live() {
			return f.Copy
		}
	}
	return 0
}

func nano(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

func moment(n int64) time.Time { return time.Unix(0, n).UTC() }

// record lists what happened to a file.
func (b *folderAdvice) record(file int, versions []version) {
	for n := range versions {
		v := &versions[n]
		c := masschange.Change{File: file, Kind: masschange.Appeared, After: moment(v.arrived), At: moment(v.arrived)}
		if n > 0 && !versions[n-1].ends {
			if versions[n-1].content == v.content {
				continue
			}
			c.Kind = masschange.Rewritten
		}
		if !v.proved { // its write time says nothing, so it came at any time between two looks
			c.After, c.At = moment(min(v.arrived, cmp.Or(v.after, v.arrived))), moment(max(v.arrived, v.first))
		}
		b.changes = append(b.changes, c)
		if v.ends {
			b.changes = append(
				b.changes,
				masschange.Change{File: file, Kind: masschange.Removed, After: moment(v.lastSeen), At: moment(v.superseded)},
			)
		}
	}
}

func (b *folderAdvice) advise(facts []catalogue.Fact) error {
	noticed := b.q.Noticed
	if noticed.IsZero() || noticed.After(b.now) {
		noticed = b.now
	}
	if b.q.Loss == advice.Misplaced || b.q.Loss == advice.Deleted {
		if moved, err := b.moved(); err != nil || moved {
			return err
		}
	}
	if b.q.Loss == advice.Deleted {
		if whole, err := b.whole(facts, noticed); err != nil || whole {
			return err
		}
	}
	b.choose(noticed)
	b.Sealed = b.sealed()
	switch {
	case b.Sealed != "":
		if b.AsOf.IsZero() && b.q.Loss == advice.Damaged {
			b.Because, b.AsOf = nil, lastRight(b.q.Good, noticed)
		}
		if b.AsOf.IsZero() {
			return nil
		}
		return b.asOne(facts)
	case b.AsOf.IsZero() && (b.q.Loss == advice.Damaged || b.q.Loss == advice.Overwritten):
		return b.mend(noticed)
	case b.AsOf.IsZero():
		return nil
	}
	return b.entries(noticed)
}

// lastRight is when a folder was last right, or, where nobody said so, when the loss was noticed.
func lastRight(good, noticed time.Time) time.Time {
	if good.IsZero() || good.After(noticed) {
		return noticed
	}
	return good
}

// moved finds where the folder's files went, if most of them went to one place.
func (b *folderAdvice) moved() (bool, error) {
	const some = 12
	votes := map[place.Place]int{}
	asked := 0
	for _, f := range b.files {
		if last := f.versions[len(f.versions)-1]; last.superseded == 0 {
			return false, nil // something still stands there
		}
	}
	for _, f := range b.files[:min(some, len(b.files))] {
		asked++
		t, err := b.Trails.TrailNow(
			b.ctx,
			place.Place{Machine: b.q.Place.Machine, Path: place.Join(b.q.Place.Path, f.path)},
			trails.Present{At: b.now},
		)
		if err != nil {
			return false, err
		}
		if n := len(t.Versions) - 1; n >= 0 && t.Versions[n].Superseded.IsZero() {
			at := t.Versions[n].Place
			if rest := len(at.Path) - len(f.path) - 1; rest > 0 && at.Path[rest:] == "/"+f.path && at != t.Place {
				votes[place.Place{Machine: at.Machine, Path: at.Path[:rest]}]++
			}
		}
	}
	for to, n := range votes {
		if 2*n > asked {
			b.MovedTo, b.Costs = to, []string{"Nothing is lost by using it where it is; moving it back is up to the user."}
			if err := b.movedCopy(); err != nil {
				return false, err
			}
			b.Because = []string{
				fmt.Sprintf("It is not lost: the folder stands at %s; %d of the %d files looked at were followed there.", to, n, asked),
			}
			return true, nil
		}
	}
	return false, nil
}

// movedCopy finds the folder where it stands now among what was surveyed.
func (b *folderAdvice) movedCopy() error {
	facts, err := b.Site.Catalogue.FactsOf(b.ctx, b.stores, b.MovedTo)
	if err != nil {
		return err
	}
	for _, f := range facts {
		if f.Open && f.Type == entry.Folder && b.stores[int64(f.Source)].Source.Traits.Live() {
			b.Moved, err = b.Site.Catalogue.Copy(b.ctx, f.Copy)
		}
	}
	return err
}

// whole finds the folder as one item of a store, such as a trash.
func (b *folderAdvice) whole(facts []catalogue.Fact, noticed time.Time) (bool, error) {
	var best *catalogue.Fact
	for i := range facts {
		f := &facts[i]
		if f.Type == entry.Folder && f.Readable && !f.Gone.IsZero() && !f.Gone.After(noticed) && (best == nil || f.Gone.After(best.Gone)) {
			best = f
		}
	}
	if best == nil {
		return false, nil
	}
	c, err := b.Site.Catalogue.Copy(b.ctx, best.Copy)
	if err != nil {
		return false, err
	}
	b.Whole, b.AsOf = c, best.Gone
	s := b.stores[int64(best.Source)].Source
	b.Because = []string{
		fmt.Sprintf(
			"It is the folder itself as it was deleted on %s; it still lies whole in %s.",
			advice.Say(best.Gone, b.now, b.q.Zone),
			Name(s, b.q.Place.Machine),
		),
	}
	b.Costs = []string{"Nothing that is known of would be lost."}
	b.Bytes = max(0, c.Size)
	return true, nil
}

// Bring is what an answer recommends to bring back.
type Bring struct {
	Copies []int64
	To     *place.Place // nil: each to its own place
	At     time.Time    // of a folder that a store shows at many points in time: which; zero: the latest
}

// Bring returns what an answer recommends to bring back.
func (a *Answer) Bring() (Bring, error) {
	const what = "bring back what is recommended"
	switch {
	case a.Folder != nil && len(a.Folder.Copies()) > 0:
		return Bring{Copies: a.Folder.Copies(), To: a.Folder.Aside, At: a.Folder.WholeAt}, nil
	case a.Recommended != nil && a.Recommended.Copy.Live:
		return Bring{}, &site.InputError{
			What: what,
			Err:  fmt.Errorf("it stands at %s and is not lost", a.Recommended.Copy.Place),
			Next: "Tell the user where it is.",
		}
	case a.Recommended != nil:
		return Bring{Copies: []int64{a.Recommended.Copy.ID}, To: &a.Recommended.To}, nil
	}
	return Bring{}, &site.InputError{
		What: what,
		Err:  errors.New("nothing is recommended"),
		Next: "Read where we looked and what remains to be tried, or choose a copy yourself.",
	}
}
