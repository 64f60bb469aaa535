package apart_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/core/multistatus"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/refs"
)

// What a child reads of a text is what the text says, in its order, whatever its length; what is wrong with it is said by its code, what kept it
// from being read as it was, and whoever listens ends it.
func TestTextsAreReadByChildren(t *testing.T) {
	var p apart.Pool
	defer p.Close()
	var text strings.Builder
	var want []refs.Named
	for n := range 20_000 { // of several pieces
		one := refs.Named{Ref: fmt.Sprintf("refs/heads/hull %d", n), Commit: fmt.Sprintf("%040x", n+1)}
		want = append(want, one)
		fmt.Fprintf(&text, "%s %s\n", one.Commit, one.Ref)
	}
	for range 2 { // the second time by a child that is kept
		var got []refs.Named
		require.NoError(t, p.Refs(t.Context(), refs.Packed, strings.NewReader(text.String()), func(n refs.Named) error {
			got = append(got, n)
			return nil
		}))
		assert.Equal(t, want, got)
	}
	enough, lost := errors.New("enough"), fmt.Errorf("the line is down: %w", problem.Lost)
	assert.Equal(t, enough, p.Refs(t.Context(), refs.Packed, strings.NewReader(text.String()), func(refs.Named) error { return enough }))
	assert.ErrorIs(t, p.Refs(t.Context(), refs.List, iotest.ErrReader(lost), nil), problem.Lost)
	assert.Error(t, p.Refs(t.Context(), "index", strings.NewReader("x"), nil))
	ended, end := context.WithCancel(t.Context())
	end()
	assert.ErrorIs(t, p.Refs(ended, refs.List, strings.NewReader(""), nil), context.Canceled)

	const answer = `<D:multistatus xmlns:D="DAV:"><D:response><D:href>/a</D:href></D:response>`
	var all []multistatus.Resource
	read, err := p.Multistatus(t.Context(), strings.NewReader(answer+`<D:sync-token>t</D:sync-token><D:resp`), false, func(r multistatus.Resource) error {
		all = append(all, r)
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, multistatus.Slice{Root: int64(len(`<D:multistatus xmlns:D="DAV:">`)), Read: int64(len(answer) + len(`<D:sync-token>t</D:sync-token>`)), Token: "t"}, read)
	assert.Equal(t, []multistatus.Resource{{Href: "/a"}}, all)
	_, err = p.Multistatus(t.Context(), strings.NewReader(answer), true, func(multistatus.Resource) error { return nil })
	assert.ErrorIs(t, err, problem.Broken)
	assert.ErrorContains(t, err, "does not follow WebDAV")
}
