package cases_test

import (
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/cases"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/sitetest"
)

// asking is a site whose trash holds files of those names, and a book on it.
func asking(t *testing.T, names ...string) (*sitetest.Site, *cases.Book) {
	s := sitetest.New(t)
	for i, name := range names {
		s.Discard("/home/ines/"+name, fmt.Sprintf("plank %d\n", i))
	}
	s.Survey(s.AddTrash("/home/ines"))
	return s, cases.NewBook(s.Site, s.Adviser, time.Now, func(int64) {})
}

func open(t *testing.T, b *cases.Book, k catalogue.Case) catalogue.Case {
	k.Loss = advice.Deleted
	k, err := b.Open(t.Context(), k, "oda")
	require.NoError(t, err)
	return k
}

// refused checks that something was bad input, and returns what is to be done next.
func refused(t *testing.T, err error) []problem.Do {
	t.Helper()
	bad := &problem.Input{}
	require.ErrorAs(t, err, &bad)
	assert.NotEmpty(t, bad.Next)
	var all []problem.Do
	for _, step := range bad.Do {
		all = append(all, step.Do)
	}
	return all
}

func TestACaseOfWordsIsOfTheOnlyPlaceThatFitsThem(t *testing.T) {
	s, b := asking(t, "Quote 127.odt", "Quote 128.odt", "Keel.txt")
	answer, err := b.Advise(t.Context(), open(t, b, catalogue.Case{Words: "keel"}), time.UTC)
	require.NoError(t, err)
	require.NotNil(t, answer.Recommended)
	assert.Equal(t, s.Named("Keel").ID, answer.Recommended.Copy.ID)

	both := open(t, b, catalogue.Case{Words: "quote"})
	found, err := b.Candidates(t.Context(), both)
	require.NoError(t, err)
	assert.Len(t, found, 2)
	_, err = b.Advise(t.Context(), both, time.UTC)
	assert.Equal(t, []problem.Do{problem.ChangeCase}, refused(t, err))
	assert.ErrorContains(t, err, "2 places fit the words")

	_, err = b.Advise(t.Context(), open(t, b, catalogue.Case{Words: "tern"}), time.UTC)
	require.ErrorIs(t, err, catalogue.ErrNotFound)
	assert.Equal(t, []problem.Do{problem.Find, problem.ChangeCase}, refused(t, err))
	none, err := b.Candidates(t.Context(), catalogue.Case{Words: "  "})
	require.NoError(t, err)
	assert.Empty(t, none, "blanks are no words that everything fits")
}

func TestWhatIsNotTheRightOneIsSoByItsContent(t *testing.T) {
	s, b := asking(t, "Keel.txt")
	k := open(t, b, catalogue.Case{Place: place.Place{Machine: "loft", Path: "/home/ines/Keel.txt"}})
	assert.Equal(t, "ines", k.Person, "whose home it is in")
	c := s.Named("Keel")
	advised := func() *copies.ID {
		answer, err := b.Advise(t.Context(), k, time.UTC)
		require.NoError(t, err)
		if answer.Recommended == nil {
			return nil
		}
		return &answer.Recommended.Copy.ID
	}
	require.Equal(t, &c.ID, advised())
	add := func(kind catalogue.EntryKind, ref string) (err error) {
		changed, err := b.Add(t.Context(), k.ID, "oda", kind, "", ref)
		if err == nil {
			k = changed
		}
		return err
	}
	require.NoError(t, add(catalogue.EntryWrong, c.ID.String()))
	require.Len(t, cases.Wrong(k), 1)
	assert.Nil(t, advised(), "no other copy of that content either")
	require.NoError(t, add(catalogue.EntryRight, c.ID.String()))
	assert.Empty(t, cases.Wrong(k))
	assert.Equal(t, &c.ID, advised())

	for kind, ref := range map[catalogue.EntryKind]string{catalogue.EntryWrong: "keel", catalogue.EntryNote: "", catalogue.EntryStep: "", "tern": "c1"} {
		entries := len(k.Entries)
		refused(t, add(kind, ref))
		again, err := s.Catalogue.Cases.ByID(t.Context(), k.ID)
		require.NoError(t, err)
		assert.Len(t, again.Entries, entries, "%s of %q", kind, ref)
	}
	require.NoError(t, add(catalogue.EntryStep, "stop"))
	assert.Equal(t, "oda", cases.Ticked(k)["stop"].By)
	require.NoError(t, add(catalogue.EntryUnstep, "stop"))
	assert.Empty(t, cases.Ticked(k))
}

func TestTwoWhoChangeACaseDoNotChangeEachOthersWork(t *testing.T) {
	s, _ := asking(t)
	var heard []int64
	b := cases.NewBook(s.Site, s.Adviser, time.Now, func(id int64) { heard = append(heard, id) })
	k := open(t, b, catalogue.Case{Person: "ines"})
	changed, err := b.Change(t.Context(), k.ID, k.Version, "oda", cases.Changes{Words: new("keel"), Happened: new("it was there at noon")})
	require.NoError(t, err)
	last := changed.Entries[len(changed.Entries)-1]
	assert.Equal(t, "the words, what happened", last.Text)
	assert.Equal(t, []int64{k.ID, k.ID}, heard)
	_, err = b.Change(t.Context(), k.ID, k.Version, "maren", cases.Changes{Words: new("mast")})
	require.ErrorIs(t, err, catalogue.ErrChangedMeanwhile)
	same, err := b.Change(t.Context(), k.ID, 0, "maren", cases.Changes{Words: new("keel")})
	require.NoError(t, err)
	assert.Equal(t, changed.Version, same.Version, "nothing changed, so nothing is written")
	assert.Len(t, heard, 2)
	_, err = b.For(s.View).Change(t.Context(), k.ID, 0, "maren", cases.Changes{Words: new("mast")})
	require.NoError(t, err)
	assert.Len(t, heard, 3, "whoever's book it was written in")

	for _, c := range []cases.Changes{
		{State: new(catalogue.CaseState("lost"))}, {Loss: new(advice.Loss("eaten"))},
		{Place: &place.Place{Path: "/home/ines/x"}}, {Place: &place.Place{Machine: "quay", Path: "/x"}},
	} {
		_, err := b.Change(t.Context(), k.ID, 0, "oda", c)
		refused(t, err)
	}
	_, err = b.Open(t.Context(), catalogue.Case{Loss: advice.Deleted}, "oda")
	refused(t, err)
}

func TestWhatACaseBringsBackIsWhatItAdvisesOrWhatIsNamed(t *testing.T) {
	s, b := asking(t, "Keel.txt", "Mast.txt")
	k := open(t, b, catalogue.Case{Place: place.Place{Machine: "loft", Path: "/home/ines/Keel.txt"}})
	request, why, err := b.Bring(t.Context(), k, nil, "oda", time.UTC)
	require.NoError(t, err)
	assert.Equal(t, []copies.ID{s.Named("Keel").ID}, request.Copies)
	assert.Nil(t, request.To, "it goes to its own place")
	assert.NotEmpty(t, why.ForUser())
	assert.LessOrEqual(t, why.Plain, len(why.Because))

	request, why, err = b.Bring(t.Context(), k, []copies.ID{s.Named("Mast").ID}, "oda", time.UTC)
	require.NoError(t, err)
	require.NotNil(t, request.To, "whatever it was called, it is to be what was lost")
	assert.Equal(t, "/home/ines/Keel.txt", request.To.Path)
	assert.Contains(t, why.Because[0], "oda")

	receipt := s.BringBack(request)
	require.NoError(t, b.Brought(t.Context(), k.ID, "oda", receipt.ID, why))
	k, err = s.Catalogue.Cases.ByID(t.Context(), k.ID)
	require.NoError(t, err)
	assert.Equal(t, []int64{receipt.ID}, cases.Receipts(k))
	back, err := os.ReadFile(s.Path("/home/ines/Keel.txt"))
	require.NoError(t, err)
	assert.Equal(t, "plank 1\n", string(back))
}
