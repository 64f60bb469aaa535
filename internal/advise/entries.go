package advise

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/place"
)

// at returns the index of the version that stood at a moment, -1 where none did, and whether that is proved. A version whose
// write time says nothing had not come yet at the last capture without it; where it stands there now, it is what went wrong,
// and had not come before the first capture with it either.
func (f *folderFile) at(moment int64) (int, bool) {
	for n := len(f.versions) - 1; n >= 0; n-- {
		v := &f.versions[n]
		if v.arrived > moment || !v.proved && v.after != 0 && (moment <= v.after || v.superseded == 0 && moment < v.first) {
			continue
		}
		if v.ends && moment >= v.superseded {
			return -1, true
		}
		return n, moment <= v.lastSeen
	}
	return -1, true
}

// entries gives each file its own best copy.
func (b *folderAdvice) entries(noticed time.Time) error {
	s := &sample{b: b, left: sampleBytes}
	if err := s.ahead(); err != nil {
		return err
	}
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
		e.file = i
		e.Path, e.Place = f.path, place.Place{Machine: b.q.Place.Machine, Path: place.Join(b.q.Place.Path, f.path)}
		b.Entries = append(b.Entries, e)
	}
	if err := b.assure(); err != nil {
		return err
	}
	also := 0
	if b.Mass != nil && b.q.Loss == advice.Damaged {
		var err error
		if also, err = b.mendOthers(noticed); err != nil {
			return err
		}
	}
	b.count()
	b.account(s, also)
	return nil
}

// count puts the entries in order and adds them up.
func (b *folderAdvice) count() {
	slices.SortFunc(b.Entries, func(x, y FolderEntry) int { return cmp.Compare(x.Path, y.Path) })
	for _, e := range b.Entries {
		b.Counts[e.Part]++
		if e.Copy != 0 {
			b.Bytes += max(0, e.Size)
		}
	}
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
	if stands && (f.versions[last].content == v.content || b.Mass == nil && b.q.Loss == advice.Deleted) || !hit {
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
			e := FolderEntry{Part: Certain, Copy: old.copy, Size: old.size, version: k}
			if k < n {
				e.Part, e.Note = Assumed, fmt.Sprintf(
					"Of what stood there then only the record is left; this is the version before, of %s.",
					advice.Say(moment(old.arrived), b.now, b.q.Zone),
				)
			} else if !proved {
				e.Part, e.Note = Assumed, fmt.Sprintf("Nobody looked between %s and then.", advice.Say(moment(v.lastSeen), b.now, b.q.Zone))
			}
			return e, nil
		}
	}
	return FolderEntry{Part: Missing, Size: v.size, Note: "No copy of it can be read any more."}, nil
}
