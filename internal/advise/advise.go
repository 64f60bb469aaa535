// Package advise gathers what all sources know of a lost file, reads what has to be read, and lets package advice choose
// the right copy.
package advise

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/stray"
	"humble-rewind/internal/examine"
	"humble-rewind/internal/site"
	"humble-rewind/internal/trails"
)

// Adviser gives advice at a site. It is safe for concurrent use.
type Adviser struct {
	Site     *site.Site
	Trails   *trails.Reader
	Examiner *examine.Examiner
	Rules    stray.Rules
	Now      func() time.Time
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
	Trail    trails.Trail
	Stores   []*catalogue.Store // what Looked counts
	Missing  []string           // kinds of sources of which the machine has none, in the order of the work
	Folder   *Folder            // for a folder
}

// Advise answers. What reads no content for too long, or cannot be read at all, is passed over with the reason; an error
// means that the question makes no sense or the records cannot be read.
func (a *Adviser) Advise(ctx context.Context, q Question) (Answer, error) {
	if _, err := a.Site.Catalogue.Machine(ctx, q.Place.Machine); err != nil {
		return Answer{}, &site.InputError{What: fmt.Sprintf("advise on %s", q.Place), Err: err, Next: "List the machines with: humble-rewind machine list"}
	}
	now := a.Now()
	if q.Zone == nil {
		q.Zone = time.UTC
	}
	if folder, ok, err := a.folder(ctx, q, now); ok || err != nil {
		return folder, err
	}
	t, err := a.Trails.TrailNow(ctx, q.Place, trails.Look{Now: now, Reread: q.Loss == advice.Damaged})
	if err != nil {
		return Answer{}, err
	}
	g := &gathering{Adviser: a, ctx: ctx, q: q, t: &t, now: now, number: map[int64]int{}}
	ev, err := g.evidence()
	if err != nil {
		return Answer{}, err
	}
	r := &reading{Adviser: a, ctx: ctx, t: &t, contents: map[int64]content{}}
	answer := Answer{Advice: advice.Advise(q.Question, ev, r), Question: q, Trail: t, Stores: g.stores, Missing: g.missing()}
	answer.Notes = append(answer.Notes, t.Notes...)
	return answer, ctx.Err()
}

// gathering puts the evidence together.
type gathering struct {
	*Adviser
	ctx    context.Context
	q      Question
	t      *trails.Trail
	now    time.Time
	all    map[int64]*catalogue.Store
	stores []*catalogue.Store // as the evidence counts them
	number map[int64]int      // by source number
}

func (g *gathering) evidence() (advice.Evidence, error) {
	ev := advice.Evidence{Place: g.q.Place, Trail: g.t.Trail, Now: g.now, Zone: g.q.Zone}
	var err error
	if g.all, err = g.Site.Catalogue.Stores(g.ctx); err != nil {
		return ev, err
	}
	g.order()
	for _, f := range g.t.Facts {
		ev.Seen = append(ev.Seen, f.Seen)
		ev.Copies = append(ev.Copies, g.copyOf(f, g.t.Stores[f.Source]))
	}
	if ev.Strays, ev.Locks, err = g.strays(); err != nil {
		return ev, err
	}
	if ev.Elsewhere, err = g.elsewhere(); err != nil {
		return ev, err
	}
	ev.Sources = g.sources()
	ev.Neighbours, err = g.neighbours()
	return ev, err
}

// neighbours lists what stands beside the place under its name with another extension.
func (g *gathering) neighbours() ([]advice.Neighbour, error) {
	const some = 50
	stem := func(name string) string { return strings.TrimSuffix(name, path.Ext(name)) }
	own := g.q.Place
	facts, err := g.Site.Catalogue.FactsLike(g.ctx, g.all, own.Machine, stem(own.Name()), some)
	if err != nil {
		return nil, err
	}
	var all []advice.Neighbour
	for _, f := range facts {
		if place.Folder(f.Place.Path) == place.Folder(own.Path) && f.Place != own && stem(f.Name) == stem(own.Name()) {
			all = append(all, advice.Neighbour{Name: place.Readable(f.Name), Written: f.Written})
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
		if machines[s.Source.Machine] {
			g.stores = append(g.stores, s)
		}
	}
	slices.SortFunc(g.stores, func(a, b *catalogue.Store) int {
		if d := rank[a.Source.Kind] - rank[b.Source.Kind]; d != 0 {
			return d
		}
		return int(a.Source.ID - b.Source.ID)
	})
	for i, s := range g.stores {
		g.number[s.Source.ID] = i
	}
}

// missing lists the kinds of sources that the machine has none of.
func (g *gathering) missing() []string {
	var none []string
	for _, kind := range g.Site.Kinds {
		if !slices.ContainsFunc(g.stores, func(s *catalogue.Store) bool { return s.Source.Kind == kind.Name() }) {
			none = append(none, kind.Name())
		}
	}
	return none
}

// copyOf describes a fact as a copy.
func (g *gathering) copyOf(f catalogue.Fact, s *catalogue.Store) advice.Copy {
	c := advice.Copy{ID: f.Copy, Kind: s.Source.Kind, Source: -1, Live: s.Source.Live, Remote: s.Source.AtMachine != f.Place.Machine, Verified: f.SHA256 != "", Place: f.Place}
	if i, ok := g.number[s.Source.ID]; ok {
		c.Source = i
	}
	if !f.Readable {
		c.Reach = advice.Recorded
	}
	if !f.Gone.IsZero() && s.Source.RetentionDays > 0 {
		c.Expires = f.Gone.AddDate(0, 0, s.Source.RetentionDays)
	}
	return c
}

// sources describes the stores that were asked.
func (g *gathering) sources() []advice.Source {
	all := make([]advice.Source, len(g.stores))
	for i, s := range g.stores {
		all[i] = advice.Source{Name: Name(s.Source, g.q.Place.Machine), Kind: s.Source.Kind, Captures: s.Captures, Covers: slices.Contains(g.t.Covers, s.Source.ID),
			Trouble: s.Source.Trouble, Keeps: s.Source.RetentionDays, Excluded: excluded(s.Source.Exclusions, g.q.Place.Path)}
		if len(s.Captures) == 0 && !s.Source.SurveyedAt.IsZero() {
			all[i].Captures = []time.Time{s.Source.SurveyedAt}
		}
	}
	return all
}

// Name says which source one is, for the middle of a sentence.
func Name(s catalogue.Source, machine string) string {
	at := place.Readable(s.At)
	if s.AtMachine != machine {
		at = s.AtMachine + ":" + at
	}
	switch {
	case s.Live:
		return "the machine's own files below " + at
	case s.Drive != "":
		return fmt.Sprintf("the %s of the drive %s", s.Kind, place.Readable(s.Drive))
	}
	return fmt.Sprintf("the %s at %s", s.Kind, at)
}

// excluded returns the pattern that leaves a place out.
func excluded(patterns []string, at string) string {
	for _, p := range patterns {
		for dir := at; dir != "/"; dir = place.Folder(dir) {
			subject := place.Name(dir)
			if p[0] == '/' {
				subject = dir
			}
			if ok, _ := path.Match(p, subject); ok {
				return p
			}
		}
	}
	return ""
}

// Bounds of looking for a file elsewhere.
const (
	maxElsewhere = 200
	maxAlike     = 12
)

// elsewhere finds where the file may stand now, outside the places of its trail.
func (g *gathering) elsewhere() ([]advice.Elsewhere, error) {
	last := g.contents()
	if len(last) == 0 {
		return nil, nil
	}
	var found []advice.Elsewhere
	met := map[place.Place]bool{}
	for _, n := range g.t.Names {
		met[n.Place] = true
	}
	add := func(f catalogue.Fact, proved, newer bool, why string) {
		s := g.all[int64(f.Source)]
		if s == nil || !s.Source.Live || !f.Open || met[f.Place] {
			return
		}
		met[f.Place] = true
		found = append(found, advice.Elsewhere{Copy: g.copyOf(f, s), Size: f.Size, SHA256: f.SHA256, Why: why, Proved: proved, Newer: newer, At: f.Written})
	}
	for _, v := range last {
		if v.SHA256 != "" {
			facts, err := g.Site.Catalogue.FactsByDigest(g.ctx, g.all, v.SHA256, maxElsewhere)
			if err != nil {
				return nil, err
			}
			for _, f := range facts {
				add(f, true, false, "The same content stands there, byte for byte.")
			}
		}
	}
	if g.q.Loss != advice.Misplaced && g.q.Loss != advice.Deleted {
		return found, nil
	}
	if err := g.twins(last, add); err != nil || g.q.Loss == advice.Deleted {
		return found, err
	}
	if err := g.sameSize(last, add); err != nil {
		return nil, err
	}
	return found, g.sameName(last[0], add)
}

// contents are the last contents known of the file, newest first.
func (g *gathering) contents() (last []catalogue.Fact) {
	const some = 3
	met := map[int]bool{}
	for n := len(g.t.Versions) - 1; n >= 0 && len(last) < some; n-- {
		v := &g.t.Versions[n]
		if v.Type != plan.File || v.Size == 0 || met[v.Content] {
			continue
		}
		met[v.Content] = true
		f := g.t.Facts[v.Seen[0]]
		for _, i := range v.Seen {
			if g.t.Facts[i].Readable {
				f = g.t.Facts[i]
			}
		}
		f.SHA256 = v.SHA256
		last = append(last, f)
	}
	return last
}

type addElsewhere func(f catalogue.Fact, proved, newer bool, why string)

// twins reads what stands anywhere with the size and the write time of one of the contents, as a file has that was only
// moved, or dragged out of a trash.
func (g *gathering) twins(last []catalogue.Fact, add addElsewhere) error {
	const some = 20
	for _, v := range last {
		facts, err := g.Site.Catalogue.Twins(g.ctx, g.all, v, some)
		if err != nil {
			return err
		}
		for _, f := range facts {
			if v.SHA256 == "" || !f.Open || f.Size > digestStray {
				continue
			}
			if err := g.addSame(f, v, add); err != nil {
				return err
			}
		}
	}
	return nil
}

// addSame adds a file whose bytes turn out to be the same.
func (g *gathering) addSame(f, v catalogue.Fact, add addElsewhere) error {
	sum, err := g.digest(f)
	if err == nil && sum == v.SHA256 {
		f.SHA256 = sum
		add(f, true, false, "The same content stands there, byte for byte.")
	}
	return err
}

// sameSize reads what stands anywhere and has the size of one of the contents: a copy may carry any name and time.
func (g *gathering) sameSize(last []catalogue.Fact, add addElsewhere) error {
	for _, v := range last {
		if v.SHA256 == "" {
			continue
		}
		facts, err := g.Site.Catalogue.FactsOfSize(g.ctx, g.all, v.Size, maxElsewhere)
		if err != nil {
			return err
		}
		for _, f := range facts {
			if f.SHA256 != "" || f.Size > digestStray {
				continue
			}
			if err := g.addSame(f, v, add); err != nil {
				return err
			}
		}
	}
	return nil
}

// sameName holds what stands anywhere under the same name against the last content.
func (g *gathering) sameName(last catalogue.Fact, add addElsewhere) error {
	facts, err := g.Site.Catalogue.FactsNamed(g.ctx, g.all, g.q.Place.Name(), maxElsewhere)
	if err != nil {
		return err
	}
	n := 0
	for _, f := range facts {
		if !f.Open || f.Type != plan.File || f.Place == g.q.Place || !g.all[int64(f.Source)].Source.Live {
			continue
		}
		if n++; n > maxAlike {
			return nil
		}
		shared, _, err := g.Trails.Shares(g.ctx, last.Copy, f.Copy)
		if err != nil {
			return err
		}
		const descendant = 0.6
		if shared >= descendant && f.First.After(last.First) {
			add(f, true, true, fmt.Sprintf("It has the same name and %.0f %% of the last content known, and came up after that.", 100*shared))
		} else {
			add(f, false, false, fmt.Sprintf("It has the same name, and %.0f %% of the content.", 100*shared))
		}
	}
	return nil
}

func (g *gathering) digest(f catalogue.Fact) (string, error) { return g.digestOf(g.ctx, f) }

// digestOf reads a fact's file and keeps its digest; "" where it cannot be read.
func (a *Adviser) digestOf(ctx context.Context, f catalogue.Fact) (string, error) {
	if f.SHA256 != "" {
		return f.SHA256, nil
	}
	c, err := a.Site.Catalogue.Copy(ctx, f.Copy)
	if err != nil {
		return "", err
	}
	sum, err := a.Trails.Digest(ctx, c)
	if err != nil {
		return "", ctx.Err()
	}
	return fmt.Sprintf("%x", sum), a.Site.Catalogue.SetDigest(ctx, f.Copy, sum)
}
