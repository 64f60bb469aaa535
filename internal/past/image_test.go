package past_test

import (
	"bytes"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/intact"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/demo/card"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
)

// A trace of the name, size and time of a snapshot's version, and nothing that was given away since, holds other bytes all the same: it is
// not taken for that version, neither before it is read nor after.
func TestATraceIsNoVersionByItsSizeAndTime(t *testing.T) {
	s := sitetest.New(t)
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	written := time.Date(2026, 3, 4, 17, 5, 0, 0, zone)
	was := strings.Repeat("plank;oak;3.20\n", 400)
	const snapshot, at = "/srv/points/2026-03-05T0200/home/ines/Trials/Offsets of the Wren.csv", "/home/ines/Trials/Offsets of the Wren.csv"
	s.Lay(map[string]string{snapshot: was})
	require.NoError(t, os.Chtimes(s.Path(snapshot), written, written))
	c := card.New(4<<20, "TRIALS", zone)
	require.NoError(t, c.Put("Trials/Offsets of the Wren.csv", []byte(was), written))
	require.NoError(t, c.Erase("Trials/Offsets of the Wren.csv"))
	from := bytes.Index(c.Image(), []byte("plank"))
	copy(c.Image()[from:], strings.Repeat("other bytes by now", 40))
	s.Lay(map[string]string{"/srv/images/card.img": string(c.Image())})
	for _, n := range []registry.NewSource{{Kind: "snapshots", At: "/srv/points"}, {Kind: "image", At: "/srv/images/card.img", Maps: []string{"/whole=/home/ines"}}} {
		n.Machine = "loft"
		src, err := s.AddSource(t.Context(), n)
		require.NoError(t, err)
		s.Survey(src)
	}
	traces := s.Find(catalogue.Query{Words: "offsets", Kind: "image", Intact: []intact.State{intact.OnePiece}, Limit: 10})
	require.Len(t, traces, 1)
	require.Equal(t, at, traces[0].Place.Path)
	require.True(t, traces[0].Written.Equal(written))
	trail, err := s.Past.Trail(t.Context(), place.Place{Machine: "loft", Path: at})
	require.NoError(t, err)
	for _, v := range trail.Versions {
		kinds := map[string]bool{}
		for _, n := range v.Seen {
			kinds[trail.Seen[n].Store.Kind] = true
		}
		assert.False(t, kinds["image"] && kinds["snapshots"], "%+v", v)
	}
}
