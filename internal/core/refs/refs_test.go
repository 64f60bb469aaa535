package refs_test

import (
	"errors"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/refs"
)

var (
	none = strings.Repeat("0", 40)
	one  = strings.Repeat("a1", 20)
	two  = strings.Repeat("b2", 32) // of a repository that names by SHA-256
)

func read(form refs.Form, text string) (all []refs.Named, err error) {
	err = refs.Read(form, strings.NewReader(text), func(n refs.Named) error {
		all = append(all, n)
		return nil
	})
	return all, err
}

// Each form names what it names; comments, peeled tags, lines that are none, and ones that nobody wrote by hand are passed over.
func TestTextsNameCommits(t *testing.T) {
	long := one + " refs/heads/" + strings.Repeat("x", 70<<10) + "\n"
	for _, c := range []struct {
		form refs.Form
		text string
		want []refs.Named
	}{
		{refs.Packed, "# pack-refs with: peeled\n" + one + " refs/heads/lines of a hull\n^" + two + "\n" + long + two + " refs/tags/v1",
			[]refs.Named{{Ref: "refs/heads/lines of a hull", Commit: one}, {Ref: "refs/tags/v1", Commit: two}}},
		{refs.List, one + "\n\n" + two + "\tnot-for-merge\tbranch 'x'\nnothing\n" + strings.ToUpper(one) + "\n",
			[]refs.Named{{Commit: one}, {Commit: two}}},
		{refs.Log, none + " " + one + " Inês Falk <i@quay> 1772456400 +0100\tcommit: begun\nx\n" + one + " " + none + " Inês <i@quay> -5 +0000\n" +
			one + " " + two + " Inês <i@quay> soon +0000\n", []refs.Named{{Commit: one, When: entry.Instant{Known: true, Sec: 1772456400}},
			{Before: one, When: entry.Instant{Known: true, Sec: -5}}}},
	} {
		got, err := read(c.form, c.text)
		require.NoError(t, err)
		assert.Equal(t, c.want, got, c.form)
	}
	_, err := read("index", one)
	assert.Error(t, err)
	broken := errors.New("the drive is")
	assert.Equal(t, broken, refs.Read(refs.List, iotest.ErrReader(broken), nil))
	assert.Equal(t, broken, refs.Read(refs.List, strings.NewReader(one), func(refs.Named) error { return broken }))
}

// Whatever a text holds, only objects are named.
func FuzzRefs(f *testing.F) {
	f.Add("log", none+" "+one+" Inês <i@x> 1772456400 +0100\tcommit: begun\n")
	f.Add("packed", one+" refs/heads/main\n"+two+" refs/tags/v1\n^"+one)
	f.Add("list", one+"\tx\n")
	f.Fuzz(func(t *testing.T, form, text string) {
		all, _ := read(refs.Form(form), text)
		for _, n := range all {
			require.True(t, n.Before != "" || n.Commit != "")
			for _, object := range []string{n.Before, n.Commit} {
				require.True(t, object == "" || refs.IsObject(object))
			}
		}
	})
}
