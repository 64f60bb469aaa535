package e2e

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/browser"
)

// A request for help from the call to the report without touching a mouse: opened in the user's words, first aid ticked,
// the advised copy peeked at, compared and refused, the next one brought back, a note, and the case closed.
func TestACaseByKeyboard(t *testing.T) {
	t.Parallel()
	s, b := served(t)
	quotes := filepath.Join(s.World.Dir, "machines/front-office/home/ines/Documents/Quotes")
	do(t, b.TabTo("a: Cases", 20), b.Press(browser.Enter), b.WaitText("waiting for the user"), b.Press("n"), b.WaitText("Whose is it?"))
	do(
		t,
		b.Type("ines"),
		b.Press(browser.Tab),
		b.Type("front"),
		b.Press(browser.Tab),
		b.Type("/home/ines/Documents/Quotes/Quote 116 Little Tern.odt"),
		b.WaitText("A place."),
	)
	do(t, b.Press(browser.Tab), b.Press(browser.Space, browser.Down), b.Press(browser.Tab), b.Type("A tender was saved over the quote."))
	do(
		t,
		b.Press(browser.Tab),
		b.Type("some day"),
		b.WaitText("A time was not understood"),
		b.Press(browser.Back, browser.Back, browser.Back, browser.Back),
	)
	do(t, b.Press(browser.Back, browser.Back, browser.Back, browser.Back), b.Type("it was fine 3d ago"), b.WaitText("understood as"))
	do(
		t,
		b.TabTo("button: Open the case", 12),
		b.Press(browser.Enter),
		b.WaitText("Quote 116 Little Tern.odt overwritten"),
		b.WaitText("It is what was there on"),
		b.WaitText("● found"),
	)
	do(t, b.TabTo("input: Please do not save this file again", 40), b.Press(browser.Space), b.WaitText("Done by technician"))
	do(
		t,
		b.Press("p"),
		b.WaitText("application/vnd.oasis.opendocument.text"),
		b.WaitText("revision 6 of the lines"),
		b.Press("c"),
		b.WaitText("what is there now"),
		b.WaitText("paragraph"),
	)
	do(t, b.Press("x"), b.WaitText("Said not to be the one: c"), b.WaitText("A technician looked at it and said that it is not this one"))
	do(
		t,
		b.Press("b"),
		b.WaitText("Nothing is written yet"),
		b.WaitText("both are kept"),
		b.WaitFocus("button: Bring back"),
		b.Press(browser.Enter),
		b.WaitText("Done: 1 item settled"),
		b.Press(browser.Escape),
	)
	do(
		t,
		b.WaitText("Receipt r1"),
		b.Press("m"),
		b.Type("Wants the tender as well."),
		b.TabTo("button: Add the note", 3),
		b.Press(browser.Enter),
		b.WaitText("technician: Wants the tender as well."),
	)
	both, err := filepath.Glob(filepath.Join(quotes, "Quote 116*"))
	require.NoError(t, err)
	assert.Len(t, both, 2)
	do(t, b.Press("t"), b.WaitText("Advised: version"), b.WaitText("◆ advised"), b.WaitText("after the file was last right"))
	do(
		t,
		b.TabTo("a: Case k11", 20),
		b.Press(browser.Enter),
		b.WaitText("Who did what"),
		b.TabTo("button: Done", 20),
		b.Press(browser.Enter),
		b.WaitText("set it to done"),
	)
	do(t, b.Visit(s.URL+"/cases?about=tender+as+well"), b.WaitText("k11 · done"))
}

// A whole folder, and a case that has only words.
func TestAFolderAndWordsByKeyboard(t *testing.T) {
	t.Parallel()
	s, b := served(t)
	do(
		t,
		b.WaitText("Open cases"),
		b.TabTo("a: Rigging", 30),
		b.Press(browser.Enter),
		b.WaitText("24 files were rewritten"),
		b.WaitText("came with it"),
		b.WaitText("See the folder as it was then"),
	)
	do(
		t,
		b.TabTo("button: Curlew/Sail plan.svg", 60),
		b.Press(browser.Enter),
		b.WaitText("Copy c"),
		b.WaitText("image/svg+xml"),
		b.Press("c"),
		b.WaitText("what is there now"),
	)
	do(
		t,
		b.Press("b"),
		b.WaitText("it is set aside into safekeeping"),
		b.WaitFocus("button: Bring back"),
		b.Press(browser.Enter),
		b.WaitText("Done: 23 items settled"),
		b.Press(browser.Escape),
		b.WaitText("Receipt r1"),
	)
	do(
		t,
		b.Visit(s.URL+"/cases/new"),
		b.WaitText("Whose is it?"),
		b.Type("ines"),
		b.Press(browser.Tab),
		b.Press(browser.Tab),
		b.Type("offsets"),
		b.Press(browser.Tab),
		b.Press(browser.Space),
		b.TabTo("button: Open the case", 12),
		b.Press(browser.Enter),
	)
	do(
		t,
		b.WaitText("Which one is it?"),
		b.TabTo("button: This one", 40),
		b.Press(browser.Enter),
		b.WaitText("Because"),
		b.TabTo("button: Put it into the case", 40),
		b.Press(browser.Enter),
		b.WaitText("put copy c"),
	)
	do(
		t,
		b.Visit(s.URL+"/cases/k11/change"),
		b.WaitText("Change case k11"),
		b.TabTo("input: When was it last right?", 12),
		b.Type("yesterday evening"),
		b.WaitText("understood as"),
	)
	do(t, b.TabTo("button: Change the case", 8), b.Press(browser.Enter), b.WaitText("changed when it was last right"))
}
