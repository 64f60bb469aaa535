package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
)

func (p *Program) compareCommand() *cli.Command {
	return &cli.Command{
		Name: "compare", Usage: "how two copies differ, or a copy and what stands in its place now", ArgsUsage: "COPY COPY|now",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "at", Usage: "with now: what stands at this `PLACE` instead of the copy's own"},
			jsonFlag(),
		},
		Action: p.client(
			2,
			2,
			"two ids of copies, or one and the word now",
			func(ctx context.Context, s *session, c *cli.Command, args []string) error {
				params := api.CompareParams{Left: args[0], Right: args[1]}
				if at := c.String("at"); at != "" {
					p, err := typedPlace(at)
					if err != nil {
						return err
					}
					params.Machine, params.PathBytes = &p.Machine, encoded(p.Path)
				}
				response, err := s.api.Compare(ctx, &params)
				d, err := shown[api.Comparison](s, response, err)
				if err == nil && !s.json {
					s.showComparison(d)
				}
				return err
			},
		),
	}
}

func (s *session) showComparison(d api.Comparison) {
	fmt.Fprintf(s.Stdout, "first   %s  %s  written %s\n", d.Left.Id, quoted(d.Left.Place), s.at(d.Left.WrittenAt))
	if d.Right != nil {
		fmt.Fprintf(s.Stdout, "second  %s  %s  written %s\n", d.Right.Id, quoted(d.Right.Place), s.at(d.Right.WrittenAt))
	} else {
		fmt.Fprintf(s.Stdout, "second  what is there now\n")
	}
	fmt.Fprintln(s.Stdout, inert(d.Summary))
	for _, note := range d.Notes {
		fmt.Fprintln(s.Stdout, inert(note))
	}
	for _, b := range d.Blocks {
		s.showBlock(b)
	}
	if len(d.Cells) > 0 {
		t := table{head: []string{"SHEET", "CELL", "FIRST", "SECOND"}}
		for _, c := range d.Cells {
			t.add(dash(inert(c.Sheet)), c.Address, dash(flat(c.Left)), dash(flat(c.Right)))
		}
		t.print(s.Stdout)
	}
	if len(d.Entries) > 0 {
		t := table{head: []string{"CHANGE", "FIRST", "SECOND", "ENTRY"}, right: map[int]bool{1: true, 2: true}}
		for _, e := range d.Entries {
			t.add(string(e.Change), optionalSize(e.Left), optionalSize(e.Right), e.Path)
		}
		t.print(s.Stdout)
	}
	if d.Picture != nil {
		for _, r := range d.Picture.Regions {
			fmt.Fprintf(s.Stdout, "  %d × %d pixels from %d, %d\n", r.Width, r.Height, r.X, r.Y)
		}
	}
	if d.Cut {
		fmt.Fprintln(s.Stdout, "There is more than is shown.")
	}
}

func flat(text string) string { return inert(strings.ReplaceAll(text, "\n", " ⏎ ")) }

func optionalSize(n *int64) string {
	if n == nil {
		return "—"
	}
	return size(*n)
}

// showBlock writes a line or paragraph of each side, what only one side has set in «».
func (s *session) showBlock(b api.ComparedBlock) {
	line := func(side string, n *int, text string) {
		number := ""
		if n != nil {
			number = fmt.Sprint(*n)
		}
		fmt.Fprintf(s.Stdout, "%6s %5s │ %s\n", side, number, inert(text))
	}
	switch b.Change {
	case api.ComparedBlockChangeFolded:
		fmt.Fprintf(s.Stdout, "             ⋮ %d alike\n", valueOf(b.Count))
	case api.ComparedBlockChangeSame:
		line("", b.LeftNumber, text(b.Left))
	case api.ComparedBlockChangeAdded:
		line("second", b.RightNumber, "«"+text(b.Right)+"»")
	case api.ComparedBlockChangeRemoved:
		line("first", b.LeftNumber, "«"+text(b.Left)+"»")
	case api.ComparedBlockChangeChanged:
		line("first", b.LeftNumber, words(b.LeftWords))
		line("second", b.RightNumber, words(b.RightWords))
	}
}

func words(all *[]api.ComparedWord) string {
	if all == nil {
		return ""
	}
	var b strings.Builder
	for _, w := range *all {
		if w.Marked {
			b.WriteString("«" + w.Text + "»")
		} else {
			b.WriteString(w.Text)
		}
	}
	return b.String()
}

func valueOf(n *int) int {
	if n == nil {
		return 0
	}
	return *n
}
