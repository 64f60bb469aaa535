package advise

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/masschange"
	"humble-rewind/internal/core/place"
)

// What examining the copies that are to come back may cost, beside what is known of them already.
const (
	assureFiles = 300
	assureBytes = 128 << 20
)

// assurance finds out about copies what is known, and examines others within a budget.
type assurance struct {
	b      *folderAdvice
	known  map[int64]catalogue.Judged
	files  int
	left   int64 // bytes
	unread int   // copies that nothing is known of
}

// assurance finds out about some copies, the first of them first, in one go.
func (b *folderAdvice) assurance(some []sized) (*assurance, error) {
	x := &assurance{b: b, left: assureBytes}
	ids := make([]int64, len(some))
	for i, s := range some {
		ids[i] = s.id
	}
	var err error
	if x.known, err = b.Site.Catalogue.Conditions(b.ctx, ids); err != nil {
		return nil, err
	}
	var unread []int64
	for _, s := range some {
		if x.known[s.id].State == condition.Unread && x.affords(s.size) {
			unread = append(unread, s.id)
		}
	}
	found, err := b.examineAhead(unread)
	maps.Copy(x.known, found)
	x.files -= len(unread) // what could not be read is asked once more, for the reason
	for _, j := range found {
		if j.State != condition.Unread {
			x.files++
		}
	}
	return x, err
}

// examineAhead examines copies that nothing is known of, in one go, and says what is known of them then.
func (b *folderAdvice) examineAhead(unread []int64) (map[int64]catalogue.Judged, error) {
	copies, err := b.Site.Catalogue.Copies(b.ctx, unread)
	if err != nil {
		return nil, err
	}
	if _, err := b.Examiner.Some(b.ctx, copies); err != nil {
		return nil, err
	}
	return b.Site.Catalogue.Conditions(b.ctx, unread)
}

// sized is a copy with its size in bytes.
type sized struct{ id, size int64 }

// affords takes a file out of the budget, and tells whether there was room for it.
func (x *assurance) affords(size int64) bool {
	if x.files == assureFiles || size > x.left {
		return false
	}
	x.files, x.left = x.files+1, x.left-max(0, size)
	return true
}

// assure sees to it that nothing broken comes back, nor what a technician said is not the one: an older version takes its
// place.
func (b *folderAdvice) assure() error {
	var coming []sized
	for i := range b.Entries {
		if e := &b.Entries[i]; e.Copy != 0 {
			coming = append(coming, sized{e.Copy, e.Size})
		}
	}
	x, err := b.assurance(coming)
	if err != nil {
		return err
	}
	for i := range b.Entries {
		e := &b.Entries[i]
		if e.Copy == 0 {
			continue
		}
		f := &b.files[e.file]
		n, why, err := x.newest(f, e.version, nil)
		switch {
		case err != nil:
			return err
		case n < 0:
			e.Part, e.Copy, e.Note = Missing, 0, fmt.Sprintf("What stood there then %s, and no version before it can be used.", why)
		case n < e.version:
			e.take(f, n, fmt.Sprintf("What stood there then %s; this is the version before, of %s.", why, b.say(f.versions[n].arrived)))
		}
	}
	b.unexamined = x.unread
	return nil
}

// take makes an entry come back from another version.
func (e *FolderEntry) take(f *folderFile, n int, note string) {
	v := &f.versions[n]
	e.Part, e.Copy, e.Size, e.version, e.Note = Assumed, v.copy, v.size, n, note
}

func (b *folderAdvice) say(n int64) string { return advice.Say(moment(n), b.now, b.q.Zone) }

// newest returns the newest version, from one on backwards, that can be read and that nothing is known to speak against; -1
// where there is none. Contents refused are passed over. why says what speaks against the first that was looked at.
func (x *assurance) newest(f *folderFile, from int, refused map[int32]bool) (n int, why string, err error) {
	met := map[int32]bool{}
	for n := from; n >= 0; n-- {
		v := &f.versions[n]
		if v.copy == 0 || met[v.content] || refused[v.content] {
			continue
		}
		met[v.content] = true
		against, err := x.against(v.copy, v.size, f.path)
		if err != nil || against == "" {
			return n, why, err
		}
		if why == "" {
			why = against
		}
	}
	return -1, why, nil
}

// against says what speaks against a copy, for the middle of a sentence; "" where nothing is known to.
func (x *assurance) against(id, size int64, path string) (string, error) {
	j, readErr, err := x.judge(id, size, path)
	switch {
	case err != nil:
		return "", err
	case readErr != nil:
		return fmt.Sprintf("cannot be read (%s)", Explain(readErr)), nil
	case j.State == condition.Broken:
		return "is broken", nil
	case j.SHA256 != "" && x.b.q.Wrong[j.SHA256]:
		return "is not the one, as a technician said", nil
	case j.State == condition.Unread:
		x.unread++
	}
	return "", nil
}

// judge says what is known of a copy, and examines it where nothing is and the budget allows. readErr is why it cannot be
// read.
func (x *assurance) judge(id, size int64, path string) (j catalogue.Judged, readErr, err error) {
	j, ok := x.known[id]
	if !ok {
		more, err := x.b.Site.Catalogue.Conditions(x.b.ctx, []int64{id})
		if err != nil {
			return j, nil, err
		}
		j = more[id]
	}
	if j.State != condition.Unread || !x.affords(size) {
		return j, nil, nil
	}
	c, err := x.b.Site.Catalogue.Copy(x.b.ctx, id)
	if err != nil {
		return j, nil, err
	}
	found, err := x.b.Examiner.Copy(x.b.ctx, c)
	switch {
	case x.b.ctx.Err() != nil:
		return j, nil, x.b.ctx.Err()
	case errors.Is(err, contents.ErrSlow):
		return j, nil, nil
	case err != nil:
		return j, err, nil
	}
	return catalogue.Judged{State: found.For(place.Name("/" + path)).State, SHA256: found.SHA256}, nil, nil
}

// mend answers for a folder of which single files are damaged: each broken one gets its newest version that is not.
func (b *folderAdvice) mend(noticed time.Time) error {
	var all []int
	for i := range b.files {
		all = append(all, i)
	}
	whole, unread, err := b.mendEach(all, noticed)
	if err != nil {
		return err
	}
	b.Same = whole
	b.count()
	b.mended(unread)
	return nil
}

// mendOthers does so for the files that the mass change did not hit, those that an earlier one hit first, and counts those
// that are broken.
func (b *folderAdvice) mendOthers(noticed time.Time) (broken int, err error) {
	var earlier, rest []int
	for i := range b.files {
		switch {
		case b.Mass.Hit[i] || b.Mass.New[i]:
		case slices.ContainsFunc(b.masses, func(m masschange.Mass) bool { return m.Hit[i] }):
			earlier = append(earlier, i)
		default:
			rest = append(rest, i)
		}
	}
	before := len(b.Entries)
	_, _, err = b.mendEach(append(earlier, rest...), noticed)
	broken = len(b.Entries) - before
	b.Same -= broken
	return broken, err
}

// mendEach adds an entry for each of some files that is broken as it stands. whole counts those that are not, unread those
// that nothing is known of.
func (b *folderAdvice) mendEach(some []int, noticed time.Time) (whole, unread int, err error) {
	var copies []sized
	var standing []int // files, beside the copies
	for _, i := range some {
		f := &b.files[i]
		if v := &f.versions[len(f.versions)-1]; v.superseded == 0 && v.live != 0 && v.arrived <= noticed.UnixNano() {
			copies, standing = append(copies, sized{v.live, v.size}), append(standing, i)
		}
	}
	x, err := b.assurance(copies)
	if err != nil {
		return 0, 0, err
	}
	for k, i := range standing {
		f := &b.files[i]
		j, readErr, err := x.judge(copies[k].id, copies[k].size, f.path)
		switch {
		case err != nil:
			return whole, x.unread, err
		case readErr == nil && j.State == condition.Broken:
			before := x.unread
			if err := b.mendOne(x, i); err != nil {
				return whole, before, err
			}
			b.unexamined += x.unread - before // of what is to come back, not of what stands
			x.unread = before
			continue
		case readErr == nil && j.State == condition.Unread:
			x.unread++
		}
		whole++
	}
	return whole, x.unread, nil
}

// mendOne adds an entry for a file that is broken as it stands.
func (b *folderAdvice) mendOne(x *assurance, i int) error {
	f := &b.files[i]
	last := len(f.versions) - 1
	e := FolderEntry{
		Path:  f.path,
		file:  i,
		Size:  f.versions[last].size,
		Part:  Missing,
		Note:  "What stands there is broken, and no version of it that is not can be read.",
		Place: place.Place{Machine: b.q.Place.Machine, Path: place.Join(b.q.Place.Path, f.path)},
	}
	n, _, err := x.newest(f, last-1, map[int32]bool{f.versions[last].content: true})
	if err != nil {
		return err
	}
	if n >= 0 {
		e.take(
			f,
			n,
			fmt.Sprintf("What stands there is broken; this is its newest version that is not, of %s.", b.say(f.versions[n].arrived)),
		)
		e.Part = Certain
	}
	b.Entries = append(b.Entries, e)
	return nil
}

// mended says what came of looking at each file.
func (b *folderAdvice) mended(unread int) {
	n := len(b.Entries)
	switch {
	case n == 1:
		b.Because = []string{
			"No mass change is known in this folder, but one of its files is broken as it stands. It comes back from its newest version " +
				"that is not.",
		}
	case n > 1:
		b.Because = []string{
			fmt.Sprintf(
				"No mass change is known in this folder, but %d of its files are broken as they stand. Each comes back from its newest "+
					"version that is not.",
				n,
			),
		}
	case unread > 0:
		b.Because = []string{"No mass change is known in this folder, and of its files that were examined none is broken."}
	default:
		b.Because = []string{"No mass change is known in this folder, and none of its files is broken."}
	}
	if n == 0 && b.q.Good.IsZero() {
		b.Because = append(b.Because, "Nobody said when it was last right.")
	}
	if unread > 0 {
		b.notes = append(
			b.notes,
			fmt.Sprintf("%s not examined yet: humble-rewind survey --examine reads them all.", files(unread, "was", "were")),
		)
	}
	if n > 0 {
		b.costs()
	}
}
