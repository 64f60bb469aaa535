package restore_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/choosing"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/past"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/say"
	"humble-rewind/internal/sitetest"
)

// A container of encrypted files comes back whole, from one store at one moment, to a side place; none of its files by itself. The same
// container elsewhere is found. A database comes back with its log.
func TestWhatOnlyMakesSenseWholeComesBackWhole(t *testing.T) {
	s := sitetest.New(t)
	vault := map[string]map[string]string{
		"2026-03-01T1200": {"gocryptfs.conf": "{the same}", "9aKq2LmZx81TtQ-Vw7Yd0c": "one", "in4Hd82kfLq0ZsMn3VtB5w/7yPq0ZsMn3VtB5wX81TtQ": "deep"},
		"2026-03-02T1200": {"gocryptfs.conf": "{the same}", "9aKq2LmZx81TtQ-Vw7Yd0c": "two", "in4Hd82kfLq0ZsMn3VtB5w/7yPq0ZsMn3VtB5wX81TtQ": "deep"},
	}
	laid := map[string]string{"/home/ines/Vault/gocryptfs.conf": "{the same}", "/home/ines/Vault/9aKq2LmZx81TtQ-Vw7Yd0c": "spoilt",
		"/srv/other/Vault/gocryptfs.conf": "{the same}", "/srv/other/Vault/x": "y"}
	for point, files := range vault {
		for name, text := range files {
			laid["/points/"+point+"/home/ines/Vault/"+name] = text
		}
		laid["/points/"+point+"/home/ines/Stock.db"] = "database of " + point
		laid["/points/"+point+"/home/ines/Stock.db-wal"] = "log of " + point
	}
	s.Lay(laid)
	for kind, at := range map[string]string{"live": "/home", "snapshots": "/points"} {
		src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: kind, At: at})
		require.NoError(t, err)
		s.Survey(src)
	}
	other, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "live", At: "/srv/other"})
	require.NoError(t, err)
	s.Survey(other)
	in := place.Place{Machine: "loft", Path: "/home/ines/Vault"}

	for _, c := range s.Find(catalogue.Query{Words: "9aKq2LmZx81TtQ"}) {
		r := s.BringBack(restore.Request{Copies: []copies.ID{c.ID}, To: &place.Place{Machine: "loft", Path: "/home/ines/picked"}})
		assert.Equal(t, catalogue.ItemRefused, r.Items[0].Outcome)
		assert.Contains(t, r.Items[0].Note, "a folder of encrypted files: it holds gocryptfs.conf; a single file of it does not fit what stands beside it")
	}
	at := time.Date(2026, 3, 1, 18, 0, 0, 0, time.UTC)
	picked := restore.Request{AsOf: &restore.AsOf{Place: place.Place{Machine: "loft", Path: in.Path + "/9aKq2LmZx81TtQ-Vw7Yd0c"}, At: at}}
	assert.Equal(t, catalogue.ItemRefused, s.BringBack(picked).Items[0].Outcome)
	picked.AsOf.Place.Path = in.Path + "/in4Hd82kfLq0ZsMn3VtB5w"
	_, err = s.Restorer.Plan(t.Context(), picked)
	var inside *past.ErrSealed
	require.ErrorAs(t, err, &inside)
	assert.Equal(t, in, inside.Folder)
	r := s.BringBack(restore.Request{AsOf: &restore.AsOf{Place: in, At: at}})
	require.Equal(t, catalogue.ReceiptDone, r.State, r.Items)
	assert.Contains(t, r.Items[0].Note, "password or recovery key")
	for name, text := range vault["2026-03-01T1200"] {
		got, err := os.ReadFile(s.Path("/home/ines/Vault as of 2026-03-01 12.00/" + name))
		require.NoError(t, err)
		assert.Equal(t, text, string(got))
	}
	list, err := os.ReadDir(s.Path("/home/ines/Vault"))
	require.NoError(t, err)
	assert.Len(t, list, 2, "what is there is left alone")
	require.NoError(t, s.Undo(r.ID))

	// In a larger folder it is one item: beside what is there, at its place where nothing does, and nothing where nothing is needed.
	larger := restore.Request{AsOf: &restore.AsOf{Place: place.Place{Machine: "loft", Path: "/home/ines"}, At: at, Only: restore.OnlyExact}}
	r = s.BringBack(larger)
	require.Equal(t, catalogue.ReceiptDone, r.State, r.Items)
	assert.Len(t, r.Items, 4, "what came later, the database, its log and the container")
	assert.Equal(t, "one", read(t, s.Path("/home/ines/Vault as of 2026-03-01 12.00/9aKq2LmZx81TtQ-Vw7Yd0c")))
	assert.Equal(t, "spoilt", read(t, s.Path("/home/ines/Vault/9aKq2LmZx81TtQ-Vw7Yd0c")))
	require.NoError(t, s.Undo(r.ID))
	require.NoError(t, os.Rename(s.Path("/home/ines/Vault"), s.Path("/home/ines/Elsewhere")))
	larger.AsOf.Only = restore.OnlyMissing
	r = s.BringBack(larger)
	require.Equal(t, catalogue.ReceiptDone, r.State, r.Items)
	for name, text := range vault["2026-03-01T1200"] {
		assert.Equal(t, text, read(t, s.Path("/home/ines/Vault/"+name)))
	}
	require.NoError(t, s.Undo(r.ID))
	require.NoError(t, os.Rename(s.Path("/home/ines/Elsewhere"), s.Path("/home/ines/Vault")))

	answer, err := s.Adviser.Advise(t.Context(), choosing.Question{Question: advice.Question{Loss: advice.Damaged}, Place: in, Zone: time.UTC})
	require.NoError(t, err)
	assert.Contains(t, strings.Join(say.Speaker{}.Remarks(answer.Folder.Because), " "), "The same container is known at loft:/srv/other/Vault too")
	assert.Equal(t, []place.Place{{Machine: "loft", Path: "/srv/other/Vault"}}, answer.FoundAt)

	for _, c := range s.Find(catalogue.Query{Words: "Stock.db", Sort: catalogue.ByName}) {
		if c.Place.Name() != "Stock.db" {
			continue
		}
		into := s.Path("/home/ines/back")
		require.NoError(t, os.MkdirAll(into, 0o755))
		r := s.BringBack(restore.Request{Copies: []copies.ID{c.ID}, To: &place.Place{Machine: "loft", Path: "/home/ines/back"}})
		require.Len(t, r.Items, 2, "the log comes with it")
		point := strings.TrimPrefix(read(t, filepath.Join(into, "Stock.db")), "database of ")
		assert.Equal(t, "log of "+point, read(t, filepath.Join(into, "Stock.db-wal")), "of the same moment")
		require.NoError(t, s.Undo(r.ID))
	}
}

func read(t *testing.T, at string) string {
	b, err := os.ReadFile(at)
	require.NoError(t, err)
	return string(b)
}
