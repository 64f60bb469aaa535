package restore_test

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/sitetest"
)

// A receipt that the version before working folders left open is settled as that would have done it: the names beside the
// places are its own, and what it cannot have made stays.
func TestAReceiptOfAFormerVersionIsSettled(t *testing.T) {
	s := sitetest.New(t)
	for _, name := range []string{"moved.txt", "gave way.txt", "taken.txt", "half.txt"} {
		s.Discard("/home/ines/"+name, "of "+name)
	}
	s.Lay(map[string]string{"/home/ines/gave way.txt": "stood", "/home/ines/taken.txt": "stood"})
	s.Survey(s.AddTrash("/home/ines"))
	r := s.Begin(restore.Request{Copies: ids(s.Named("moved.txt"), s.Named("gave way.txt"), s.Named("taken.txt"), s.Named("half.txt")),
		Rule: plan.SetAside})
	temporary := map[string]string{}
	for n, item := range r.Items {
		var work map[string]any
		is, err := journal.Decode(item.Work)
		require.NoError(t, err)
		former, err := json.Marshal(is)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(former, &work))
		for _, later := range []string{"ground", "target", "stood"} {
			delete(work, later)
		}
		work["after"] = work["before"]
		item.Work, _ = json.Marshal(work)
		item.Outcome = catalogue.ItemStarted
		require.NoError(t, s.Catalogue.Receipts.SaveItems(t.Context(), r.ID, []catalogue.ReceiptItem{item}))
		temporary[item.To.Name()] = "/home/ines/.humble-rewind-r1-" + string(rune('0'+item.N)) + "."
		require.Equal(t, n, item.N)
	}
	s.Restorer.Leave(r.ID)
	rename := func(from, to string) { require.NoError(t, os.Rename(s.Path(from), s.Path(to))) }
	rename(sitetest.HomeTrash+"/files/moved.txt", "/home/ines/moved.txt")
	rename("/home/ines/gave way.txt", temporary["gave way.txt"]+"aside")
	rename("/home/ines/taken.txt", temporary["taken.txt"]+"aside")
	s.Lay(map[string]string{"/home/ines/taken.txt": "written meanwhile", temporary["half.txt"] + "part": "half of"})

	require.Empty(t, settle(t, s))
	r = s.Receipt(r.ID)
	for _, item := range r.Items {
		want, note := catalogue.ItemFailed, "service stopped"
		switch item.To.Name() {
		case "moved.txt":
			want = catalogue.ItemDone
			assert.NotEmpty(t, item.SHA256)
		case "taken.txt":
			note = "what stood there before remains beside it"
		case "half.txt":
			note = "not finished remains beside it"
		}
		assert.Equal(t, want, item.Outcome, item.To)
		assert.Contains(t, item.Note, note, item.To)
	}
	for path, want := range map[string]string{"/home/ines/moved.txt": "of moved.txt", "/home/ines/gave way.txt": "stood",
		"/home/ines/taken.txt": "written meanwhile", temporary["taken.txt"] + "aside": "stood"} {
		content, err := os.ReadFile(s.Path(path))
		require.NoError(t, err)
		assert.Equal(t, want, string(content))
	}
	assert.Equal(t, 2, strings.Count(s.Tree("/home/ines"), ".humble-rewind-r1-"), "only what cannot be told stays")
	require.NoError(t, s.Undo(r.ID))
}
