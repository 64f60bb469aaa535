package e2e

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
	"humble-rewind/internal/browser"
)

// An advice that is open asks the user one question on the case page, and the answer settles it; a spreadsheet is read as a table.
func TestTheQuestionThatSettlesAnAdviceIsAskedOnTheCasePage(t *testing.T) {
	t.Parallel()
	s, b := served(t)
	path := "/home/ines/Documents/Prices.ods"
	opened, err := s.Client.OpenCaseWithResponse(t.Context(), api.NewCase{Loss: api.LossOverwritten,
		Place: &api.Destination{Machine: "front-office", Path: path}})
	require.NoError(t, err)
	require.NotNil(t, opened.JSON201, "%s", opened.Body)
	id := opened.JSON201.Id
	do(
		t,
		b.Visit(s.URL+"/cases/"+id),
		b.WaitText("□ open"),
		b.WaitText("Ask the user: Was “29 months” already in it when it was last right?"),
		b.WaitText("timber"),
	)
	cells, err := b.Text("[aria-label='Cells']")
	require.NoError(t, err)
	assert.Contains(t, cells, "25 months", "the copy that is recommended is read beside it")
	do(t, b.TabTo("button: Yes", 30), b.Press(browser.Enter), b.WaitText("It is the last version with “29 months” in it."))
	advice, err := s.Client.AdviseCaseWithResponse(t.Context(), id, nil)
	require.NoError(t, err)
	require.NotNil(t, advice.JSON200)
	assert.Equal(t, api.SureLikely, advice.JSON200.Recommended.Sure)
	assert.Nil(t, advice.JSON200.Question)
	codes := map[string]bool{}
	for _, r := range advice.JSON200.Recommended.Reasons {
		codes[r.Code] = true
		assert.NotEmpty(t, r.Text)
	}
	assert.True(t, codes["last-with-words"] && codes["sound"], "%v", codes)
}

// On a phone the answer is there without scrolling, the head takes one line, and what narrows a search is folded.
func TestOnAPhoneTheAnswerIsThereWithoutScrolling(t *testing.T) {
	t.Parallel()
	s, wide := served(t)
	wide.Close()
	b, err := browser.Open(t.Context(), 390, 844)
	require.NoError(t, err)
	t.Cleanup(b.Close)
	do(t, b.Visit(s.URL+"/sign-in#token="+s.Token), b.WaitText("Deleted lately"), b.Visit(s.URL+"/cases/k2"), b.WaitText("Bring back copy"))
	end, err := b.Evaluate("document.querySelector('[aria-label=Advice]').getBoundingClientRect().bottom < innerHeight ? 'seen' : 'below'")
	require.NoError(t, err)
	assert.Equal(t, "seen", end)
	head, err := b.Evaluate("document.querySelector('header').getBoundingClientRect().height < 64 ? 'one line' : 'more'")
	require.NoError(t, err)
	assert.Equal(t, "one line", head)
	do(t, b.Visit(s.URL+"/find"), b.WaitText("copies"))
	open, err := b.Evaluate("document.querySelector('[aria-label=Filters] details').open ? 'open' : 'folded'")
	require.NoError(t, err)
	assert.Equal(t, "folded", open)
}
