package main

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"time"
)

// cost is what a piece of work took.
type cost struct {
	clock     time.Duration
	processor time.Duration // of all processes, children included; 0 where it was not measured
}

// row is one line of the table.
type row struct {
	work, yardstick string
	ours, theirs    []cost        // of each round
	bar             float64       // the ratio that is promised; 0: none
	most            time.Duration // the time that is promised; 0: none
	limit           string        // what is promised where it is no ratio to a yardstick, and whether that is kept
	memory          int64         // bytes, the most of all rounds
}

// curve is how a cost grows.
type curve struct {
	name   string
	points []string
}

// median returns the cost of the round in the middle.
func median(all []cost) cost {
	if len(all) == 0 {
		return cost{}
	}
	sorted := slices.Clone(all)
	slices.SortFunc(sorted, func(a, b cost) int { return int(a.clock - b.clock) })
	return sorted[len(sorted)/2]
}

// p95 returns what nineteen of twenty rounds stay below.
func p95(all []cost) cost {
	sorted := slices.Clone(all)
	slices.SortFunc(sorted, func(a, b cost) int { return int(a.clock - b.clock) })
	return sorted[len(sorted)*95/100]
}

func (r row) text() string {
	ours, theirs := median(r.ours), median(r.theirs)
	cells := []string{r.work, short(ours.clock), short(ours.processor), r.yardstick, short(theirs.clock), short(theirs.processor)}
	ratio, verdict := "—", "—"
	switch {
	case theirs.clock > 0:
		times := float64(ours.clock) / float64(theirs.clock)
		ratio = fmt.Sprintf("%.3g×", times)
		if r.bar > 0 {
			verdict = fmt.Sprintf("≤ %g×: %s", r.bar, met(times <= r.bar))
		}
	case r.limit != "":
		verdict = r.limit
	}
	memory := "—"
	if r.memory > 0 {
		memory = fmt.Sprintf("%d MiB", r.memory>>20)
	}
	return "| " + strings.Join(append(cells, ratio, verdict, memory), " | ") + " |\n"
}

func met(yes bool) string {
	if yes {
		return "met"
	}
	return "**missed**"
}

// text is the table with the curves below it, in Markdown.
func (b *bench) text() string {
	var t strings.Builder
	fmt.Fprintf(&t, "Scale %g.\n\n", b.scale)
	t.WriteString("| work | ours | processor | yardstick | its time | processor | ratio | bar | memory |\n" +
		"|---|---|---|---|---|---|---|---|---|\n")
	for _, r := range b.rows {
		t.WriteString(r.text())
	}
	for _, c := range b.curves {
		fmt.Fprintf(&t, "\n- **%s**: %s", c.name, strings.Join(c.points, ", "))
	}
	if len(b.curves) > 0 {
		t.WriteString("\n")
	}
	return t.String()
}

// The lines of a document between which the table stands.
const (
	tableBegins = "<!-- table -->\n"
	tableEnds   = "<!-- end of table -->\n"
)

func replaceTable(path, text string) error {
	content, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	before, rest, found := strings.Cut(string(content), tableBegins)
	_, after, ended := strings.Cut(rest, tableEnds)
	if !found || !ended {
		return fmt.Errorf("%s has no lines %q and %q", path, strings.TrimSpace(tableBegins), strings.TrimSpace(tableEnds))
	}
	return os.WriteFile(path, []byte(before+tableBegins+text+tableEnds+after), 0o644)
}

func short(d time.Duration) string {
	switch {
	case d == 0:
		return "—"
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.2f ms", float64(d.Microseconds())/1000)
	}
	return fmt.Sprintf("%d ms", d.Milliseconds())
}
