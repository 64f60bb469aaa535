// Package choosing gathers what all sources know of a lost file, reads what has to be read, and lets package advice choose
// the right copy.
package choosing

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/stray"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/past"
	"humble-rewind/internal/site"
)

// Adviser gives advice at a site. It is safe for concurrent use.
type Adviser struct {
	Site     *site.Site
	Past     *past.Reader
	Contents *contents.Reader
	Examiner *contents.Examiner
	Rules    stray.Rules
	Now      func() time.Time
}

// For returns one that gives advice from what somebody else may know.
func (a *Adviser) For(view catalogue.View) *Adviser {
	other := *a
	other.Past = a.Past.For(view)
	return &other
}

// Question is what is asked of a place. Times in the answer are said in Zone.
type Question struct {
	advice.Question
	Place place.Place
	Zone  *time.Location
}

// Answer is the advice with what it speaks of.
type Answer struct {
	advice.Advice
	Question Question
	Trail    past.Trail
	Stores   []*copies.Store // what Looked counts
	Missing  []string        // kinds of sources of which the machine has none, in the order of the work
	Folder   *Folder         // for a folder
}

// Advise answers. What reads no content for too long, or cannot be read at all, is passed over with the reason; an error
// means that the question makes no sense or the records cannot be read.
func (a *Adviser) Advise(ctx context.Context, q Question) (Answer, error) {
	if _, err := a.Past.View.Machines.Named(ctx, q.Place.Machine); err != nil {
		return Answer{}, &problem.Input{
			What: fmt.Sprintf("advise on %s", q.Place),
			Err:  err,
			Next: "List the machines.",
			Do:   []problem.Step{{Do: problem.ListMachines}},
		}
	}
	now := a.Now()
	if q.Zone == nil {
		q.Zone = time.UTC
	}
	if folder, ok, err := a.folder(ctx, q, now); ok || err != nil {
		return folder, err
	}
	t, err := a.Past.TrailNow(ctx, q.Place, past.Present{At: now, Reread: q.Loss == advice.Damaged})
	if err != nil {
		return Answer{}, err
	}
	g := &gathering{Adviser: a, ctx: ctx, q: q, t: &t, now: now, number: map[copies.SourceID]int{}}
	ev, err := g.evidence()
	if err != nil {
		return Answer{}, err
	}
	r := a.reading(ctx, q.Place, g.all)
	strays := make([]copies.ID, len(ev.Strays))
	for i := range ev.Strays {
		strays[i] = ev.Strays[i].Copy.ID
	}
	if err := r.know(strays); err != nil {
		return Answer{}, err
	}
	answer := Answer{Advice: advice.Advise(q.Question, ev, r), Question: q, Trail: t, Stores: g.stores, Missing: g.missing()}
	folder, why, err := a.Past.SealedAbove(ctx, q.Place)
	if err != nil {
		return answer, err
	}
	if why != "" {
		answer.whole(folder, why)
	}
	if err := a.withLog(ctx, &answer); err != nil {
		return answer, err
	}
	answer.Notes = append(answer.Notes, t.Notes...)
	return answer, ctx.Err()
}

// gathering puts the evidence together.
type gathering struct {
	*Adviser
	ctx    context.Context
	q      Question
	t      *past.Trail
	now    time.Time
	all    map[copies.SourceID]*copies.Store
	stores []*copies.Store // as the evidence counts them
	number map[copies.SourceID]int
}

func (g *gathering) evidence() (advice.Evidence, error) {
	ev := advice.Evidence{Place: g.q.Place, Trail: g.t.Trail, Now: g.now}
	if len(ev.Trail.Versions) == 0 {
		ev.Trail = g.onBesides(ev.Trail)
	}
	var err error
	if g.all, err = g.Past.View.Copies.Stores(g.ctx); err != nil {
		return ev, err
	}
	g.order()
	for _, f := range g.t.Seen {
		ev.Seen = append(ev.Seen, f)
		ev.Copies = append(ev.Copies, g.candidate(f))
	}
	if ev.Strays, ev.Locks, err = g.strays(); err != nil {
		return ev, err
	}
	if ev.Elsewhere, err = g.elsewhere(); err != nil {
		return ev, err
	}
	if ev.Sources, err = g.sources(); err != nil {
		return ev, err
	}
	ev.Neighbours, err = g.neighbours()
	return ev, err
}

// onBesides makes the line of a file that is known from beside lines alone, such as from another branch: it must have stood there once.
// What programs left behind proves nothing of the kind.
func (g *gathering) onBesides(t trail.Trail) trail.Trail {
	left := func(v trail.Version) bool {
		return !slices.ContainsFunc(v.Seen, func(i int) bool { return !g.t.Seen[i].Store.Traits.Leftovers })
	}
	t.Versions = slices.DeleteFunc(slices.Clone(t.Beside), left)
	t.Beside = slices.DeleteFunc(slices.Clone(t.Beside), func(v trail.Version) bool { return !left(v) })
	for n := range t.Versions {
		v := &t.Versions[n]
		v.Superseded = v.Arrived.Add(1)
		if n+1 < len(t.Versions) {
			v.Superseded = t.Versions[n+1].Arrived
		}
	}
	return t
}

// neighbours lists what stands beside the place under its name with another extension.
func (g *gathering) neighbours() ([]advice.Neighbour, error) {
	const some = 50
	stem := func(name string) string { return strings.TrimSuffix(name, path.Ext(name)) }
	own := g.q.Place
	seen, err := g.Past.View.Search.Like(g.ctx, own.Machine, stem(own.Name()), some)
	if err != nil {
		return nil, err
	}
	var all []advice.Neighbour
	for _, f := range seen {
		if place.Folder(f.Place.Path) == place.Folder(own.Path) && f.Place != own && stem(f.Place.Name()) == stem(own.Name()) {
			all = append(all, advice.Neighbour{Name: place.Readable(f.Place.Name()), Written: f.Written})
		}
	}
	return all, nil
}

// order counts the sources of the machine in the order of the work: by kinds as they are registered, then by number.
func (g *gathering) order() {
	machines := map[string]bool{g.q.Place.Machine: true}
	for _, n := range g.t.Names {
		machines[n.Place.Machine] = true
	}
	rank := map[string]int{}
	for i, kind := range g.Site.Kinds {
		rank[kind.Name()] = i
	}
	for _, s := range g.all {
		if machines[s.Machine] {
			g.stores = append(g.stores, s)
		}
	}
	slices.SortFunc(g.stores, func(a, b *copies.Store) int {
		if d := rank[a.Kind] - rank[b.Kind]; d != 0 {
			return d
		}
		return cmp.Compare(a.ID, b.ID)
	})
	for i, s := range g.stores {
		g.number[s.ID] = i
	}
}

// missing lists the kinds of sources that every machine is expected to have and that this one has none of.
func (g *gathering) missing() []string {
	var none []string
	for _, kind := range g.Site.Kinds {
		if kind.Traits().Usual && !slices.ContainsFunc(g.stores, func(s *copies.Store) bool { return s.Kind == kind.Name() }) {
			none = append(none, kind.Name())
		}
	}
	return none
}

// candidate makes one of a copy.
func (g *gathering) candidate(c *copies.Copy) advice.Candidate {
	i, ok := g.number[c.Store.ID]
	if !ok {
		i = -1
	}
	return advice.CandidateOf(c, i)
}

// sources describes the stores that were asked.
func (g *gathering) sources() ([]advice.Source, error) {
	since, err := g.folderSince()
	if err != nil {
		return nil, err
	}
	all := make([]advice.Source, len(g.stores))
	for i, s := range g.stores {
		all[i] = advice.Source{
			Name:     Name(&s.Source, g.q.Place.Machine),
			Captures: s.Captures,
			Covers:   slices.Contains(g.t.Covers, s.ID),
			Trouble:  s.Trouble,
			Keeps:    s.RetentionDays,
			Excluded: exclude.Within(s.Exclusions, g.q.Place.Path, "/"),
		}
		if len(s.Captures) == 0 && !s.SurveyedAt.IsZero() {
			all[i].Captures = []time.Time{s.SurveyedAt}
		}
		if first := since[s.ID]; len(s.Captures) > 0 && first.After(s.Captures[0]) {
			all[i].Since = first
		}
	}
	return all, nil
}

// folderSince says from when on each source shows the folder that the place is in.
func (g *gathering) folderSince() (map[copies.SourceID]time.Time, error) {
	seen, err := g.Past.View.Copies.At(g.ctx, place.Place{Machine: g.q.Place.Machine, Path: place.Folder(g.q.Place.Path)})
	if err != nil {
		return nil, err
	}
	since := map[copies.SourceID]time.Time{}
	for _, f := range seen {
		if first, ok := since[f.Store.ID]; !ok || f.First.Before(first) {
			since[f.Store.ID] = f.First
		}
	}
	return since, nil
}

// Name says which source one is, for the middle of a sentence.
func Name(s *copies.Source, machine string) string {
	at := place.Readable(s.At)
	if s.AtMachine != machine {
		at = s.AtMachine + ":" + at
	}
	switch {
	case s.Traits.Live():
		return "the machine's own files below " + at
	case s.Drive != "":
		return fmt.Sprintf("the %s of the drive %s", s.Kind, place.Readable(s.Drive))
	}
	return fmt.Sprintf("the %s at %s", s.Kind, at)
}

// digest reads a copy's file and keeps its digest; unknown where it cannot be read.
func (a *Adviser) digest(ctx context.Context, c *copies.Copy) (digest.Sum, error) {
	sum, err := a.Contents.DigestKept(ctx, c)
	if err != nil {
		return digest.Sum{}, ctx.Err()
	}
	return sum, nil
}
