package advise

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
)

// Strength is what an origin is known by, strongest first.
type Strength string

// The strengths.
const (
	ByDigest  Strength = "digest"
	BySize    Strength = "size-and-name"
	BySimilar Strength = "similar"
	ByName    Strength = "name"
)

var strengths = []Strength{ByDigest, BySize, BySimilar, ByName}

// Origin is a place that a copy likely came from.
type Origin struct {
	Place    place.Place
	Strength Strength
	Evidence []string
	gone     bool
	share    float64
}

// maxOrigins bounds how many likely origins are named.
const maxOrigins = 10

// Origins says where a copy without a recorded origin likely came from, likeliest first: the same content, else the same
// size and name, else similar content. Where several fit alike, those come first at which nothing stands any more.
func (a *Adviser) Origins(ctx context.Context, c catalogue.Copy, zone *time.Location) ([]Origin, error) {
	stores, err := a.Site.Catalogue.Stores(ctx)
	if err != nil {
		return nil, err
	}
	o := &originSearch{Adviser: a, ctx: ctx, c: c, stores: stores, zone: zone, found: map[place.Place]*Origin{}}
	if c.Type == entry.File && c.Readable && c.SHA256 == "" && c.Size <= digestStray {
		var f catalogue.Fact
		f.Copy = c.ID
		if o.c.SHA256, err = a.digestOf(ctx, f); err != nil {
			return nil, err
		}
	}
	if err := o.search(); err != nil {
		return nil, err
	}
	var all []Origin
	for _, found := range o.found {
		all = append(all, *found)
	}
	slices.SortFunc(all, func(x, y Origin) int {
		return cmp.Or(
			cmp.Compare(slices.Index(strengths, x.Strength), slices.Index(strengths, y.Strength)),
			advice.Behind(!x.gone, !y.gone),
			cmp.Compare(y.share, x.share),
			cmp.Compare(x.Place.String(), y.Place.String()),
		)
	})
	return all[:min(maxOrigins, len(all))], ctx.Err()
}

type originSearch struct {
	*Adviser
	ctx    context.Context
	c      catalogue.Copy
	stores map[int64]*catalogue.Store
	zone   *time.Location
	found  map[place.Place]*Origin
}

func (o *originSearch) search() error {
	lies := o.c.LiesAt()
	if o.c.SHA256 != "" && o.c.Size > 0 {
		same, err := o.Site.Catalogue.FactsByDigest(o.ctx, o.stores, o.c.SHA256, maxElsewhere)
		if err != nil {
			return err
		}
		for _, f := range same {
			if err := o.add(f, lies, ByDigest, 1, sameBytes); err != nil {
				return err
			}
		}
	}
	name := place.Name(lies.Path)
	named, err := o.Site.Catalogue.FactsNamed(o.ctx, o.stores, name, maxElsewhere)
	if err != nil {
		return err
	}
	if plain := plainName(name); plain != name {
		more, err := o.Site.Catalogue.FactsNamed(o.ctx, o.stores, plain, maxElsewhere)
		if err != nil {
			return err
		}
		named = append(named, more...)
	}
	reads := 0
	for _, f := range named {
		if f.Type != o.c.Type || o.found[f.Place] != nil && o.found[f.Place].Strength == ByDigest {
			continue
		}
		if f.Size == o.c.Size && o.c.Type == entry.File && (f.SHA256 == "" || o.c.SHA256 == "") {
			by, why := BySize, fmt.Sprintf("A file of the same name and of the same %d bytes was there.", f.Size)
			if reads++; reads <= maxAlike && f.Readable && o.c.SHA256 != "" {
				sum, err := o.digestOf(o.ctx, f)
				if err != nil {
					return err
				}
				if sum == o.c.SHA256 {
					by, why = ByDigest, sameBytes
				}
			}
			if err := o.add(f, lies, by, 1, why); err != nil {
				return err
			}
			continue
		}
		share := 0.0
		if reads++; reads <= maxAlike && f.Readable && o.c.Readable && o.c.Type == entry.File {
			if _, share, err = o.Contents.Shares(o.ctx, f.Copy, o.c.ID); err != nil {
				return err
			}
		}
		const alike = 0.5
		if share >= alike {
			err = o.add(
				f,
				lies,
				BySimilar,
				share,
				fmt.Sprintf("A file of the same name was there that has %.0f %% of its content.", 100*share),
			)
		} else {
			err = o.add(f, lies, ByName, share, "Something of the same name was there; its content does not say more.")
		}
		if err != nil {
			return err
		}
	}
	return nil
}

const sameBytes = "The same content was there, byte for byte."

// numbered is what trashes and copies put into a name to tell it from another: plan.2.odt, plan.odt.2, plan (2).odt.
var numbered = regexp.MustCompile(`^(.+?)(?:\.\d+| \(\d+\))(\.[^.]+)?$`)

// plainName takes off such a number.
func plainName(name string) string {
	if parts := numbered.FindStringSubmatch(name); parts != nil {
		return parts[1] + parts[2]
	}
	return name
}

func (o *originSearch) add(f catalogue.Fact, lies place.Place, by Strength, share float64, why string) error {
	s := o.stores[int64(f.Source)]
	if s == nil || f.Place == lies || f.Copy == o.c.ID || o.c.OriginKnown && f.Place == o.c.Place {
		return nil
	}
	if known := o.found[f.Place]; known != nil {
		if slices.Index(strengths, by) < slices.Index(strengths, known.Strength) {
			known.Strength, known.share, known.Evidence = by, share, append([]string{why}, known.Evidence...)
		}
		return nil
	}
	origin := &Origin{Place: f.Place, Strength: by, Evidence: []string{why}, share: share}
	facts, err := o.Site.Catalogue.FactsOf(o.ctx, o.stores, f.Place)
	if err != nil {
		return err
	}
	if len(facts) == 0 {
		return nil // of unknown origin itself
	}
	o.history(origin, facts)
	o.found[f.Place] = origin
	return nil
}

// history adds what is known of the place: whether something stands there, until when it was seen, when it was deleted.
func (o *originSearch) history(origin *Origin, facts []catalogue.Fact) {
	now := o.Now()
	var last, gone time.Time
	stands := false
	for _, f := range facts {
		s := o.stores[int64(f.Source)]
		if s.Source.Traits.Live() && f.Open {
			stands = true
		}
		if s.Trail.Shows && f.Last.After(last) {
			last = f.Last
		}
		if f.Gone.After(gone) {
			gone = f.Gone
		}
	}
	origin.gone = !stands
	switch {
	case stands:
		origin.Evidence = append(origin.Evidence, "Something is there now.")
	case !gone.IsZero():
		origin.Evidence = append(
			origin.Evidence,
			fmt.Sprintf("It was deleted from there on %s, and nothing is there now.", advice.Say(gone, now, o.zone)),
		)
	case !last.IsZero():
		origin.Evidence = append(
			origin.Evidence,
			fmt.Sprintf("It was last seen there on %s, and nothing is there now.", advice.Say(last, now, o.zone)),
		)
	}
}
