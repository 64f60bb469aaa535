package choosing

import (
	"cmp"
	"context"
	"regexp"
	"slices"
	"time"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
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
	Evidence []advice.Reason
	gone     bool
	share    float64
}

// maxOrigins bounds how many likely origins are named.
const maxOrigins = 10

// Origins says where a copy without a recorded origin likely came from, likeliest first: the same content, else the same
// size and name, else similar content. Where several fit alike, those come first at which nothing stands any more.
func (a *Adviser) Origins(ctx context.Context, c *copies.Copy) ([]Origin, error) {
	stores, err := a.Past.View.Copies.Stores(ctx)
	if err != nil {
		return nil, err
	}
	o := &originSearch{Adviser: a, ctx: ctx, c: c, sum: c.SHA256, stores: stores, found: map[place.Place]*Origin{}}
	if c.Type == entry.File && c.Readable && !c.SHA256.Known() && c.Size <= digestStray {
		if o.sum, err = a.digest(ctx, c); err != nil {
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
	c      *copies.Copy
	sum    digest.Sum // of its content
	stores map[copies.SourceID]*copies.Store
	found  map[place.Place]*Origin
}

func (o *originSearch) search() error {
	lies := o.c.LiesAt()
	if o.sum.Known() && o.c.Size > 0 {
		same, err := o.Past.View.Search.WithDigest(o.ctx, o.sum, maxElsewhere)
		if err != nil {
			return err
		}
		for _, f := range same {
			if err := o.add(f, lies, ByDigest, 1, remark.New("origin-bytes")); err != nil {
				return err
			}
		}
	}
	name := place.Name(lies.Path)
	named, err := o.Past.View.Search.Named(o.ctx, name, maxElsewhere)
	if err != nil {
		return err
	}
	if plain := plainName(name); plain != name {
		more, err := o.Past.View.Search.Named(o.ctx, plain, maxElsewhere)
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
		if f.Size == o.c.Size && o.c.Type == entry.File && (!f.SHA256.Known() || !o.sum.Known()) {
			by, why := BySize, remark.New("origin-size", "n", f.Size)
			if reads++; reads <= maxAlike && f.Readable && o.sum.Known() {
				sum, err := o.digest(o.ctx, f)
				if err != nil {
					return err
				}
				if sum == o.sum {
					by, why = ByDigest, remark.New("origin-bytes")
				}
			}
			if err := o.add(f, lies, by, 1, why); err != nil {
				return err
			}
			continue
		}
		share := 0.0
		if reads++; reads <= maxAlike && f.Readable && o.c.Readable && o.c.Type == entry.File {
			if _, share, err = o.Contents.Shares(o.ctx, f, o.c); err != nil {
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
				remark.New("origin-similar", "share", remark.Share(share)),
			)
		} else {
			err = o.add(f, lies, ByName, share, remark.New("origin-name"))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// numbered is what trashes and copies put into a name to tell it from another: plan.2.odt, plan.odt.2, plan (2).odt.
var numbered = regexp.MustCompile(`^(.+?)(?:\.\d+| \(\d+\))(\.[^.]+)?$`)

// plainName takes off such a number.
func plainName(name string) string {
	if parts := numbered.FindStringSubmatch(name); parts != nil {
		return parts[1] + parts[2]
	}
	return name
}

func (o *originSearch) add(f *copies.Copy, lies place.Place, by Strength, share float64, why advice.Reason) error {
	if f.Place == lies || f.ID == o.c.ID || !o.c.Lost && f.Place == o.c.Place {
		return nil
	}
	if known := o.found[f.Place]; known != nil {
		if slices.Index(strengths, by) < slices.Index(strengths, known.Strength) {
			known.Strength, known.share, known.Evidence = by, share, append([]advice.Reason{why}, known.Evidence...)
		}
		return nil
	}
	origin := &Origin{Place: f.Place, Strength: by, Evidence: []advice.Reason{why}, share: share}
	seen, err := o.Past.View.Copies.At(o.ctx, f.Place)
	if err != nil {
		return err
	}
	if len(seen) == 0 {
		return nil // of unknown origin itself
	}
	o.history(origin, seen)
	o.found[f.Place] = origin
	return nil
}

// history adds what is known of the place: whether something stands there, until when it was seen, when it was deleted.
func (o *originSearch) history(origin *Origin, seen []*copies.Copy) {
	var last, gone time.Time
	stands := false
	for _, f := range seen {
		s := f.Store
		if s.Traits.Live() && f.Open {
			stands = true
		}
		if s.Traits.Shows() && f.Last.After(last) {
			last = f.Last
		}
		if f.Gone.After(gone) {
			gone = f.Gone
		}
	}
	origin.gone = !stands
	switch {
	case stands:
		origin.Evidence = append(origin.Evidence, remark.New("origin-stands"))
	case !gone.IsZero():
		origin.Evidence = append(origin.Evidence, remark.New("origin-deleted", "at", gone))
	case !last.IsZero():
		origin.Evidence = append(origin.Evidence, remark.New("origin-seen", "at", last))
	}
}
