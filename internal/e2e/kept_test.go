package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/browser"
)

// What the repository, the cloud drive and the yearly archive hold comes back without touching a mouse: each case from the first look to
// its report, the archive's password given on its machine's page.
func TestRepositoryDriveAndArchiveByKeyboard(t *testing.T) {
	t.Parallel()
	s, b := served(t)
	on := func(machine, path string) string { return filepath.Join(s.World.Dir, "machines", machine, path) }
	year := time.Now().AddDate(-1, 0, 0).Format("2006")
	yearly := on("front-office", "home/ines/Accounts "+year+"/Year "+year+".ods")

	do(t, b.Visit(s.URL+"/cases/k10"), b.WaitText("it is locked with a password"))
	do(t, b.TabTo("a: Machines", 20), b.Press(browser.Enter), b.WaitText("10 sources"), b.TabTo("a: front-office", 20), b.Press(browser.Enter))
	do(t, b.WaitText("members are encrypted"), b.TabTo("Give the password of s18", 60), b.Press(browser.Enter))
	do(t, b.TabTo("Password of s18", 60), b.Type("larch"), b.Press(browser.Enter), b.WaitText("the password opens nothing in it"))
	for range len("larch") {
		do(t, b.Press(browser.Back))
	}
	do(t, b.Type("slipway"), b.Press(browser.Enter), b.WaitText("It opens 1 of 1"))

	for k, arrived := range map[string]string{
		"k7":  on("drawing-loft", "home/tomas/Lines/Kittiwake mould list.csv"),
		"k8":  filepath.Join(s.World.Dir, "drive/files/Office/Prices for the fair.ods"),
		"k9":  filepath.Join(s.World.Dir, "drive/files/Office/Standing orders.odt"),
		"k10": yearly,
	} {
		before, _ := os.ReadFile(arrived)
		do(t, b.Visit(s.URL+"/cases/"+k), b.WaitText("was examined and is sound"), b.Press("b"), b.WaitText("Nothing is written yet"),
			b.WaitFocus("button: Bring back"), b.Press(browser.Enter), b.WaitText("Done: 1 item settled"), b.Press(browser.Escape),
			b.WaitText("Receipt r"))
		after, err := os.ReadFile(arrived)
		require.NoError(t, err)
		assert.NotEqual(t, string(before), string(after), k)
		do(t, b.TabTo("button: Done", 80), b.Press(browser.Enter), b.WaitText("set it to done"))
	}

	secret, err := os.ReadFile(filepath.Join(s.World.Dir, "drive/secret"))
	require.NoError(t, err)
	host, err := os.ReadFile(filepath.Join(s.World.Dir, "drive/listens"))
	require.NoError(t, err)
	do(t, b.Visit(s.URL+"/machines/store"), b.WaitText("Add a cloud drive"), b.TabTo("Add a cloud drive", 40), b.Press(browser.Enter))
	do(t, b.WaitFocus("What is it to be called?"), b.Type("second-drive"), b.Press(browser.Tab),
		b.Type("https://"+strings.TrimSpace(string(host))+"/files"), b.Press(browser.Tab), b.Type("yard"), b.Press(browser.Tab),
		b.Type(strings.TrimSpace(string(secret))), b.Press(browser.Tab, browser.Tab), b.Type("/srv/yard/Drive"), b.Press(browser.Enter))
	do(t, b.WaitText("check its certificate"), b.WaitText("its certificate is not one that is trusted"))
	certificate := s.World.Certificate(t.Context())
	do(t, b.ShiftTab(), b.Type(certificate), b.Press(browser.Enter), b.WaitText("yard is signed in"), b.WaitText("Its own trash holds 1 items"),
		b.WaitText("Its survey has begun"))
}
