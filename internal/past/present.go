package past

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"time"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/reach"
)

// Present says that what stands at the place now counts as well, whatever the last survey saw.
type Present struct {
	At time.Time // now; zero: it does not count
	// Reread also reads the bytes of what seems unchanged: damage may keep size and write time.
	Reread bool
}

// TrailNow is Trail, and looks at what is there. What was not surveyed yet comes without a copy.
func (r *Reader) TrailNow(ctx context.Context, p place.Place, present Present) (Trail, error) {
	return r.trail(ctx, p, present)
}

// addPresent adds what the machines' own files show now under the trail's names.
func (r *Reader) addPresent(ctx context.Context, t *Trail, covered map[place.Place]map[copies.SourceID]bool, l Present) error {
	for _, n := range t.Names {
		for i, s := range t.Stores {
			if !s.Traits.Live() || !covered[n.Place][s.ID] {
				continue
			}
			known, err := r.presentAt(ctx, t, n.Place, s, l)
			if err != nil {
				return err
			}
			if known && s.Latest().Before(l.At) { // this look is a capture too
				now := *s
				now.Captures = append(slices.Clone(s.Captures), l.At)
				t.Stores[i] = &now
			}
		}
	}
	return nil
}

// presentAt compares what stands at a place with what the source showed last; false where it cannot be seen now.
func (r *Reader) presentAt(ctx context.Context, t *Trail, p place.Place, store *copies.Store, l Present) (bool, error) {
	open := slices.IndexFunc(t.Seen, func(f *copies.Copy) bool { return f.Store.ID == store.ID && f.Place == p && f.Open })
	stands, sum, err := r.standing(ctx, p, l.Reread)
	switch {
	case ctx.Err() != nil:
		return false, ctx.Err()
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, problem.NotFolder):
		if open >= 0 {
			t.Seen[open].Open, t.Seen[open].Readable = false, false
			t.Notes = append(t.Notes, remark.New("seen-no-longer", "place", p))
		}
		return true, nil
	case err != nil:
		t.Notes = append(t.Notes, remark.New("stands-unseen", "place", p, "why", err.Error()))
		return false, nil
	}
	if open >= 0 {
		f := t.Seen[open]
		if f.Type == stands.Type &&
			(f.Type != entry.File || f.Size == stands.Size && !copies.Apart(f.Recorded(), stands.Written, store.Resolution) && (!sum.Known() || !f.SHA256.Known() ||
				f.SHA256 == sum)) {
			f.Last = l.At
			if !f.SHA256.Known() {
				f.SHA256 = sum
			}
			return true, nil
		}
		f.Open, f.Readable = false, false
	}
	t.Seen = append(t.Seen, &copies.Copy{Store: store, Place: p, Type: stands.Type, Size: stands.Size,
		Mark: entry.Mark{Written: entry.At(stands.Written)}, Written: stands.Written.Add(-store.ClockAhead), SHA256: sum,
		Captured: l.At, First: l.At, Last: l.At, Open: true})
	t.Notes = append(
		t.Notes,
		remark.New("changed-since-survey", "place", p),
	)
	return true, nil
}

// standing describes what stands at a place, with its digest where its bytes are read or it was not surveyed.
func (r *Reader) standing(ctx context.Context, p place.Place, read bool) (reach.Info, digest.Sum, error) {
	files, err := r.Site.Files(ctx, p.Machine)
	if err != nil {
		return reach.Info{}, digest.Sum{}, err
	}
	folder, err := files.Tree(ctx, place.Folder(p.Path))
	if err != nil {
		return reach.Info{}, digest.Sum{}, err
	}
	defer folder.Close()
	info, err := folder.Look(ctx, p.Name())
	if err != nil || !read || info.Type != entry.File || info.Size > contents.DigestFile {
		return info, digest.Sum{}, err
	}
	sum, err := contents.DigestAt(ctx, folder, p.Name())
	if err != nil {
		return info, digest.Sum{}, ctx.Err() // seen, though not to be read
	}
	return info, sum, nil
}
