package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"humble-rewind/api"
	"humble-rewind/internal/core/place"
)

func (p *Program) trailCommand() *cli.Command {
	return &cli.Command{
		Name: "trail", Usage: "everything known of one place over time: versions, copies, gaps, moves", ArgsUsage: "PLACE",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:  "condition",
				Usage: "only versions examined and found sound, doubtful or broken, or unread (`CONDITION`)",
			},
			jsonFlag(),
		},
		Action: p.client(
			1,
			1,
			"a place, such as front-office:/home/ines/Quote.odt",
			func(ctx context.Context, s *session, c *cli.Command, args []string) error {
				at, err := typedPlace(args[0])
				if err != nil {
					return err
				}
				params := api.GetTrailParams{Machine: at.Machine, PathBytes: encoded(at.Path),
					Condition: enum[api.ConditionState](c.String("condition"))}
				if !s.json {
					params.Copies = new(api.GetTrailParamsCopiesMarks)
				}
				response, err := s.api.GetTrail(ctx, &params)
				t, err := shown[api.Trail](s, response, err)
				if err == nil && !s.json {
					s.showTrail(t)
				}
				return err
			},
		),
	}
}

// typedPlace reads a place as it was typed.
func typedPlace(typed string) (place.Place, error) {
	p, err := place.Parse(typed)
	if err != nil {
		return p, usage("%w", err)
	}
	return p, nil
}

// showTrail draws the trail and writes the same facts as a table.
func (s *session) showTrail(t api.Trail) {
	fmt.Fprintln(s.Stdout, quoted(t.Place))
	for _, name := range t.Names[1:] {
		fmt.Fprintln(s.Stdout, "also known as "+quoted(name))
	}
	if len(t.Versions) == 0 {
		fmt.Fprintln(s.Stdout, "No capture showed anything there; see what lies in trashes with: humble-rewind find")
		return
	}
	fmt.Fprintln(s.Stdout)
	newDrawing(t, s.width(), s.Now(), s.zone).print(s)
	fmt.Fprintln(s.Stdout)
	s.showVersions(t)
	for _, e := range t.Events {
		when := s.at(&e.At)
		if e.After != nil {
			when = s.at(e.After) + " … " + when
		}
		fmt.Fprintf(s.Stdout, "  %s: %s\n", when, inert(e.Text))
	}
	for _, note := range t.Notes {
		fmt.Fprintln(s.Stdout, "  "+note)
	}
	fmt.Fprintln(s.Stdout, s.zoneLine())
}

func (s *session) showVersions(t api.Trail) {
	head := []string{"", "ARRIVED", "LAST SEEN", "REPLACED", "SIZE", "DIGEST", "COPIES"}
	authors := slices.ContainsFunc(t.Versions, func(v api.TrailVersion) bool { return v.Author != nil })
	if authors {
		head = append(head, "BY")
	}
	several := slices.ContainsFunc(t.Versions, func(v api.TrailVersion) bool { return v.Place.Path != t.Place.Path })
	if several {
		head = append(head, "AS")
	}
	table := table{head: head, right: map[int]bool{0: true, 4: true}}
	for i, v := range t.Versions {
		lastSeen, replaced := s.at(&v.LastSeenAt), "still there"
		switch {
		case v.Beside != nil:
			lastSeen, replaced = "—", "beside"
		case v.SupersededAt != nil:
			replaced = s.at(v.SupersededAt)
		}
		digest := "—"
		if v.Sha256 != nil {
			digest = (*v.Sha256)[:8]
		}
		bytes := "—"
		if v.Size != nil {
			bytes = size(*v.Size)
		}
		row := []string{fmt.Sprint(i + 1), s.at(&v.ArrivedAt), lastSeen, replaced, bytes, digest, markList(t, v)}
		if authors {
			row = append(row, said(v))
		}
		if several {
			row = append(row, quotePath(pathBytes(v.Place)))
		}
		table.add(row...)
	}
	table.print(s.Stdout)
}

// said tells who made a version and what they said of it.
func said(v api.TrailVersion) string {
	if v.Author == nil {
		return "—"
	}
	if v.Message == nil {
		return inert(*v.Author)
	}
	return inert(*v.Author) + ": " + inert(*v.Message)
}

// marksOf returns what is drawn of a version's copies.
func marksOf(v api.TrailVersion) []api.TrailMark {
	if v.Marks == nil {
		return nil
	}
	return *v.Marks
}

// markList names a version's copies by their kinds, those that can be read first.
func markList(t api.Trail, v api.TrailVersion) string {
	var parts []string
	for _, m := range marksOf(v) {
		if m.Readable && m.Lane < len(t.Lanes) {
			parts = append(parts, m.Id+" "+t.Lanes[m.Lane].Source.Kind+conditionWord(m.Condition))
		}
	}
	if lost := len(marksOf(v)) - len(parts); lost > 0 {
		parts = append(parts, count(int64(lost), "record", "records")+" only")
	}
	return strings.Join(parts, ", ")
}

// conditionWord says what examining a copy found, where that is not what everybody expects.
func conditionWord(state *api.ConditionState) string {
	if state != nil && (*state == api.ConditionStateBroken || *state == api.ConditionStateDoubtful) {
		return " (" + string(*state) + ")"
	}
	return ""
}

// width is how many columns can be drawn in.
func (s *session) width() int {
	if f, ok := s.Stdout.(*os.File); ok {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w >= 60 {
			return min(w, 200)
		}
	}
	return 100
}

// drawing is a trail on a row of cells.
type drawing struct {
	t          api.Trail
	zone       *time.Location
	from, to   time.Time
	cells      int
	labelWidth int
}

func newDrawing(t api.Trail, width int, now time.Time, zone *time.Location) *drawing {
	d := &drawing{t: t, zone: zone, to: now, labelWidth: 14}
	for _, lane := range t.Lanes {
		d.labelWidth = max(d.labelWidth, len(laneLabel(lane))+2)
	}
	d.cells = max(30, width-d.labelWidth-1)
	d.from = t.Versions[0].FirstSeenAt
	for _, v := range t.Versions {
		if v.FirstSeenAt.Before(d.from) {
			d.from = v.FirstSeenAt
		}
		if v.LastSeenAt.After(d.to) {
			d.to = v.LastSeenAt
		}
	}
	// A little room before, so that what arrived earlier shows as such.
	d.from = d.from.Add(-max(d.to.Sub(d.from)/20, time.Minute))
	return d
}

func laneLabel(l api.TrailLane) string { return l.Source.Kind + " " + l.Source.Id }

// cell is the cell of a moment; what lies outside is at the ends.
func (d *drawing) cell(at time.Time) int {
	span := d.to.Sub(d.from)
	return min(d.cells-1, max(0, int(float64(at.Sub(d.from))/float64(span)*float64(d.cells-1)+0.5)))
}

func (d *drawing) row(label string, cells []rune) string {
	return strings.TrimRight(label+strings.Repeat(" ", max(1, d.labelWidth-len([]rune(label))))+string(cells), " ")
}

func (d *drawing) print(s *session) {
	fmt.Fprintln(s.Stdout, d.axis())
	names := []api.Place{}
	for _, v := range d.t.Versions {
		if !slices.ContainsFunc(names, func(p api.Place) bool { return p.Path == v.Place.Path && p.Machine == v.Place.Machine }) {
			names = append(names, v.Place)
		}
	}
	for i, name := range names {
		label := "here"
		if len(names) > 1 {
			label = fmt.Sprintf("as %c", 'a'+i)
		}
		numbers, bars := d.bars(name)
		fmt.Fprintln(s.Stdout, d.row("", numbers))
		fmt.Fprintln(s.Stdout, d.row(label, bars))
	}
	for n, lane := range d.t.Lanes {
		fmt.Fprintln(s.Stdout, d.row(laneLabel(lane), d.marks(n)))
	}
	legend := "█ proved  ▒ assumed  ● a copy  ○ only its record  ✕ deleted"
	if slices.ContainsFunc(d.t.Versions, func(v api.TrailVersion) bool { return v.Beside != nil }) {
		legend += "  ◇ beside: not known to have stood here"
	}
	fmt.Fprintln(s.Stdout, d.row("", []rune(legend)))
	if len(names) > 1 {
		for i, name := range names {
			fmt.Fprintln(s.Stdout, d.row("", []rune(fmt.Sprintf("%c: %s", 'a'+i, quoted(name)))))
		}
	}
}

// axis writes dates or hours, as the span needs, each at its cell.
func (d *drawing) axis() string {
	line := []rune(strings.Repeat(" ", d.cells))
	put := func(at int, text string) bool {
		r := []rune(text)
		if at+len(r) > len(line) {
			return false
		}
		for i := max(0, at-1); i < min(len(line), at+len(r)+1); i++ {
			if line[i] != ' ' {
				return false
			}
		}
		copy(line[at:], r)
		return true
	}
	put(len(line)-3, "now")
	span := d.to.Sub(d.from)
	step, layout := 24*time.Hour, "2 Jan"
	switch {
	case span < 48*time.Hour:
		step, layout = time.Hour, "15:04"
	case span > 500*24*time.Hour:
		step, layout = 30*24*time.Hour, "Jan 2006"
	}
	least := 9
	for n := 1; d.cells*int(step)/max(1, int(span)) < least && n < 4000; n++ {
		step += map[string]time.Duration{"2 Jan": 24 * time.Hour, "15:04": time.Hour, "Jan 2006": 30 * 24 * time.Hour}[layout]
	}
	y, m, day := d.from.In(d.zone).Date()
	for at := time.Date(y, m, day, 0, 0, 0, 0, d.zone); at.Before(d.to); at = at.Add(step) {
		if at.After(d.from) {
			put(d.cell(at), at.In(d.zone).Format(layout))
		}
	}
	return d.row("", line)
}

// bars draws the versions under one name, and their numbers above, as far as there is room.
func (d *drawing) bars(name api.Place) (numbers, bars []rune) {
	bars, numbers = []rune(strings.Repeat(" ", d.cells)), []rune(strings.Repeat(" ", d.cells))
	free := 0
	for i, v := range d.t.Versions {
		if v.Place.Path != name.Path || v.Place.Machine != name.Machine || v.Beside != nil {
			continue
		}
		end := d.to
		if v.SupersededAt != nil {
			end = *v.SupersededAt
		}
		start, seen, last := d.cell(v.ArrivedAt), d.cell(v.LastSeenAt), d.cell(end)
		if v.SupersededAt != nil && last > start {
			last--
		}
		for c := start; c <= last; c++ {
			bars[c] = '▒'
			if c <= seen {
				bars[c] = '█'
			}
		}
		if start > 0 && bars[start-1] != ' ' && last > start {
			bars[start] = '▐' // a seam, so that neighbours can be told apart
		}
		if text := []rune(fmt.Sprint(i + 1)); start >= free && start+len(text) <= d.cells {
			copy(numbers[start:], text)
			free = start + len(text) + 1
		}
	}
	return numbers, bars
}

// marks draws the captures of a source that hold a copy.
func (d *drawing) marks(n int) []rune {
	lane := d.t.Lanes[n]
	cells := []rune(strings.Repeat(" ", d.cells))
	for _, v := range d.t.Versions {
		for _, c := range marksOf(v) {
			if c.Lane != n {
				continue
			}
			if v.Beside != nil {
				if at := d.cell(v.ArrivedAt); cells[at] == ' ' {
					cells[at] = '◇'
				}
				continue
			}
			if c.GoneAt != nil {
				cells[d.cell(*c.GoneAt)] = '✕'
				continue
			}
			if mark := '●'; !slices.ContainsFunc(lane.Captures, func(at time.Time) bool {
				return !at.Before(c.CapturedAt) && !at.After(c.LastSeenAt)
			}) && c.Readable {
				cells[d.cell(c.CapturedAt)] = mark // its store tells when it came
			}
			for i, at := range lane.Captures {
				if at.Before(c.CapturedAt) || at.After(c.LastSeenAt) {
					continue
				}
				mark := '○'
				if lane.Held[i] && c.Readable {
					mark = '●'
				}
				if at := d.cell(at); cells[at] != '●' {
					cells[at] = mark
				}
			}
		}
	}
	return cells
}
