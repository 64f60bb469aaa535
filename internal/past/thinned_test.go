package past_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
	"humble-rewind/internal/survey"
)

// weeks is a home in which things happen at random while it is looked at every few hours: of its own files, its trash, and full copies at times.
type weeks struct {
	*sitetest.Site
	t       *testing.T
	r       *rand.Rand
	now     time.Time
	sources []catalogue.Source
	trashed int
}

var documents = []string{"Keel.txt", "Mast.txt", "Plans/Deck.txt", "Plans/Sails.txt"}

func (w *weeks) happen() {
	at := w.now.Add(time.Duration(w.r.IntN(3*60)) * time.Minute)
	name := documents[w.r.IntN(len(documents))]
	path := w.Path("/home/ines/" + name)
	_, err := os.Lstat(path)
	there := err == nil
	switch do := w.r.IntN(10); {
	case do < 4 || !there: // written, sometimes with an old write time
		w.Lay(map[string]string{"/home/ines/" + name: fmt.Sprint(w.r.IntN(6), strings.Repeat(" oak", w.r.IntN(5)))})
		when := at
		if w.r.IntN(5) == 0 {
			when = at.AddDate(0, 0, -w.r.IntN(9))
		}
		require.NoError(w.t, os.Chtimes(path, when, when))
	case do < 6: // thrown away
		w.trashed++
		as := fmt.Sprint("t", w.trashed)
		can := "/home/ines/.local/share/Trash"
		require.NoError(w.t, os.MkdirAll(w.Path(can+"/files"), 0o700))
		require.NoError(w.t, os.MkdirAll(w.Path(can+"/info"), 0o700))
		require.NoError(w.t, os.Rename(path, w.Path(can+"/files/"+as)))
		w.Record(can, as, "/home/ines/"+name, at.Format("2006-01-02T15:04:05"))
	case do < 7:
		require.NoError(w.t, os.Remove(path))
	case do < 9: // renamed
		to := documents[w.r.IntN(len(documents))]
		require.NoError(w.t, os.MkdirAll(filepath.Dir(w.Path("/home/ines/"+to)), 0o755))
		require.NoError(w.t, os.Rename(path, w.Path("/home/ines/"+to)))
	default: // a full copy is made
		dir := "/srv/points/" + at.UTC().Format("2006-01-02T1504")
		require.NoError(w.t, os.MkdirAll(w.Path(dir+"/home/ines"), 0o755))
		require.NoError(w.t, os.CopyFS(w.Path(dir+"/home/ines"), os.DirFS(w.Path("/home/ines"))))
	}
}

func (w *weeks) look(src catalogue.Source) {
	now, err := w.Catalogue.Sources.ByID(w.t.Context(), src.ID)
	require.NoError(w.t, err)
	_, err = survey.Run(w.t.Context(), w.Site.Site, now, w.now, survey.Following{})
	require.NoError(w.t, err)
}

// told is everything that is said of all places: versions, events with gaps, and the folders as of some moments.
func (w *weeks) told() string {
	var all []string
	for _, name := range documents {
		t, err := w.Past.Trail(w.t.Context(), place.Place{Machine: "loft", Path: "/home/ines/" + name})
		if err != nil {
			all = append(all, err.Error())
			continue
		}
		said, err := json.MarshalIndent([]any{name, t.Names, t.Versions, t.Events}, "", " ")
		require.NoError(w.t, err)
		all = append(all, string(said))
		for day := range 20 {
			at := first.AddDate(0, 0, day).Add(13 * time.Hour)
			n, proved := t.Current(at)
			all = append(all, fmt.Sprint(at, n, proved))
		}
	}
	return strings.Join(all, "\n")
}

// Most captures of a source that is looked at often are not kept; trails, what was proved at each moment, and gaps are what they were.
func TestTrailsAndGapsStayWhenCapturesAreThinned(t *testing.T) {
	gaps := 0
	for seed := range uint64(6) {
		w := &weeks{Site: sitetest.New(t), t: t, r: rand.New(rand.NewPCG(seed, 24)), now: first}
		w.Lay(map[string]string{"/home/ines/Keel.txt": "oak", "/home/ines/Plans/Deck.txt": "larch", "/srv/points/2026-09-01T0000/home/ines/Keel.txt": "oak"})
		for _, n := range []registry.NewSource{{Machine: "loft", Kind: "live"}, {Machine: "loft", Kind: "trash", At: "/home/ines"},
			{Machine: "loft", Kind: "snapshots", At: "/srv/points", Zone: "UTC", Named: "%Y-%m-%dT%H%M"}} {
			src, err := w.AddSource(t.Context(), n)
			require.NoError(t, err)
			w.sources = append(w.sources, src)
		}
		for range 14 * 8 {
			w.now = w.now.Add(3 * time.Hour)
			if w.r.IntN(9) == 0 {
				w.happen()
			}
			if w.r.IntN(40) == 0 {
				w.now = w.now.Add(time.Duration(w.r.IntN(40)) * time.Hour) // nobody looked
			}
			for n, src := range w.sources {
				if n == 0 || w.r.IntN(3) > 0 {
					w.now = w.now.Add(time.Minute)
					w.look(src)
				}
			}
		}
		before := w.told()
		count := func() (all int) {
			stores, err := w.View.Copies.Stores(t.Context())
			require.NoError(t, err)
			for _, s := range stores {
				all += len(s.Captures)
			}
			return all
		}
		had := count()
		dropped, err := w.Catalogue.Surveys.Thin(t.Context(), w.now.Add(72*time.Hour), nil)
		require.NoError(t, err)
		require.Greater(t, dropped, 20, "seed %d: of %d", seed, had)
		assert.Equal(t, had-dropped, count())
		require.Equal(t, before, w.told(), "seed %d", seed)
		gaps += strings.Count(before, string(trail.Gap))
		w.look(w.sources[0]) // and it goes on from there
	}
	assert.Positive(t, gaps)
}
