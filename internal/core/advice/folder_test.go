package advice_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
)

// shelf answers for the contents of a folder's files by the numbers of their copies.
type shelf struct {
	broken map[copies.ID]bool
	noise  map[copies.ID]bool
	kept   map[[2]copies.ID]float64
	moved  map[string]place.Place
	read   int
}

func (s *shelf) Condition(c advice.Content) advice.Examined {
	s.read++
	if len(c.Copies) == 0 {
		return advice.Examined{Verdict: condition.Verdict{State: condition.Unread}}
	}
	id := c.Copies[0].ID
	v := condition.Verdict{State: condition.Sound, Proved: true, Reasons: []remark.Remark{remark.Said("It is whole.")}}
	if s.broken[id] || s.noise[id] {
		v = condition.Verdict{State: condition.Broken, Noise: s.noise[id], Reasons: []remark.Remark{remark.Said("It is torn.")}}
	}
	return advice.Examined{Verdict: v, SHA256: sum(fmt.Sprint(id))}
}

func (s *shelf) Holds(advice.Content, []string) ([]string, bool) { return nil, true }

func (s *shelf) Kept(a, b advice.Content) (float64, float64, bool) {
	if share, ok := s.kept[[2]copies.ID{a.Copies[0].ID, b.Copies[0].ID}]; ok {
		return share, share, true
	}
	return 0.9, 0.9, true
}

func (s *shelf) Same(a, b advice.Content) (bool, bool)                 { return a.Copies[0].ID == b.Copies[0].ID, true }
func (s *shelf) Cut(advice.Content, advice.Content) advice.Cut         { return advice.NotCut }
func (s *shelf) Only(advice.Content, advice.Content) string            { return "" }
func (s *shelf) Recall([]copies.ID)                                    {}
func (s *shelf) Rivals(place.Place, *advice.Stray) []advice.Rival      { return nil }
func (s *shelf) Ahead([]advice.Sized)                                  {}
func (s *shelf) Anew(*advice.FolderFile) (ev advice.Evidence, ok bool) { return ev, false }
func (s *shelf) MovedTo(f *advice.FolderFile) (to place.Place, moved bool) {
	to, moved = s.moved[f.Path]
	return
}

// hours is a moment so many hours before now, as a folder's versions count time.
func hours(n float64) int64 { return now.Add(-time.Duration(n * float64(time.Hour))).UnixNano() }

// was is a version that was captured once an hour from its write time on.
func was(id copies.ID, size int64, from, until float64) advice.FolderVersion {
	v := advice.FolderVersion{Written: hours(from), Arrived: hours(from), First: hours(from - 0.5), LastSeen: hours(until + 0.5), Superseded: hours(until),
		Size: size, Copy: id, Content: int32(id), Proved: true, After: hours(from + 0.5)}
	return v
}

func gone(v advice.FolderVersion) advice.FolderVersion { v.Ends = true; return v }

func stands(v advice.FolderVersion) advice.FolderVersion {
	v.Superseded, v.LastSeen, v.Live = 0, hours(0), v.Copy
	return v
}

func folderAdvice(q advice.Question, s *shelf, files ...advice.FolderFile) advice.FolderAdvice {
	return advice.AdviseFolder(q, advice.FolderEvidence{Place: place.Place{Machine: "loft", Path: "/home/ines/Boats"}, Files: files, Now: now}, s)
}

// parts says what becomes of each file.
func parts(a advice.FolderAdvice) string {
	var all []string
	for _, e := range a.Entries {
		all = append(all, fmt.Sprintf("%s %s %d", e.Path, e.Part, e.Copy))
	}
	return strings.Join(all, ", ")
}

func TestAFolderIsJudgedFileByFileUnderTheRulesForSingleFiles(t *testing.T) {
	one := func(path string, versions ...advice.FolderVersion) advice.FolderFile {
		return advice.FolderFile{Path: path, Versions: versions}
	}
	for name, c := range map[string]struct {
		q     advice.Question
		shelf shelf
		files []advice.FolderFile
		want  string
	}{
		"removed in one sitting, and one long before": {advice.Question{Loss: advice.Deleted}, shelf{}, []advice.FolderFile{
			one("a", gone(was(1, 10, 900, 20))), one("b", gone(was(2, 10, 900, 20.2))), one("old", gone(was(3, 10, 900, 500))), one("c", stands(was(4, 10, 900, 0))),
		}, "a certain 1, b certain 2"},
		"moved, not removed": {advice.Question{Loss: advice.Deleted}, shelf{moved: map[string]place.Place{"a": {Machine: "loft", Path: "/home/ines/Boats/d"}}},
			[]advice.FolderFile{one("a", gone(was(1, 10, 900, 20))), one("b", gone(was(2, 10, 900, 20)))}, "b certain 2"},
		"broken as it was removed": {advice.Question{Loss: advice.Deleted}, shelf{broken: map[copies.ID]bool{2: true}},
			[]advice.FolderFile{one("a", was(1, 10, 900, 50), gone(was(2, 11, 50, 20)))}, "a assumed 1"},
		"written anew since": {advice.Question{Loss: advice.Deleted}, shelf{},
			[]advice.FolderFile{one("a", gone(was(1, 10, 900, 20)), stands(was(2, 12, 5, 0))), one("b", gone(was(3, 10, 900, 20)))}, "a kept 0, b certain 3"},
		"only the record is left": {advice.Question{Loss: advice.Deleted}, shelf{},
			[]advice.FolderFile{one("a", func() advice.FolderVersion { v := gone(was(0, 10, 900, 20)); v.Content = 9; return v }())}, "a missing 0"},
		"older content came back, nobody knows when": {advice.Question{Loss: advice.Overwritten}, shelf{}, []advice.FolderFile{
			one("a", was(1, 10, 900, 300), was(2, 12, 300, 50), stands(func() advice.FolderVersion { v := was(1, 10, 50, 0); return v }())),
			one("b", was(5, 10, 900, 300), stands(was(6, 12, 50, 0))),
		}, "a assumed 2"},
		"an older date": {advice.Question{Loss: advice.Overwritten, Good: now.Add(-60 * time.Hour)}, shelf{}, []advice.FolderFile{
			one("a", was(2, 12, 300, 50), stands(func() advice.FolderVersion { v := was(3, 11, 50, 0); v.Written, v.Proved = hours(800), false; return v }())),
		}, "a certain 2"},
		"replaced by another document": {advice.Question{Loss: advice.Overwritten}, shelf{kept: map[[2]copies.ID]float64{{2, 3}: 0.1}}, []advice.FolderFile{
			one("a", was(1, 10, 900, 300), was(2, 12, 300, 50), stands(was(3, 9, 50, 0))), one("b", was(5, 10, 900, 300), stands(was(6, 12, 50, 0))),
		}, "a assumed 2"},
		"single ones broken": {advice.Question{Loss: advice.Damaged}, shelf{broken: map[copies.ID]bool{2: true}}, []advice.FolderFile{
			one("a", was(1, 10, 900, 50), stands(was(2, 11, 50, 0))), one("b", stands(was(4, 10, 900, 0))),
		}, "a certain 1"},
		"nothing that is whole": {advice.Question{Loss: advice.Damaged}, shelf{broken: map[copies.ID]bool{1: true, 2: true}}, []advice.FolderFile{
			one("a", was(1, 10, 900, 50), stands(was(2, 11, 50, 0))),
		}, "a missing 0"},
	} {
		a := folderAdvice(c.q, &c.shelf, c.files...)
		assert.Equal(t, c.want, parts(a), "%s: %v", name, said(a.Because...))
		assert.NotEmpty(t, a.Because, name)
		for _, e := range a.Entries {
			assert.True(t, e.Part == advice.PartCertain || e.Note.Any(), "%s: %s says why", name, e.Path)
		}
	}
}

// An attack ends when it was noticed and begins with the first file that became noise; each file comes back from before its own change.
func TestAMassChangeBeginsWithTheFirstNoiseAndEndsWhenItWasNoticed(t *testing.T) {
	s := &shelf{noise: map[copies.ID]bool{}}
	var files []advice.FolderFile
	for i := range copies.ID(12) {
		at := 40 - float64(i)/3600
		if i == 0 {
			at = 44
		}
		s.noise[100+i] = true
		files = append(files, advice.FolderFile{Path: fmt.Sprintf("%02d", i), Versions: []advice.FolderVersion{was(10+i, 10, 900, at), stands(was(100+i, 11, at, 0))}})
	}
	files = append(files, advice.FolderFile{Path: "later", Versions: []advice.FolderVersion{stands(was(90, 10, 2, 0))}})
	a := folderAdvice(advice.Question{Loss: advice.Damaged, Noticed: now.Add(-10 * time.Hour)}, s, files...)
	assert.Equal(t, 12, a.Counts[advice.PartCertain], "%s", parts(a))
	assert.Equal(t, hours(44), a.Mass.From.UnixNano())
	assert.False(t, a.Mass.To.After(now.Add(-10*time.Hour)))
	assert.Contains(t, said(a.Because...), "become noise, as encryption leaves them")
}

// What is large is answered by reading little.
func TestAHugeFolderIsAnsweredByReadingFew(t *testing.T) {
	s := &shelf{}
	var files []advice.FolderFile
	for i := range copies.ID(20_000) {
		f := advice.FolderFile{Path: fmt.Sprint(i), Versions: []advice.FolderVersion{stands(was(i+1, 10, 900, 0))}}
		if i%1000 == 0 {
			f.Versions = []advice.FolderVersion{gone(was(i+1, 10, 900, 20))}
		}
		files = append(files, f)
	}
	a := folderAdvice(advice.Question{Loss: advice.Deleted}, s, files...)
	assert.Equal(t, 20, a.Counts[advice.PartCertain])
	assert.Equal(t, 19_980, a.Same)
	assert.Less(t, s.read, 100)
}
