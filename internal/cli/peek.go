package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"humble-rewind/api"
)

func (p *Program) peekCommand() *cli.Command {
	return &cli.Command{
		Name: "peek", Usage: "a first look at a copy", ArgsUsage: "COPY",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "text", Usage: "only its text"},
			&cli.BoolFlag{Name: "raw", Usage: "its bytes as they are"},
			jsonFlag(),
		},
		Action: p.client(1, 1, "one copy's id, such as c12", func(ctx context.Context, s *session, c *cli.Command, args []string) error {
			if c.Bool("raw") {
				return s.raw(ctx, args[0])
			}
			response, err := s.api.GetPreview(ctx, args[0])
			look, err := shown[api.Preview](s, response, err)
			if err != nil || s.json {
				return err
			}
			if c.Bool("text") {
				if look.Shows != api.PreviewShowsText {
					return fmt.Errorf(
						"%s is %s and shows no text. Next: peek without --text, or with --raw for its bytes",
						args[0],
						look.MediaType,
					)
				}
				s.lines(look)
				return nil
			}
			return s.preview(ctx, args[0], look)
		}),
	}
}

func (s *session) raw(ctx context.Context, id string) error {
	response, err := s.api.GetContent(ctx, id)
	if err != nil || response.StatusCode >= 400 {
		_, err := s.body(response, err)
		return err
	}
	defer response.Body.Close()
	n, err := io.Copy(s.Stdout, response.Body)
	if err == nil && response.ContentLength >= 0 && n != response.ContentLength {
		err = errors.New("the service stopped in the middle")
	}
	if err != nil {
		return fmt.Errorf("read %s: %w. Next: try again", id, err)
	}
	return nil
}

func (s *session) preview(ctx context.Context, id string, look api.Preview) error {
	response, err := s.api.GetCopy(ctx, id)
	c, err := answer[api.Copy](&session{Program: s.Program, url: s.url}, response, err)
	if err != nil {
		return err
	}
	fmt.Fprintf(s.Stdout, "%s\n", quoted(c.Place))
	fmt.Fprintf(s.Stdout, "%s, %s", look.MediaType, size(look.Size))
	if look.Width != nil && look.Height != nil {
		fmt.Fprintf(s.Stdout, ", %d × %d pixels", *look.Width, *look.Height)
	}
	if c.GoneAt != nil {
		fmt.Fprintf(s.Stdout, ", deleted %s", s.at(c.GoneAt))
	}
	if c.WrittenAt != nil {
		fmt.Fprintf(s.Stdout, ", written %s", s.at(c.WrittenAt))
	}
	fmt.Fprintf(s.Stdout, ". %s\n", s.zoneLine())
	for _, note := range c.Notes {
		fmt.Fprintln(s.Stdout, "  "+note)
	}
	if look.Note != nil {
		fmt.Fprintln(s.Stdout, *look.Note)
	}
	switch look.Shows {
	case api.PreviewShowsPicture:
		fmt.Fprintln(s.Stdout, "A picture: the console shows it; --raw writes its bytes.")
	case api.PreviewShowsLink:
		fmt.Fprintf(s.Stdout, "A link to %s\n", quotePath(text(look.Target)))
	case api.PreviewShowsFolder:
		s.listing(look)
	default:
		fmt.Fprintln(s.Stdout)
		if look.Sheets != nil {
			s.sheets(look)
			return nil
		}
		s.lines(look)
	}
	return nil
}

// maxCell is how wide a cell is shown in the terminal, in characters.
const maxCell = 40

// sheets prints the cells of a spreadsheet as tables.
func (s *session) sheets(look api.Preview) {
	for _, sheet := range *look.Sheets {
		if sheet.Name != nil {
			fmt.Fprintf(s.Stdout, "%s\n", inert(*sheet.Name))
		}
		t := table{right: map[int]bool{}}
		wide := 0
		for _, row := range sheet.Rows {
			wide = max(wide, len(row))
		}
		for _, row := range sheet.Rows {
			cells := make([]string, wide)
			for i := range cells {
				if i < len(row) {
					cells[i] = runewidth.Truncate(flat(row[i]), maxCell, "…")
				}
			}
			t.add(cells...)
		}
		for i := range wide {
			t.right[i] = numeric(sheet.Rows, i)
		}
		t.print(s.Stdout)
	}
	if look.Cut != nil && *look.Cut {
		fmt.Fprintln(s.Stdout, "… there is more; --raw writes all of it")
	}
}

// numeric tells whether a column holds numbers, but for its head.
func numeric(rows [][]string, column int) bool {
	numbers := 0
	for n, row := range rows {
		if column >= len(row) || row[column] == "" || n == 0 {
			continue
		}
		if strings.Trim(row[column], "0123456789.,-+ %€") != "" {
			return false
		}
		numbers++
	}
	return numbers > 0
}

func (s *session) lines(look api.Preview) {
	if look.Lines == nil {
		return
	}
	for _, line := range *look.Lines {
		fmt.Fprintln(s.Stdout, inert(line))
	}
	if look.Cut != nil && *look.Cut {
		fmt.Fprintln(s.Stdout, "… there is more; --raw writes all of it")
	}
}

func (s *session) listing(look api.Preview) {
	if look.Entries == nil || len(*look.Entries) == 0 {
		fmt.Fprintln(s.Stdout, "The folder is empty.")
		return
	}
	t := table{head: []string{"COPY", "SIZE", "NAME"}, right: map[int]bool{1: true}}
	for _, e := range *look.Entries {
		name := e.Name
		if e.Type == api.EntryTypeFolder {
			name += "/"
		}
		bytes := "—"
		if e.Size != nil {
			bytes = size(*e.Size)
		}
		t.add(dash(text(e.Copy)), bytes, name)
	}
	t.print(s.Stdout)
}
