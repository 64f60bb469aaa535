package cli

import (
	"fmt"
	"io"
	"strings"
	"time"
	"unicode"

	"github.com/dustin/go-humanize"
	"github.com/mattn/go-runewidth"

	"humble-rewind/internal/core/place"
)

// table prints rows under a head, where they have one, columns as wide as their widest cell; the last column is not padded.
// Numbers are set to the right in the columns named.
type table struct {
	head  []string
	right map[int]bool
	rows  [][]string
}

func (t *table) add(cells ...string) { t.rows = append(t.rows, cells) }

func (t *table) print(w io.Writer) {
	var widths []int
	rows := t.rows
	if len(t.head) > 0 {
		rows = append([][]string{t.head}, rows...)
	}
	for _, row := range rows {
		for i, cell := range row {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], runewidth.StringWidth(cell))
		}
	}
	for _, row := range rows {
		var line strings.Builder
		for i, cell := range row {
			padding := strings.Repeat(" ", widths[i]-runewidth.StringWidth(cell))
			switch {
			case t.right[i]:
				line.WriteString(padding + cell)
			case i == len(row)-1:
				line.WriteString(cell)
			default:
				line.WriteString(cell + padding)
			}
			if i < len(row)-1 {
				line.WriteString("  ")
			}
		}
		fmt.Fprintln(w, strings.TrimRight(line.String(), " "))
	}
}

// at shows a time in the technician's zone.
func (s *session) at(t *time.Time) string {
	if t == nil || t.IsZero() {
		return "—"
	}
	return t.In(s.zone).Format("2006-01-02 15:04")
}

// until shows how far off a time is.
func (s *session) until(t *time.Time) string {
	if t == nil {
		return "never"
	}
	d := t.Sub(s.Now())
	switch {
	case d < 0:
		return "overdue"
	case d < 48*time.Hour:
		return fmt.Sprintf("in %d h", int(d.Hours()))
	}
	return fmt.Sprintf("in %d days", int(d.Hours()/24))
}

func (s *session) zoneLine() string {
	name := s.zone.String()
	short, _ := s.Now().In(s.zone).Zone()
	if name == "Local" {
		name = "the local zone"
	}
	if name == short {
		return "Times are in " + name + "."
	}
	return fmt.Sprintf("Times are in %s (%s).", name, short)
}

// size is a size in bytes as people say it; a dash where nothing tells, which is below zero.
func size(bytes int64) string {
	if bytes < 0 {
		return "—"
	}
	return humanize.IBytes(uint64(bytes))
}

func count(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(n) + " " + many
}

// inert makes text that came out of a file safe for a terminal.
func inert(text string) string {
	return strings.Map(func(r rune) rune {
		if r == '\t' || unicode.IsPrint(r) && !unicode.Is(unicode.Cf, r) {
			return r
		}
		return '\uFFFD'
	}, text)
}

func text(p *string) string {
	if p == nil {
		return ""
	}
	return *p
}

func dash(s string) string {
	if s == "" {
		return "—"
	}
	return s
}

func quotePath(p string) string { return place.Quote(p) }
