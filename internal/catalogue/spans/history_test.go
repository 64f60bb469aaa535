package spans

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
)

// history is a random history of three stores: a machine's own files, its trash, and snapshots, some of which come late, vanish or are
// taken back. It is the same for the same seed.
type history struct {
	t       *testing.T
	r       *rand.Rand
	c       *records
	sources []rows.Source
	clock   int64
	held    []sighting.Capture
	trees   map[string]map[string]map[string]entry.Mark // by kind, folder and name
	said    []string
}

var (
	someNames   = []string{"a", "b", "b2", "c", "d", "e.odt", "f.jpg", "g\xff", "h", "Quote 7.odt", "zeta"}
	someFolders = []string{"", "p", "p/q", "r"}
)

func newHistory(t *testing.T, seed uint64) *history {
	h := &history{t: t, r: rand.New(rand.NewPCG(seed, 11)), clock: 1_000_000, trees: map[string]map[string]map[string]entry.Mark{}}
	var err error
	h.c, err = open(t.Context(), t.TempDir())
	require.NoError(t, err)
	_, err = h.c.Machines.Add(t.Context(), rows.Machine{Name: "loft", At: "/x", Zone: "UTC", RetentionDays: 30})
	require.NoError(t, err)
	for _, s := range []copies.Source{{Kind: "live", At: "/home/ines", Traits: traits.Traits{Shape: traits.Now}},
		{Kind: "trash", At: "/home/ines", Traits: traits.Traits{Shape: traits.Removals}},
		{Kind: "snapshots", At: "/srv", Traits: traits.Traits{Shape: traits.Points}}} {
		s.Machine, s.AtMachine = "loft", "loft"
		added, err := h.c.Sources.Add(t.Context(), rows.Source{Source: s})
		require.NoError(t, err)
		h.sources = append(h.sources, added)
		h.trees[s.Kind] = map[string]map[string]entry.Mark{}
	}
	return h
}

// change changes what stands in a store.
func (h *history) change(kind string) {
	types := []entry.Type{entry.File, entry.File, entry.File, entry.Folder, entry.Link}
	tree := h.trees[kind]
	for range h.r.IntN(12) {
		dir, name := someFolders[h.r.IntN(len(someFolders))], someNames[h.r.IntN(len(someNames))]
		switch h.r.IntN(8) {
		case 0:
			delete(tree, dir)
		case 1, 2:
			delete(tree[dir], name)
		default:
			if tree[dir] == nil {
				tree[dir] = map[string]entry.Mark{}
			}
			tree[dir][name] = entry.Mark{Type: types[h.r.IntN(5)], Size: h.r.Int64N(3), Written: entry.At(time.Unix(1000+h.r.Int64N(3), 0)),
				Mode: entry.Is(fs.FileMode(0o644))}
		}
	}
}

// sight reports what stands in a store, but for one folder that cannot be read; stop is after how many entries it is broken off.
func (h *history) sight(d *Difference, src rows.Source, point, unread string, stop int) (stopped bool) {
	tree := h.trees[src.Kind]
	for _, dir := range someFolders {
		if unread != "" && place.Under("/"+dir, "/"+unread) {
			require.NoError(h.t, d.Unread(dir))
			continue
		}
		names := slices.Sorted(func(yield func(string) bool) {
			for name := range tree[dir] {
				if !yield(name) {
					return
				}
			}
		})
		print := []byte(fmt.Sprintf("%-16.16s", fmt.Sprint(len(names), tree[dir])))
		if src.Kind == "live" && len(names) == 0 {
			same, err := d.Unchanged(h.t.Context(), dir, print, len(names))
			require.NoError(h.t, err)
			if same {
				continue
			}
		}
		for _, name := range names {
			if stop--; stop == 0 {
				return true
			}
			require.NoError(h.t, d.Sight(h.sighting(src, point, dir, name, tree[dir][name])))
		}
	}
	return false
}

func (h *history) sighting(src rows.Source, point, dir, name string, m entry.Mark) sighting.Sighting {
	s := sighting.Sighting{At: sighting.Locator{Capture: point, Dir: dir, Name: name}, Mark: m, Type: m.Type, Size: m.Size,
		Written: m.Written.Time(), UID: entry.Is(int64(7)), Readable: true, Number: uint64(m.Size),
		Origin: place.Join("/home/ines", dir+"/"+name)}
	if dir == "" {
		s.Origin = place.Join("/home/ines", name)
	}
	if src.Kind == "trash" {
		s.GoneAt = time.Unix(5000+m.Size*100+m.Written.Sec, 0)
		s.Origin, s.Within = "/home/ines/"+[]string{"x/", "y/", "p/"}[m.Size]+name, dir != ""
		if m.Type == entry.Link {
			s.Origin, s.Claimed, s.Notes = "", "/etc/x", []string{"It is not trusted."}
		}
	}
	if m.Type == entry.Link {
		s.Target = "/home/ines/x"
	}
	return s
}

// survey surveys one of the stores.
func (h *history) survey() {
	h.clock += 100
	src, err := h.c.Sources.ByID(h.t.Context(), h.sources[h.r.IntN(3)].ID)
	require.NoError(h.t, err)
	d := h.c.Surveys.Begin(h.t.Context(), src, time.Unix(0, h.clock), Following{})
	unread := ""
	if h.r.IntN(5) == 0 {
		unread = someFolders[1+h.r.IntN(3)]
	}
	if src.Kind != "snapshots" {
		h.change(src.Kind)
		stop := 0
		if h.r.IntN(5) == 0 {
			stop = 1 + h.r.IntN(20)
		}
		h.said = append(h.said, fmt.Sprintf("%s, unread %q, stopped at %d", src.Kind, unread, stop))
		if h.sight(d, src, "", unread, stop) {
			d.Abandon()
			return
		}
	} else {
		h.points(d, src, unread)
	}
	counts, err := d.End(nil)
	require.NoError(h.t, err, "%q", h.said)
	h.said = append(h.said, fmt.Sprint(counts))
}

func (h *history) points(d *Difference, src rows.Source, unread string) {
	if len(h.held) > 2 && h.r.IntN(4) == 0 {
		n := h.r.IntN(len(h.held))
		h.held = slices.Delete(h.held, n, n+1)
	}
	for _, p := range h.held {
		p.Same = true
		require.NoError(h.t, d.Begin(p))
	}
	for range 1 + h.r.IntN(2) {
		at := h.clock
		if len(h.held) > 0 && h.r.IntN(3) == 0 { // it comes late
			at = h.held[h.r.IntN(len(h.held))].At.UnixNano() + int64(1+h.r.IntN(40))
		}
		p := sighting.Capture{Name: fmt.Sprintf("p%07d", at), At: time.Unix(0, at)}
		if slices.ContainsFunc(h.held, func(k sighting.Capture) bool { return k.Name == p.Name }) {
			continue
		}
		h.clock += 50
		h.change(src.Kind)
		back := h.r.IntN(6) == 0
		h.said = append(h.said, fmt.Sprintf("point %s, unread %q, taken back: %t", p.Name, unread, back))
		require.NoError(h.t, d.Begin(p))
		h.sight(d, src, p.Name, unread, 0)
		if back {
			require.NoError(h.t, d.Discard())
			continue
		}
		h.held = append(h.held, p)
	}
}

// answers asks everything, and checks that what is asked page by page, place by place and by number is the same.
func (h *history) answers() string {
	ctx := h.t.Context()
	wrong, err := h.c.Check(ctx, nil)
	require.NoError(h.t, err)
	require.Empty(h.t, wrong, "%q", h.said)
	stores, err := h.c.Copies.Stores(ctx)
	require.NoError(h.t, err)
	fresh, err := h.c.room.readStores(ctx)
	require.NoError(h.t, err)
	require.Equal(h.t, fresh, stores, "what is kept of sources is what they are: %q", h.said)
	var lines []string
	var ids []copies.ID
	for _, sort := range []Sort{ByGone, ByWritten, ByName, BySize, ByExpiry} {
		whole := h.page(Query{Records: true, Sort: sort, Limit: 1000})
		require.Equal(h.t, whole, h.page(Query{Records: true, Sort: sort, Limit: 1 + h.r.IntN(5)}), "%s %q", sort, h.said)
		ids = whole
	}
	slices.Sort(ids)
	all, err := h.c.Copies.ByIDs(ctx, ids)
	require.NoError(h.t, err)
	for _, c := range all {
		require.Contains(h.t, h.page(Query{Records: true, Words: c.Place.Name(), Limit: 3}), c.ID, "%s %q", c.Place, h.said)
		if !c.Lost {
			facts, err := h.c.Copies.At(ctx, c.Place)
			require.NoError(h.t, err)
			require.True(h.t, slices.ContainsFunc(facts, func(f *copies.Copy) bool { return f.ID == c.ID }), "%s %q", c.Place, h.said)
		}
		bare := *c
		bare.ID, bare.Store = 0, nil
		lines = append(lines, fmt.Sprintf("%s %+v %+v", c.Store.Kind, c.At, bare))
	}
	before := place.Place{}
	met := map[place.Place]bool{}
	count := 0
	for f, err := range h.c.Copies.Under(ctx, place.Place{Machine: "loft", Path: "/"}) {
		require.NoError(h.t, err)
		count++
		require.True(h.t, f.Place == before || !met[f.Place], "place by place: %s", f.Place)
		before, met[f.Place] = f.Place, true
	}
	known := 0
	for _, c := range all {
		if !c.Lost {
			known++
		}
	}
	require.Equal(h.t, known, count, "%q", h.said)
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// page asks for all pages.
func (h *history) page(q Query) (ids []copies.ID) {
	for {
		found, err := h.c.Search.Find(h.t.Context(), q)
		require.NoError(h.t, err)
		for _, c := range found.Copies {
			ids = append(ids, c.ID)
		}
		if q.Cursor = found.Next; q.Cursor == "" {
			return ids
		}
	}
}

// However small the blocks are that folders are cut into, the records answer alike, every number leads to its span, every span is found
// at its place and by its name, and pages make up the whole.
func TestRecordsAnswerAlikeHoweverTheyArePacked(t *testing.T) {
	usual := blockSpans
	defer func() { blockSpans = usual }()
	for seed := range uint64(12) {
		var told [2]string
		for n, size := range []int{usual, 3} {
			blockSpans = size
			h := newHistory(t, seed)
			for range 12 {
				h.survey()
			}
			told[n] = h.answers()
			require.NoError(t, h.c.Close())
		}
		require.Equal(t, told[0], told[1], seed)
	}
}
