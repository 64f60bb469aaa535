package cli

import (
	"context"
	"encoding/base64"
	"fmt"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"humble-rewind/api"
)

func (p *Program) folderCommand() *cli.Command {
	return &cli.Command{
		Name: "folder", Usage: "a folder as it was at a moment, put together from all sources", ArgsUsage: "PLACE",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "as-of", Usage: "the moment, a `TIME` such as yesterday 17:00 (default: now)"},
			&cli.StringFlag{Name: "against", Usage: "what to compare it with: now or a `TIME`", Value: "now"},
			&cli.BoolFlag{Name: "deep", Usage: "everything below it, not only one level"},
			jsonFlag(),
		},
		Action: p.client(1, 1, "a folder's place", func(ctx context.Context, s *session, c *cli.Command, args []string) error {
			at, err := typedPlace(args[0])
			if err != nil {
				return err
			}
			asOf, err := s.moment(c.String("as-of"))
			if err != nil {
				return err
			}
			against, err := s.moment(c.String("against"))
			if err != nil {
				return err
			}
			deep := c.Bool("deep")
			response, err := s.api.GetFolder(
				ctx,
				&api.GetFolderParams{Machine: at.Machine, PathBytes: encoded(at.Path), AsOf: asOf, Against: against, Deep: &deep},
			)
			f, err := shown[api.Folder](s, response, err)
			if err == nil && !s.json {
				s.showFolder(f)
			}
			return err
		}),
	}
}

// moment is time, but that now is no time.
func (s *session) moment(text string) (*time.Time, error) {
	if text == "now" {
		return nil, nil
	}
	return s.time(text)
}

func encoded(path string) *string {
	text := base64.StdEncoding.EncodeToString([]byte(path))
	return &text
}

// What the terminal's grid shows: the newest moments, and so many entries that changed in them.
const (
	maxColumns = 40
	maxRows    = 200
)

// unchanged tells of an entry whether it was all the time as it was in the first moment that is shown, which is the very first or not.
func unchanged(cells string, veryFirst bool) bool {
	if veryFirst {
		cells = strings.TrimPrefix(cells, "#")
	}
	return strings.Count(cells, "-") == len(cells)
}

func (s *session) showFolder(f api.Folder) {
	when, against := "now", "now"
	if f.AsOf != nil {
		when = "as of " + s.at(f.AsOf)
	}
	if f.Against != nil {
		against = s.at(f.Against)
	}
	fmt.Fprintf(
		s.Stdout,
		"%s %s, against %s: %s, %s, %s, %s, %s.\n\n",
		quoted(f.Place),
		when,
		against,
		count(int64(f.Same), "file the same", "files the same"),
		count(
			int64(f.Changed),
			"changed",
			"changed",
		),
		count(int64(f.Missing), "missing", "missing"),
		count(int64(f.Added), "added", "added"),
		count(int64(f.Moved), "moved", "moved"),
	)
	if f.Was != nil {
		fmt.Fprintf(s.Stdout, "It was %s before, and what was in that counts as in this.\n\n", quoted(*f.Was))
	}
	if f.Sealed != nil {
		fmt.Fprintf(s.Stdout, "%s is %s.\nA single file of it does not fit what stands beside it. Bring it back whole, beside what is there: humble-rewind bring-back %s "+
			"--as-of TIME\n\n", quoted(f.Sealed.Place), f.Sealed.Why, quoted(f.Sealed.Place))
	}
	t := table{head: []string{"COPY", "STATE", "SIZE", "WRITTEN", "NAME"}, right: map[int]bool{2: true}}
	for _, e := range f.Entries {
		bytes := "—"
		if e.Size != nil && e.Type == api.EntryTypeFile {
			bytes = size(*e.Size)
		}
		name := quotePath(e.Name)
		if e.Type == api.EntryTypeFolder {
			name += "/"
		}
		if e.Sealed != nil {
			bytes = size(*e.Sealed.Size)
			name += " (one item of " + count(int64(*e.Sealed.Files), "file", "files") + ": " + e.Sealed.Why + ")"
		}
		if e.MovedTo != nil {
			name += " (now " + quotePath(*e.MovedTo) + ")"
		}
		if !e.Proved {
			name += " (assumed)"
		}
		t.add(dash(text(e.Copy)), string(e.State), bytes, s.at(e.WrittenAt), name)
	}
	t.print(s.Stdout)
	s.showGrid(f)
	if f.RowsLeft != nil {
		fmt.Fprintf(s.Stdout, "What each moment did is shown of the first %s; look for others by name with: humble-rewind find\n",
			count(int64(len(f.Rows)), "entry", "entries"))
	}
	fmt.Fprintln(s.Stdout, s.zoneLine())
}

// showGrid draws which moment has which entry, the newest moments at the right.
func (s *session) showGrid(f api.Folder) {
	first := max(0, len(f.Moments)-maxColumns)
	moments := f.Moments[first:]
	if len(moments) == 0 {
		return
	}
	wide, quiet, changed := 0, 0, 0
	var rows []api.FolderRow
	for _, r := range f.Rows {
		switch shown := r.Cells[first:]; {
		case !strings.ContainsAny(shown, "#>-"):
			continue // not there in any of these moments
		case unchanged(shown, first == 0):
			quiet++
			continue
		}
		if changed++; changed > maxRows {
			continue
		}
		rows = append(rows, r)
		wide = max(wide, runewidth.StringWidth(r.Name))
	}
	fmt.Fprintln(s.Stdout)
	cells := strings.NewReplacer(".", " ", "-", "·", "#", "■", ">", "→")
	for _, r := range rows {
		fmt.Fprintf(s.Stdout, "  %s  │%s│\n", runewidth.FillRight(r.Name, wide), cells.Replace(r.Cells[first:]))
	}
	fmt.Fprintf(s.Stdout, "  %s  │%s│\n", strings.Repeat(" ", wide), s.ruler(moments))
	if n := changed - len(rows); n > 0 {
		fmt.Fprintf(s.Stdout, "  %s changed in these moments; name a folder in this one to see them, or find them by name.\n",
			count(int64(n), "more entry", "more entries"))
	}
	if quiet > 0 {
		fmt.Fprintf(s.Stdout, "  %s did not change in these moments.\n", count(int64(quiet), "more entry", "more entries"))
	}
	at := func(m api.FolderMoment) string { return fmt.Sprintf("%s (%d)", s.at(&m.At), m.Changed) }
	fmt.Fprintf(
		s.Stdout,
		"  %s from %s to %s; ■ new content, · as before, → moved; every fifth is marked:\n",
		count(int64(len(moments)), "moment", "moments"),
		at(moments[0]),
		at(moments[len(moments)-1]),
	)
	for i, m := range moments {
		if i%5 == 4 || i == 0 || i == len(moments)-1 {
			fmt.Fprintf(s.Stdout, "    %3d  %s, %s changed\n", i+1, s.at(&m.At), count(int64(m.Changed), "entry", "entries"))
		}
	}
}

func (s *session) ruler(moments []api.FolderMoment) string {
	marks := make([]byte, len(moments))
	for i := range marks {
		marks[i] = ' '
		if i%5 == 4 {
			marks[i] = '\''
		}
	}
	return string(marks)
}
