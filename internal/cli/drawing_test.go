package cli

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
	"humble-rewind/internal/core/problem"
)

var noon = time.Date(2026, 11, 3, 12, 0, 0, 0, time.UTC)

// someTrail is a trail of some versions between noon and so long before it, each with copies in some lanes.
func someTrail(random *rand.Rand, before time.Duration) api.Trail {
	at := api.Place{Machine: "loft", Path: "/home/ines/Keel.txt"}
	t := api.Trail{Place: at, Names: []api.Place{at}}
	for n := range 1 + random.IntN(3) {
		lane := api.TrailLane{Source: api.SourceRef{Id: fmt.Sprint("s", n), Kind: "snapshots"}}
		for m := range random.IntN(40) {
			lane.Captures = append(lane.Captures, noon.Add(-before+time.Duration(m)*before/40))
			lane.Held = append(lane.Held, random.IntN(3) > 0)
		}
		t.Lanes = append(t.Lanes, lane)
	}
	arrived := noon.Add(-before)
	for n := range 1 + random.IntN(6) {
		v := api.TrailVersion{Place: at, ArrivedAt: arrived, FirstSeenAt: arrived.Add(before / 100), LastSeenAt: arrived.Add(before / 50)}
		arrived = arrived.Add(time.Duration(random.Int64N(int64(before)/6) + 1))
		superseded := arrived
		v.SupersededAt = &superseded
		mark := api.TrailMark{Id: fmt.Sprint("c", n), Lane: random.IntN(len(t.Lanes)), Readable: random.IntN(4) > 0,
			CapturedAt: v.FirstSeenAt, LastSeenAt: v.LastSeenAt}
		if random.IntN(3) == 0 {
			gone := v.LastSeenAt
			mark.GoneAt = &gone
		}
		v.Marks = &[]api.TrailMark{mark}
		t.Versions = append(t.Versions, v)
	}
	t.Versions[len(t.Versions)-1].SupersededAt = nil
	return t
}

// However long a trail and however narrow the terminal: nothing is wider than that, every version and every copy shows, and no two dates
// on the axis touch.
func TestATrailIsDrawnWithinItsWidth(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for range 500 {
		width := 60 + random.IntN(141)
		trail := someTrail(random, time.Hour<<random.IntN(17))
		var b bytes.Buffer
		d := newDrawing(trail, width, noon, time.UTC)
		d.print(&session{Program: &Program{Stdout: &b, Now: func() time.Time { return noon }}, zone: time.UTC})
		lines := strings.Split(strings.TrimRight(b.String(), "\n"), "\n")
		require.Len(t, lines, 4+len(trail.Lanes), b.String())
		for _, line := range lines[:len(lines)-1] { // the legend breaks where it may
			assert.LessOrEqual(t, utf8.RuneCountInString(line), width, b.String())
		}
		assert.Regexp(t, `^\s+((\d+ \p{L}{3}|\p{L}{3} \d{4}|\d\d:\d\d)\s+)*now$`, lines[0], "two dates touch, or one is cut")
		assert.Contains(t, lines[1], "1", "the first version has its number")
		assert.Regexp(t, "[█▒▐]", lines[2])
		copies := make([]int, len(trail.Lanes))
		for _, v := range trail.Versions {
			copies[(*v.Marks)[0].Lane]++
		}
		for n, line := range lines[3 : 3+len(trail.Lanes)] {
			drawn := strings.ContainsAny(line, "●○✕")
			for _, v := range trail.Versions {
				if m := (*v.Marks)[0]; m.Lane == n && (m.Readable || m.GoneAt != nil) {
					assert.True(t, drawn, "a copy of lane %d does not show:\n%s", n, b.String())
				}
			}
			assert.False(t, drawn && copies[n] == 0, "nothing is there, and something shows:\n%s", b.String())
		}
	}
}

// A step is a command as it stands, its subject quoted as a shell wants it.
func TestAStepIsACommandAsItStands(t *testing.T) {
	for do := range commands {
		about := "front-office:/home/ines/Quote 127's.odt"
		whole, bare := command(api.Step{Do: string(do), About: &about}), command(api.Step{Do: string(do)})
		assert.True(t, strings.HasPrefix(whole, "humble-rewind "), "%s", do)
		assert.NotContains(t, whole+bare, "%")
		if whole != bare {
			assert.Contains(t, whole, quotePath(about))
			assert.Regexp(t, "[A-Z]{4}", bare, "what to put there is named")
		}
	}
	assert.Empty(t, command(api.Step{Do: "dance"}), "a newer service's step is passed over")
	assert.Empty(t, with([]api.Step{{Do: "dance"}}))
	assert.Equal(t, " With: humble-rewind machine list; humble-rewind find WORDS",
		with([]api.Step{{Do: string(problem.ListMachines)}, {Do: "dance"}, {Do: string(problem.Find)}}))
}

func TestWhatRemainsToBeTriedSaysHow(t *testing.T) {
	said := tried([]api.Reason{{Code: "next-add", Text: "There may be more."}, {Code: "next-wait", Text: "Wait."},
		{Code: "sealed-ask", Text: "Ask for the whole.", Values: map[string]any{"place": "loft:/home/ines/My vault", "loss": "damaged"}}}, "loft")
	assert.Equal(t, []string{
		"There may be more. With: humble-rewind source suggest loft",
		"Wait.",
		"Ask for the whole. With: humble-rewind advise 'loft:/home/ines/My vault' --loss damaged",
	}, said)
}

func TestTextOfFilesDoesNothingInATerminal(t *testing.T) {
	for text, want := range map[string]string{"oak\x1b[2J": "oak\uFFFD[2J", "a\u202eb": "a\uFFFDb", "é\tæ": "é\tæ", "a\nb": "a\uFFFDb", "\x9b1m": "\uFFFD1m"} {
		assert.Equal(t, want, inert(text))
	}
}

func TestATableIsAsWideAsItsWidestCells(t *testing.T) {
	var b bytes.Buffer
	table := table{head: []string{"N", "NAME", "SIZE"}, right: map[int]bool{0: true}}
	table.add("1", "帆.txt", "12 B")
	table.add("10", "a", "")
	table.print(&b)
	assert.Equal(t, " N  NAME    SIZE\n 1  帆.txt  12 B\n10  a\n", b.String())
}
