package e2e

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/console"
	"humble-rewind/internal/browser"
	"humble-rewind/internal/servicetest"
)

// served serves the sample world with the built console and opens it, signed in by the link.
func served(t *testing.T) (*servicetest.Service, *browser.Browser) {
	t.Helper()
	built, err := fs.Sub(console.Built, "dist")
	require.NoError(t, err)
	_, err = fs.Stat(built, "index.html")
	require.NoError(t, err, "the console is not built; make build builds it")
	s := servicetest.StartDemo(t, built)
	b, err := browser.Open(t.Context(), 1280, 800)
	require.NoError(t, err)
	t.Cleanup(b.Close)
	require.NoError(t, b.Visit(s.URL+"/sign-in#token="+s.Token))
	require.NoError(t, b.WaitText("Deleted lately"))
	return s, b
}

func do(t *testing.T, steps ...error) {
	t.Helper()
	for _, err := range steps {
		require.NoError(t, err)
	}
}

// Three files from three folders of two machines are found, brought back and undone without touching a mouse.
func TestByKeyboardAlone(t *testing.T) {
	t.Parallel()
	s, b := served(t)
	at := func(machine, path string) string { return filepath.Join(s.World.Dir, "machines", machine, path) }
	places := []string{
		at("front-office", "home/ines/Documents/Offsets/Marsh Wren offsets.csv"),
		at("front-office", "home/ines/Documents/Offsets/Marsh Wren offsets.ods"),
		at("drawing-loft", "home/tomas/Offsets/drafts/Marsh Wren offsets draft.csv"),
	}
	do(t, b.Press("/"), b.Type("offsets"), b.Press(browser.Enter), b.WaitText("copies"))
	do(t, b.TabTo("Marsh Wren offsets.csv", 40), b.Press(browser.Space, browser.Down, browser.Space), b.WaitText("2 copies selected"))
	pane, err := b.Text("[aria-label='Reading pane']")
	require.NoError(t, err)
	assert.Contains(t, pane, "Marsh Wren offsets.ods", "the reading pane shows what has the focus")
	do(t, b.Press("/"), b.Type("offsets draft"), b.Press(browser.Enter), b.WaitText("copies"))
	do(t, b.TabTo("Marsh Wren offsets draft", 40), b.Press(browser.Space), b.WaitText("3 copies selected"))
	do(t, b.Press("b"), b.WaitText("Nothing is written yet"))
	for _, place := range places {
		require.NoFileExists(t, place, "the plan writes nothing")
	}
	do(t, b.WaitFocus("button: Bring back"), b.Press(browser.Enter), b.WaitText("Done: 3 items settled"))
	for _, place := range places {
		assert.FileExists(t, place)
	}
	do(t, b.Press(browser.Enter), b.WaitText("Receipt r1: done"), b.WaitText("3 of 3 arrived"))
	do(t, b.Press("u"), b.WaitText("Receipt r1: undone"))
	for _, place := range places {
		assert.NoFileExists(t, place)
	}
}

func TestClashesAreShownBeforeAnythingIsDone(t *testing.T) {
	t.Parallel()
	s, b := served(t)
	stands := filepath.Join(s.World.Dir, "machines/front-office/home/ines/Documents/Quotes/Quote 127 Sea Campion.odt")
	require.NoError(t, os.WriteFile(stands, []byte("written again from memory"), 0o644))
	do(t, b.Visit(s.URL+"/find?words=quote+127&source=trash"), b.WaitText("2 copies"), b.TabTo("row", 40), b.Press(browser.Space, "b"))
	do(t, b.WaitText("is there already; both are kept"), b.WaitText("(deleted "))
	do(t, b.ShiftTab(), b.ShiftTab(), b.Press(browser.Down), b.WaitText("it is set aside into safekeeping"))
	do(t, b.Press(browser.Escape))
	content, err := os.ReadFile(stands)
	require.NoError(t, err)
	assert.Equal(t, "written again from memory", string(content))
}

// A record in one's own trash can claim any place. It is refused until the technician says that she knows better, and then
// what goes there has lost its set-id bit. Its name begins with the letter that brings back.
func TestAClaimedPlaceIsConfirmedByKeyboard(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root can make files of several people")
	}
	s, b := served(t)
	home := filepath.Join(s.World.Dir, "machines/drawing-loft/home")
	trash, claimed := filepath.Join(home, "ravi/.local/share/Trash"), filepath.Join(home, "tomas/Drawings/borrowed keys")
	planted := filepath.Join(trash, "files/borrowed keys")
	require.NoError(t, os.WriteFile(planted, []byte("#!/bin/sh\n"), 0o755))
	require.NoError(t, os.Chmod(planted, 0o755|os.ModeSetuid))
	require.NoError(t, os.WriteFile(filepath.Join(trash, "info/borrowed keys.trashinfo"),
		[]byte("[Trash Info]\nPath=/home/tomas/Drawings/borrowed%20keys\nDeletionDate=2026-11-20T08:00:00\n"), 0o600))
	s.Survey()
	do(t, b.Visit(s.URL+"/find?words=borrowed"), b.WaitText("Only its record tells where it came from."), b.TabTo("row", 40),
		b.Press(browser.Space), b.WaitText("1 copy selected"))
	do(t, b.Press("b"), b.WaitText("stays at"), b.WaitText("confirm the claimed place"), b.WaitText("Nothing is written yet"),
		b.TabTo("I know that this came from", 20))
	do(t, b.Press(browser.Space), b.WaitText("it goes here because you confirmed it"), b.WaitText("Nothing is written yet"),
		b.WaitFocus("I know that this came from"))
	do(t, b.TabTo("button: Bring back", 5), b.Press(browser.Enter), b.WaitText("Done: 1 item settled"))
	back, err := os.Stat(claimed)
	require.NoError(t, err)
	assert.Zero(t, back.Mode()&os.ModeSetuid)
}

// Names and contents are hostile: they are shown as text, and nothing in them runs or is fetched.
func TestHostileNamesAndContentsAreInert(t *testing.T) {
	t.Parallel()
	s, b := served(t)
	trash := filepath.Join(s.World.Dir, "machines/front-office/home/ines/.local/share/Trash/files")
	const name = `<img src=x onerror=document.title='acted'>.svg`
	drawing := `<svg xmlns="http://www.w3.org/2000/svg" width="10" height="10">` +
		`<script>parent.document.title='acted'</script><image href="` + s.URL + `/icon.svg"/></svg>`
	require.NoError(t, os.WriteFile(filepath.Join(trash, name), []byte(drawing), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(trash, "onerror page.html"), []byte("<script>document.title='acted'</script>"), 0o644))
	s.Survey()
	do(
		t,
		b.Visit(s.URL+"/find?words=onerror"),
		b.WaitText("2 copies"),
		b.WaitText("onerror=document.title"),
		b.TabTo("row", 40),
		b.Press(browser.Down, browser.Up),
	)
	do(t, b.WaitText("<script>document.title='acted'</script>"))
	title, err := b.Evaluate("document.title")
	require.NoError(t, err)
	assert.Equal(t, "Humble Rewind", title)
	images, err := b.Evaluate(`String(document.querySelectorAll("img[src=x], main script").length)`)
	require.NoError(t, err)
	assert.Equal(t, "0", images)
}

func TestASignInThatFailsSaysWhatToDo(t *testing.T) {
	t.Parallel()
	s, b := served(t)
	do(t, b.TabTo("Sign out", 20), b.Press(browser.Enter), b.WaitText("technician’s token"))
	do(t, b.Visit(s.URL+"/sign-in#token=wrong"), b.WaitText("That is not the token of a technician"), b.WaitText("technician.token"))
}

// A quote that was saved over: its versions are stepped through, two are compared, and the one from before comes back
// beside what is there; then the folder that it lay in is stepped back in time.
func TestTrailAndFolderByKeyboard(t *testing.T) {
	t.Parallel()
	s, b := served(t)
	quotes := filepath.Join(s.World.Dir, "machines/front-office/home/ines/Documents/Quotes")
	do(t, b.Press("/"), b.Type("116 little"), b.Press(browser.Enter), b.WaitText("9 copies"), b.TabTo("row", 40), b.Press("t"),
		b.WaitText("Version 8 of 8"))
	do(t, b.WaitText("Also known as /home/ines/Documents/Offers"), b.WaitText("It is there now."))
	do(
		t,
		b.TabTo("application", 40),
		b.Press(browser.Left),
		b.WaitText("Version 7 of 8"),
		b.WaitText("assumed after"),
		b.Press("c", browser.Left),
		b.WaitText("Version 6 of 8"),
	)
	do(t, b.Press("c"), b.WaitText("1 paragraph changed"), b.WaitText("Copy out"), b.Press("c"), b.WaitText("Version 6 of 8"))
	do(
		t,
		b.Press("z", "+", "-", "0", browser.Right),
		b.WaitText("Version 7 of 8"),
		b.Press("b"),
		b.WaitText("both are kept"),
		b.WaitFocus("button: Bring back"),
		b.Press(browser.Enter),
		b.WaitText("Done: 1 item settled"),
		b.Press(browser.Escape),
	)
	both, err := filepath.Glob(filepath.Join(quotes, "Quote 116*"))
	require.NoError(t, err)
	assert.Len(t, both, 2, "both, side by side in the folder")

	do(
		t,
		b.Visit(
			s.URL+"/folder?machine=front-office&path=/home/ines/Documents/Scans&as_of="+time.Now().
				UTC().
				AddDate(0, 0, -4).
				Format(time.RFC3339),
		),
	)
	do(
		t,
		b.WaitText("Delivery note 200.png"),
		b.TabTo("row", 40),
		b.Press(browser.Left),
		b.WaitText("As of"),
		b.WaitText("It is no longer there now"),
		b.Press(browser.Down, browser.Up),
	)
	do(
		t,
		b.Press("m"),
		b.WaitText("Nothing is written yet"),
		b.WaitFocus("button: Bring back"),
		b.Press(browser.Enter),
		b.WaitText("Done:"),
	)
	back, err := filepath.Glob(filepath.Join(filepath.Dir(quotes), "Scans/*.png"))
	require.NoError(t, err)
	assert.NotEmpty(t, back)
}

// Folders whose names hold a backslash, or a byte that is no UTF-8, are opened by what they are called, not by how that is shown.
func TestFoldersAreOpenedByTheBytesOfTheirNames(t *testing.T) {
	t.Parallel()
	s, b := served(t)
	odd := filepath.Join(s.World.Dir, "machines/front-office/home/ines/Odd")
	for folder, file := range map[string]string{"Mol\xe9": "Of the broken byte.txt", `Mol\xe9`: "Of the backslash.txt"} {
		require.NoError(t, os.MkdirAll(filepath.Join(odd, folder), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(odd, folder, file), []byte("x"), 0o644))
	}
	s.Survey()
	inFolder := func() {
		do(t, b.Visit(s.URL+"/folder?machine=front-office&path=/home/ines/Odd"), b.WaitText(`Mol\`), b.TabTo("row", 40))
	}
	inFolder()
	do(t, b.Press(browser.Enter), b.WaitText("Of the "))
	first, err := b.Text("main")
	require.NoError(t, err)
	inFolder()
	do(t, b.Press(browser.Down, browser.Enter), b.WaitText("Of the "))
	second, err := b.Text("main")
	require.NoError(t, err)
	assert.Contains(t, first+second, "Of the broken byte.txt")
	assert.Contains(t, first+second, "Of the backslash.txt")
	do(t, b.TabTo("row", 40), b.Press(browser.Enter), b.WaitText("Version 1 of 1"), b.TabTo("a: Its folder", 40), b.Press(browser.Enter))
	do(t, b.WaitText("Against now"), b.WaitText("Of the "), b.TabTo("a: Odd", 20), b.Press(browser.Enter), b.WaitText(`Mol\`))
}
