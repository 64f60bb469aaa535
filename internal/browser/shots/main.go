// Command shots takes the pictures of the console that the documentation shows, from a served sample world.
//
//	shots URL-WITH-TOKEN DIR
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"humble-rewind/internal/browser"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "usage: shots URL-WITH-TOKEN DIR")
		os.Exit(2)
	}
	if err := take(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// ago is a moment so many hours back, as an address carries it.
func ago(hours int) string {
	return time.Now().UTC().Add(-time.Duration(hours) * time.Hour).Format("2006-01-02T15:04:05Z")
}

func take(link, dir string) error {
	b, err := browser.Open(context.Background(), 1280, 800)
	if err != nil {
		return err
	}
	defer b.Close()
	base, _, _ := strings.Cut(link, "/sign-in")
	shot := func(name string) error {
		png, err := b.Screenshot()
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644)
	}
	press := func(keys ...string) func() error { return func() error { return b.Press(keys...) } }
	visit := func(path, text string) func() error {
		return func() error {
			if err := b.Visit(base + path); err != nil {
				return err
			}
			return b.WaitText(text)
		}
	}
	scroll := func(section string) func() error {
		return func() error {
			_, err := b.Evaluate(fmt.Sprintf("(document.querySelector('[aria-label=\"%s\"]').scrollIntoView(), '')", section))
			return err
		}
	}
	steps := []func() error{
		func() error { return b.Visit(link) },
		func() error { return b.WaitText("Deleted lately") },
		func() error { return shot("desk") },
		visit("/find?words=offsets&state=gone", "Marsh Wren offsets.csv"),
		func() error { return b.TabTo("row", 40) },
		press(browser.Space, browser.Down, browser.Down, browser.Space, browser.Down, browser.Space),
		func() error { return b.WaitText("3 copies selected") },
		func() error { return shot("find") },
		press("b"),
		func() error { return b.WaitText("Nothing is written yet") },
		func() error { return shot("bring-back") },
		press(browser.Escape),
		visit(
			"/trail?machine=front-office&path=/home/ines/Documents/Quotes/Quote+116+Little+Tern.odt&good_at="+ago(60)+"&noticed_at="+ago(3),
			"Version 8 of 8",
		),
		func() error { return b.TabTo("application", 40) },
		press(browser.Left),
		func() error { return b.WaitText("Version 7 of 8") },
		func() error { return shot("trail") },
		press("c", browser.Left, "c"),
		func() error { return b.WaitText("1 paragraph changed") },
		func() error { return shot("compare") },
		visit("/folder?machine=front-office&path=/home/ines/Documents&as_of="+ago(9*24), "Against now"),
		func() error { return b.TabTo("row", 40) },
		press(browser.Down, browser.Down, browser.Down, browser.Down, browser.Down),
		func() error { return shot("folder") },
		visit("/trail?machine=drawing-loft&path=/home/tomas/Lines/Kittiwake+offsets.csv", "Faired station"),
		func() error { return b.TabTo("application", 40) },
		press(browser.Left, browser.Left),
		func() error { return shot("trail-kept") },
		visit("/machines/drawing-loft", "Add a cloud drive"),
		func() error { return b.Dark(true) },
		func() error { return shot("machines") },
		func() error { return b.Dark(false) },
		visit("/cases/k3", "newer versions were examined"),
		func() error { return shot("case") },
		visit("/cases/k6", "24 files were rewritten"),
		scroll("Reasons"),
		func() error { return shot("case-folder") },
		visit("/cases/new", "Whose is it?"),
		press(browser.Tab, browser.Tab),
		func() error { return b.Type("offsets turnstone") },
		func() error { return b.TabTo("When was it last right?", 10) },
		func() error { return b.Type("it was fine on Friday evening") },
		func() error { return b.WaitText("understood as") },
		func() error { return shot("case-new") },
		visit("/trail?machine=front-office&path=/home/ines/Documents/Accounts/Ledger+09.ods&case=k3", "advised"),
		func() error { return b.TabTo("application", 40) },
		func() error { return shot("trail-advised") },
		visit("/cases/k2", "It is what was there on"),
		press("b"),
		func() error { return b.WaitText("Nothing is written yet") },
		func() error { return b.WaitFocus("button: Bring back") },
		press(browser.Enter),
		func() error { return b.WaitText("Done: 1 item settled") },
		press(browser.Escape),
		func() error {
			return b.Show(base + "/api/v1/cases/k2/report?reader=user&format=html&zone=Europe/Lisbon")
		},
		func() error { return shot("report") },
		visit("/receipts", "Receipt r"),
		func() error { return shot("receipts") },
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}
