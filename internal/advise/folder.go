package advise

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/masschange"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
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
	after                         int64
	size, copy                    int64
	content                       int32
	proved                        bool // its arrival is its write time
	ends                          bool // nothing took its place
}

type folderFile struct {
	path     string
	versions []version
}

// folder answers for a folder; ok is false where the place is none.
func (a *Adviser) folder(ctx context.Context, q Question, now time.Time) (answer Answer, ok bool, err error) {
	types, err := a.Site.Catalogue.TypesAt(ctx, q.Place)
	if err != nil || len(types) > 0 && !slices.Contains(types, plan.Folder) {
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
	g := &gathering{Adviser: a, ctx: ctx, q: q, t: &trails.Trail{Place: q.Place, Names: []trail.Name{{Place: q.Place}}, Facts: facts}, now: now, number: map[int64]int{}, all: stores}
	g.order()
	answer = Answer{Question: q, Stores: g.stores, Missing: g.missing(), Folder: b.Folder}
	for i, s := range g.stores {
		n := b.from[s.Source.ID]
		note := "Nothing in it is known to have come from there."
		if n > 0 {
			note = fmt.Sprintf("It has copies of %d files of the folder.", n)
		} else if s.Source.Trouble != "" {
			note = "It could not be read last: " + s.Source.Trouble + "."
		}
		answer.Looked = append(answer.Looked, advice.Looked{Source: i, Found: n > 0, Note: note})
	}
	answer.Notes = b.notes
	if len(b.Folder.Copies()) == 0 {
		answer.Because = b.Because
		answer.Next = []string{"Say when the folder was last right, so that each file can be held against that moment."}
	}
	return answer, true, ctx.Err()
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
	from    map[int64]int // files that a source has copies of
	notes   []string
}

// see takes up one place below the folder.
func (b *folderAdvice) see(rel string, t *trail.Trail, facts []catalogue.Fact) {
	f := folderFile{path: rel}
	for n := range t.Versions {
		v := &t.Versions[n]
		if v.Type != plan.File {
			continue
		}
		next := n + 1
		f.versions = append(f.versions, version{arrived: v.Arrived.UnixNano(), lastSeen: v.LastSeen.UnixNano(), superseded: nano(v.Superseded), after: nano(v.After), size: v.Size,
			copy: trails.ReadFrom(v, facts, b.stores), content: int32(v.Content), proved: v.Doubt == "" && v.Arrived.Equal(v.Written),
			ends: !v.Superseded.IsZero() && (next == len(t.Versions) || v.Superseded.Before(t.Versions[next].Arrived))})
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
		if !v.proved && v.after != 0 && v.after < v.arrived {
			c.After = moment(v.after)
		}
		b.changes = append(b.changes, c)
		if v.ends {
			b.changes = append(b.changes, masschange.Change{File: file, Kind: masschange.Removed, After: moment(v.lastSeen), At: moment(v.superseded)})
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
	if b.AsOf.IsZero() {
		return nil
	}
	return b.entries()
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
		t, err := b.Trails.TrailNow(b.ctx, place.Place{Machine: b.q.Place.Machine, Path: place.Join(b.q.Place.Path, f.path)}, trails.Look{Now: b.now})
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
			b.Because = []string{fmt.Sprintf("It is not lost: the folder stands at %s; %d of the %d files looked at were followed there.", to, n, asked)}
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
		if f.Open && f.Type == plan.Folder && b.stores[int64(f.Source)].Source.Live {
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
		if f.Type == plan.Folder && f.Readable && !f.Gone.IsZero() && !f.Gone.After(noticed) && (best == nil || f.Gone.After(best.Gone)) {
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
	b.Because = []string{fmt.Sprintf("It is the folder itself as it was deleted on %s; %s still has it whole.", advice.Say(best.Gone, b.now, b.q.Zone), Name(s, b.q.Place.Machine))}
	b.Costs = []string{"Nothing that is known of would be lost."}
	b.Bytes = max(0, c.Size)
	return true, nil
}

// choose picks the moment: right before the mass change, or when it was last right.
func (b *folderAdvice) choose(noticed time.Time) {
	all := masschange.Find(b.changes)
	all = slices.DeleteFunc(all, func(m masschange.Mass) bool {
		return m.From.After(noticed) || !m.To.After(b.q.Good) && !b.q.Good.IsZero()
	})
	say := func(t time.Time) string { return advice.Say(t, b.now, b.q.Zone) }
	switch {
	case len(all) > 0:
		m := all[len(all)-1]
		if !b.q.Good.IsZero() {
			m = all[0] // the first after it was right
		}
		b.Mass, b.AsOf = &m, m.Before
		b.Because = []string{fmt.Sprintf("From %s on, within %s, %s; that is far from what is usual in this folder of %d files.",
			say(m.From), lasted(m.To.Sub(m.From)), happened(&m), len(b.files)),
			fmt.Sprintf("The moment right before it is offered: %s.", say(m.Before))}
	case !b.q.Good.IsZero():
		b.AsOf = b.q.Good
		b.Because = []string{fmt.Sprintf("No mass change is known; the folder as it stood on %s is offered, when it was last right.", say(b.q.Good))}
	default:
		b.Because = []string{"No mass change is known in this folder, and nobody said when it was last right."}
	}
}

func happened(m *masschange.Mass) string {
	s := ""
	add := func(n int, one, many string) {
		if n == 0 {
			return
		}
		if s != "" {
			s += " and "
		}
		s += files(n, one, many)
	}
	add(m.Rewritten, "was rewritten", "were rewritten")
	add(m.Removed, "was removed", "were removed")
	add(m.Came, "appeared", "appeared")
	return s
}

// files counts files and says what they did.
func files(n int, one, many string) string {
	if n == 1 {
		return "1 file " + one
	}
	return fmt.Sprintf("%d files %s", n, many)
}

func lasted(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%d seconds", int(d.Seconds())+1)
	case d < 2*time.Hour:
		return fmt.Sprintf("%d minutes", int(d.Minutes())+1)
	}
	return fmt.Sprintf("%d hours", int(d.Hours())+1)
}

// at returns the index of the version that stood at a moment, -1 where none did, and whether that is proved.
func (f *folderFile) at(moment int64) (int, bool) {
	for n := len(f.versions) - 1; n >= 0; n-- {
		v := &f.versions[n]
		if v.arrived > moment {
			continue
		}
		if v.superseded != 0 && moment >= v.superseded {
			return -1, true
		}
		return n, moment <= v.lastSeen
	}
	return -1, true
}

// entries gives each file its own best copy.
func (b *folderAdvice) entries() error {
	s := &sample{b: b, left: sampleBytes}
	for i := range b.files {
		f := &b.files[i]
		e, err := b.entry(i, f, s)
		if err != nil {
			return err
		}
		if e.Part == "" {
			b.Same++
			continue
		}
		e.Path, e.Place = f.path, place.Place{Machine: b.q.Place.Machine, Path: place.Join(b.q.Place.Path, f.path)}
		b.Counts[e.Part]++
		if e.Copy != 0 {
			b.Bytes += max(0, e.Size)
		}
		b.Entries = append(b.Entries, e)
	}
	slices.SortFunc(b.Entries, func(x, y FolderEntry) int { return cmp.Compare(x.Path, y.Path) })
	b.account(s)
	return nil
}

func (b *folderAdvice) entry(i int, f *folderFile, s *sample) (FolderEntry, error) {
	n, proved := f.at(b.AsOf.UnixNano())
	last := len(f.versions) - 1
	stands := f.versions[last].superseded == 0
	hit := b.Mass == nil || b.Mass.Hit[i]
	if n < 0 {
		if b.Mass != nil && b.Mass.New[i] && stands {
			return FolderEntry{Part: Came, Size: f.versions[last].size, Note: "It appeared with the mass change."}, nil
		}
		return FolderEntry{}, nil // later work, or long gone
	}
	v := &f.versions[n]
	if stands && f.versions[last].content == v.content || !hit {
		return FolderEntry{}, nil
	}
	if stands {
		harmless, why, err := s.harmless(f, n, b.Mass)
		if err != nil {
			return FolderEntry{}, err
		}
		if harmless {
			return FolderEntry{Part: Kept, Size: f.versions[last].size, Note: why}, nil
		}
	}
	for k := n; k >= 0; k-- {
		if old := &f.versions[k]; old.copy != 0 {
			e := FolderEntry{Part: Certain, Copy: old.copy, Size: old.size}
			if k < n {
				e.Part, e.Note = Assumed, fmt.Sprintf("Of what stood there then only the record is left; this is the version before, of %s.", advice.Say(moment(old.arrived), b.now, b.q.Zone))
			} else if !proved {
				e.Part, e.Note = Assumed, fmt.Sprintf("Nobody looked between %s and then.", advice.Say(moment(v.lastSeen), b.now, b.q.Zone))
			}
			return e, nil
		}
	}
	return FolderEntry{Part: Missing, Size: v.size, Note: "No copy of it can be read any more."}, nil
}

// CopiesFor returns what an answer recommends to bring back and where to; nil places mean each to its own.
func (a *Answer) CopiesFor() (ids []int64, to *place.Place, err error) {
	switch {
	case a.Folder != nil && len(a.Folder.Copies()) > 0:
		return a.Folder.Copies(), nil, nil
	case a.Recommended != nil && a.Recommended.Copy.Live:
		return nil, nil, &site.InputError{What: "bring back what is recommended", Err: fmt.Errorf("it stands at %s and is not lost", a.Recommended.Copy.Place), Next: "Tell the user where it is."}
	case a.Recommended != nil:
		return []int64{a.Recommended.Copy.ID}, &a.Recommended.To, nil
	}
	return nil, nil, &site.InputError{What: "bring back what is recommended", Err: errors.New("nothing is recommended"), Next: "Read where we looked and what remains to be tried, or choose a copy yourself."}
}
