package restore_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/steps"
	"humble-rewind/internal/sitetest"
)

func ids(of ...catalogue.Shown) (all []copies.ID) {
	for _, c := range of {
		all = append(all, c.ID)
	}
	return all
}

func outcomes(r sitetest.Receipt) (all []catalogue.ItemOutcome) {
	for _, i := range r.Items {
		all = append(all, i.Outcome)
	}
	return all
}

func TestBringingBackAndUndoingLeavesEverythingAsItWas(t *testing.T) {
	s := sitetest.New(t)
	s.Lay(map[string]string{"/home/ines/Papers/quote.odt": "what is there now"})
	s.Discard("/home/ines/Papers/quote.odt", "the draft that was deleted")
	s.Discard("/home/ines/Lost/deep/offsets.csv", "1,2,3\n")
	s.Discard("/home/ines/Moulds/", "one.svg\ntwo.svg\nfull size/three.svg\n")
	s.Discard("/home/ines/Kept/", "not touched.txt\n")
	require.NoError(t, unix.Setxattr(s.Path(sitetest.HomeTrash+"/files/offsets.csv"), "user.note", []byte("checked"), 0))
	require.NoError(t, os.Chmod(s.Path(sitetest.HomeTrash+"/files/offsets.csv"), 0o640))
	src := s.AddTrash("/home/ines")
	s.Survey(src)
	for _, rule := range []plan.Rule{plan.KeepBoth, plan.SetAside} {
		before := s.Tree("/")
		r := s.BringBack(restore.Request{Rule: rule, Copies: ids(s.Named("quote"), s.Named("offsets"), s.Named("moulds"))})
		require.Equal(t, catalogue.ReceiptDone, r.State, r.Items)
		assert.Equal(t, []catalogue.ItemOutcome{"done", "done", "done"}, outcomes(r))
		after := s.Tree("/home/ines")
		assert.Contains(t, after, `"Lost/deep/offsets.csv" 100640 `, "mode kept, missing folders made again")
		assert.Contains(t, after, `note="checked"`, "extended attributes kept")
		assert.Contains(t, after, `"Moulds/full size/three.svg"`)
		assert.NotContains(t, after, "offsets.csv.trashinfo", "the record leaves with its item")
		sizes, err := os.ReadFile(s.Path(sitetest.HomeTrash + "/directorysizes"))
		require.NoError(t, err)
		assert.Equal(t, "4096 1793723400 Kept\n", string(sizes))
		content, err := os.ReadFile(s.Path("/home/ines/Papers/quote.odt"))
		require.NoError(t, err)
		if rule == plan.KeepBoth {
			assert.Equal(t, "what is there now", string(content))
			assert.Contains(t, after, `"Papers/quote (deleted 2026-11-03 16.30).odt"`)
		} else {
			assert.Equal(t, "the draft that was deleted", string(content))
		}
		assert.Empty(t, s.Find(catalogue.Query{Words: "three"}), "what left the trash is no longer found there")
		require.NoError(t, s.Undo(r.ID))
		assert.Equal(t, before, s.Tree("/"))
		assert.Equal(t, catalogue.ReceiptUndone, s.Receipt(r.ID).State)
		assert.Len(t, s.Find(catalogue.Query{Words: "three"}), 1)
		s.Survey(src)
	}
}

func TestWhatLiesInADeletedFolderIsCopiedOut(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/Moulds/", "one.svg\nfull size/three.svg\n")
	s.Survey(s.AddTrash("/home/ines"))
	trash := s.Tree(sitetest.HomeTrash)
	r := s.BringBack(restore.Request{Copies: ids(s.Named("three"))})
	require.Equal(t, catalogue.ReceiptDone, r.State)
	assert.True(t, r.Items[0].SHA256.Known())
	assert.Equal(t, trash, s.Tree(sitetest.HomeTrash), "the folder stays whole in the trash")
	require.NoError(t, s.Undo(r.ID))
	_, err := os.Stat(s.Path("/home/ines/Moulds"))
	assert.ErrorIs(t, err, os.ErrNotExist, "folders made for it are gone again")
}

func TestElsewhere(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/a.txt", "a")
	s.Discard("/home/ines/b.txt", "b")
	s.Lay(map[string]string{"/srv/": "", "/srv/file": "x"})
	s.Survey(s.AddTrash("/home/ines"))
	a, b := s.Named("a.txt"), s.Named("b.txt")
	to := func(path string) *place.Place { return &place.Place{Machine: "loft", Path: path} }
	both, err := s.Restorer.Plan(t.Context(), restore.Request{Copies: ids(a, b), To: to("/srv/new")})
	require.NoError(t, err)
	assert.Equal(t, "/srv/new/a.txt", items(t, both)[0].To.Path, "several can only go into a folder, so it is one")
	_, err = s.Restorer.Plan(t.Context(), restore.Request{Copies: ids(a, b), To: to("/srv/file")})
	assert.ErrorContains(t, err, "not a folder")
	_, err = s.Restorer.Plan(t.Context(), restore.Request{Copies: ids(a), To: &place.Place{Machine: "nowhere", Path: "/x"}})
	assert.ErrorIs(t, err, catalogue.ErrNotFound)
	_, err = s.Restorer.Plan(t.Context(), restore.Request{Copies: ids(a), To: to("/srv/file"), ToFolder: true})
	assert.ErrorContains(t, err, "not a folder")
	r := s.BringBack(restore.Request{Copies: ids(a), To: to("/srv/renamed.txt")})
	assert.Equal(t, "/srv/renamed.txt", r.Items[0].To.Path)
	r = s.BringBack(restore.Request{Copies: ids(b), To: to("/srv/fresh"), ToFolder: true})
	assert.Equal(t, "/srv/fresh/b.txt", r.Items[0].To.Path)
	require.NoError(t, s.Undo(r.ID))
}

func TestUndoRefusesWhereTheWorldHasChanged(t *testing.T) {
	for reason, change := range map[string]func(s *sitetest.Site){
		"was changed after": func(s *sitetest.Site) { s.Lay(map[string]string{"/home/ines/Moulds/new.svg": "later work"}) },
		"no longer there":   func(s *sitetest.Site) { require.NoError(t, os.RemoveAll(s.Path("/home/ines/Moulds"))) },
		"something else is now where it was": func(s *sitetest.Site) {
			s.Lay(map[string]string{sitetest.HomeTrash + "/files/Moulds/": ""})
		},
	} {
		s := sitetest.New(t)
		s.Discard("/home/ines/Moulds/", "one.svg\n")
		s.Survey(s.AddTrash("/home/ines"))
		r := s.BringBack(restore.Request{Copies: ids(s.Find(catalogue.Query{Words: "moulds", Class: "folders"})...)})
		change(s)
		before := s.Tree("/")
		err := s.Undo(r.ID)
		var refused *steps.RefusedError
		require.ErrorAs(t, err, &refused, reason)
		assert.Contains(t, err.Error(), reason)
		assert.Equal(t, before, s.Tree("/"), "a refusal changes nothing")
	}
}

func TestTwoTechniciansOneWins(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/a.txt", "a")
	s.Survey(s.AddTrash("/home/ines"))
	copies := ids(s.Named("a.txt"))
	first, second := s.Begin(restore.Request{Copies: copies}), s.Begin(restore.Request{Copies: copies})
	var both sync.WaitGroup
	for _, r := range []sitetest.Receipt{first, second} {
		both.Go(func() { _ = s.Restorer.Carry(context.Background(), r.ID, func(int64, int64, string) {}) })
	}
	both.Wait()
	states := []catalogue.ItemOutcome{s.Receipt(first.ID).Items[0].Outcome, s.Receipt(second.ID).Items[0].Outcome}
	assert.ElementsMatch(t, []catalogue.ItemOutcome{"done", "failed"}, states)
	content, err := os.ReadFile(s.Path("/home/ines/a.txt"))
	require.NoError(t, err)
	assert.Equal(t, "a", string(content))
	loser := s.Receipt(second.ID)
	if states[0] == catalogue.ItemFailed {
		loser = s.Receipt(first.ID)
	}
	assert.Contains(t, loser.Items[0].Note, "somebody just brought it back")
}

func TestWhatComesToStandThereAfterThePlanIsNeverReplaced(t *testing.T) {
	for rule, want := range map[plan.Rule]catalogue.ItemOutcome{plan.KeepBoth: "done", plan.Skip: "skipped", plan.SetAside: "failed"} {
		s := sitetest.New(t)
		s.Discard("/home/ines/a.txt", "from the trash")
		s.Survey(s.AddTrash("/home/ines"))
		r := s.Begin(restore.Request{Copies: ids(s.Named("a.txt")), Rule: rule})
		s.Lay(map[string]string{"/home/ines/a.txt": "newer"})
		_ = s.Restorer.Carry(t.Context(), r.ID, func(int64, int64, string) {})
		assert.Equal(t, want, s.Receipt(r.ID).Items[0].Outcome, rule)
		content, err := os.ReadFile(s.Path("/home/ines/a.txt"))
		require.NoError(t, err)
		assert.Equal(t, "newer", string(content), rule)
	}
}

// A link planted by a user must not lead a service that runs as root into other folders.
func TestPlantedLinksLeadNowhere(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/jobs/cron", "* * * * * root evil\n")
	s.Discard("/home/ines/late/cron", "* * * * * root evil\n")
	s.Lay(map[string]string{"/home/ines/jobs": "=> /etc", "/home/ines/late/": ""})
	s.Survey(s.AddTrash("/home/ines"))
	before := s.Tree("/etc")
	found := s.Find(catalogue.Query{Words: "cron"})
	r := s.Begin(restore.Request{Copies: ids(found...)})
	require.NoError(t, os.Remove(s.Path("/home/ines/late")))
	s.Lay(map[string]string{"/home/ines/late": "=> ../../etc"}) // planted between plan and deed
	_ = s.Restorer.Carry(t.Context(), r.ID, func(int64, int64, string) {})
	r = s.Receipt(r.ID)
	for _, item := range r.Items {
		assert.Contains(t, []catalogue.ItemOutcome{"refused", "failed"}, item.Outcome)
		assert.Contains(t, item.Note, "link")
	}
	assert.Equal(t, before, s.Tree("/etc"))
}

func TestEveryNameComesBackByteForByte(t *testing.T) {
	s := sitetest.New(t)
	names := []string{
		"two\nlines",
		"caf\xe9",
		"\u202egnp.exe",
		strings.Repeat("x", 245),
		" leading",
		"-rf",
		"%41",
		"tab\t",
		"'\"$`\\",
		"..hidden",
		"é",
	}
	for _, name := range names {
		s.Discard("/home/ines/odd/"+name, name)
	}
	s.Survey(s.AddTrash("/home/ines"))
	found := s.Find(catalogue.Query{Limit: 100})
	require.Len(t, found, len(names))
	r := s.BringBack(restore.Request{Copies: ids(found...)})
	require.Equal(t, catalogue.ReceiptDone, r.State)
	for _, name := range names {
		content, err := os.ReadFile(s.Root + "/home/ines/odd/" + name)
		require.NoError(t, err)
		assert.Equal(t, name, string(content))
	}
}

// items are those of a plan.
func items(t *testing.T, planned restore.Planned) []plan.Item {
	all, err := planned.Whole(t.Context())
	require.NoError(t, err)
	return all.Items
}

// started makes an item of a receipt look as if the service had been killed right before it gave the items their names.
func started(t *testing.T, s *sitetest.Site, receipt, n int64, content string) {
	r := s.Receipt(receipt)
	item := r.Items[n]
	var work map[string]any
	require.NoError(t, cbor.Unmarshal(item.Work, &work))
	work["after"] = work["before"]
	var err error
	item.Work, err = cbor.Marshal(work)
	require.NoError(t, err)
	item.Outcome, item.SHA256 = catalogue.ItemStarted, digest.Sum(sha256.Sum256([]byte(content)))
	require.NoError(t, s.Catalogue.Receipts.SaveItems(t.Context(), receipt, []catalogue.ReceiptItem{item}))
	s.Restorer.Leave(receipt)
}

// settle settles everything and returns what could not be.
func settle(t *testing.T, s *sitetest.Site) map[int64]error {
	unsettled, err := s.Restorer.Settle(t.Context(), nil)
	require.NoError(t, err)
	return unsettled
}

func numberOf(r sitetest.Receipt, name string) int64 {
	for _, i := range r.Items {
		if i.To.Name() == name {
			return int64(i.N)
		}
	}
	return -1
}

// Carrying out is interrupted where it matters: the work of a killed process is laid by hand and settled.
func TestRecoverFinishesWhatArrivedAndTidiesWhatDidNot(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/arrived.txt", "arrived")
	s.Discard("/home/ines/waiting.txt", "waiting")
	s.Discard("/home/ines/Moulds/", "part.svg\n")
	s.Survey(s.AddTrash("/home/ines"))
	r := s.Begin(restore.Request{Copies: ids(s.Named("arrived"), s.Named("waiting"), s.Named("part.svg"))})
	started(t, s, r.ID, numberOf(r, "arrived.txt"), "arrived")
	require.NoError(t, os.Rename(s.Path(sitetest.HomeTrash+"/files/arrived.txt"), s.Path("/home/ines/arrived.txt")))
	stage := catalogue.Stage{
		Receipt: r.ID,
		Folder:  place.Place{Machine: "loft", Path: "/home/ines"},
		Name:    ".humble-rewind-x",
		Secret:  "known to nobody",
	}
	require.NoError(t, s.Catalogue.Receipts.AddStage(t.Context(), stage))
	s.Lay(map[string]string{"/home/ines/.humble-rewind-x/known to nobody/": "", "/home/ines/.humble-rewind-x/2.part": "half of"})
	require.Empty(t, settle(t, s))
	r = s.Receipt(r.ID)
	assert.Equal(t, catalogue.ReceiptPart, r.State)
	for _, i := range r.Items {
		if i.To.Name() == "arrived.txt" {
			assert.Equal(t, catalogue.ItemDone, i.Outcome)
			assert.NotEmpty(t, i.SHA256)
			continue
		}
		assert.Equal(t, catalogue.ItemFailed, i.Outcome)
		assert.Contains(t, i.Note, "service stopped")
	}
	assert.NotContains(t, s.Tree("/"), ".humble-rewind")
	_, err := os.Stat(s.Path(sitetest.HomeTrash + "/info/arrived.txt.trashinfo"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, s.Undo(r.ID), "a receipt that was settled can be undone")
}

// A folder that only looks like one of the service's own is left alone, whoever made it.
func TestAFolderThatIsNoStageIsNotEmptied(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/a.txt", "a")
	s.Survey(s.AddTrash("/home/ines"))
	r := s.Begin(restore.Request{Copies: ids(s.Named("a.txt"))})
	require.NoError(
		t,
		s.Catalogue.Receipts.AddStage(
			t.Context(),
			catalogue.Stage{
				Receipt: r.ID,
				Folder:  place.Place{Machine: "loft", Path: "/home/ines"},
				Name:    "Papers",
				Secret:  "known to nobody",
			},
		),
	)
	s.Lay(map[string]string{"/home/ines/Papers/2.part": "somebody's"})
	s.Restorer.Leave(r.ID)
	require.Empty(t, settle(t, s))
	assert.FileExists(t, s.Path("/home/ines/Papers/2.part"))
}

// After a kill at the first rename a file of the user's that got the same inode is not taken for what was brought back.
func TestAnotherFileOfTheSameInodeHasNotArrived(t *testing.T) {
	for name, another := range map[string]string{"another content": "my own.", "another size": "my own work"} {
		t.Run(name, func(t *testing.T) {
			s := sitetest.New(t)
			s.Discard("/home/ines/a.txt", "deleted")
			at := s.Path(sitetest.HomeTrash + "/files/a.txt")
			info, err := os.Stat(at)
			require.NoError(t, err)
			s.Survey(s.AddTrash("/home/ines"))
			r := s.Begin(restore.Request{Copies: ids(s.Named("a.txt"))})
			started(t, s, r.ID, 0, "deleted")
			// The very inode, even with the write time that the item had.
			require.NoError(t, os.Link(at, s.Path("/home/ines/a.txt")))
			require.NoError(t, os.Remove(at))
			s.Lay(map[string]string{"/home/ines/a.txt": another, sitetest.HomeTrash + "/files/a.txt": "deleted"})
			require.NoError(t, os.Chtimes(s.Path("/home/ines/a.txt"), info.ModTime(), info.ModTime()))
			require.Empty(t, settle(t, s))
			r = s.Receipt(r.ID)
			assert.Equal(t, []catalogue.ItemOutcome{"failed"}, outcomes(r))
			for path, want := range map[string]string{"/home/ines/a.txt": another, sitetest.HomeTrash + "/files/a.txt": "deleted"} {
				content, err := os.ReadFile(s.Path(path))
				require.NoError(t, err)
				assert.Equal(t, want, string(content))
			}
			assert.FileExists(t, s.Path(sitetest.HomeTrash+"/info/a.txt.trashinfo"), "the trash does not forget it")
		})
	}
}

// The home is not there when the service starts again: nobody can tell yet what happened, and nothing stays hidden once it is.
func TestWhatIsAwayIsUnsettledUntilItIsBack(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/a.txt", "from the trash")
	s.Lay(map[string]string{"/home/ines/a.txt": "stood there"})
	s.Survey(s.AddTrash("/home/ines"))
	r := s.Begin(restore.Request{Copies: ids(s.Named("a.txt")), Rule: plan.SetAside})
	started(t, s, r.ID, 0, "from the trash")
	stage := catalogue.Stage{
		Receipt: r.ID,
		Folder:  place.Place{Machine: "loft", Path: "/home/ines"},
		Name:    ".humble-rewind-x",
		Secret:  "known to nobody",
	}
	require.NoError(t, s.Catalogue.Receipts.AddStage(t.Context(), stage))
	s.Lay(map[string]string{"/home/ines/.humble-rewind-x/known to nobody/": ""})
	require.NoError(t, os.Rename(s.Path("/home/ines/a.txt"), s.Path("/home/ines/.humble-rewind-x/0.aside")))
	require.NoError(t, os.Rename(s.Path("/home/ines"), s.Path("/away")))

	unsettled := settle(t, s)
	require.Contains(t, unsettled, r.ID)
	assert.ErrorContains(t, unsettled[r.ID], "unsettled")
	receipt := s.Receipt(r.ID)
	assert.Equal(t, catalogue.ReceiptOpen, receipt.State)
	assert.Equal(t, []catalogue.ItemOutcome{catalogue.ItemUnsettled}, outcomes(receipt))
	assert.Contains(t, receipt.Items[0].Note, "cannot be opened")
	require.Contains(t, settle(t, s), r.ID, "and again")

	require.NoError(t, os.Rename(s.Path("/away"), s.Path("/home/ines")))
	require.Empty(t, settle(t, s))
	receipt = s.Receipt(r.ID)
	assert.Equal(t, []catalogue.ItemOutcome{catalogue.ItemFailed}, outcomes(receipt))
	content, err := os.ReadFile(s.Path("/home/ines/a.txt"))
	require.NoError(t, err)
	assert.Equal(t, "stood there", string(content))
	assert.NotContains(t, s.Tree("/home"), ".humble-rewind")
}

// What is worked on while an undo runs stays, and the receipt says so; what an undo removes is in safekeeping.
func TestUndoLooksAtEachItemRightBeforeItTouchesIt(t *testing.T) {
	s := sitetest.New(t)
	at := "/srv/points/" + sitetest.Gone.Format("2006-01-02T1504") + "/home/ines/"
	for n := range 3 {
		s.Lay(map[string]string{fmt.Sprintf("%sq%d.txt", at, n): fmt.Sprint("quote ", n)})
	}
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "snapshots", At: "/srv/points", Zone: "UTC"})
	require.NoError(t, err)
	s.Survey(src)
	r := s.BringBack(restore.Request{AsOf: &restore.AsOf{Place: place.Place{Machine: "loft", Path: "/home/ines"}, At: sitetest.Gone}})
	require.Equal(t, 3, r.Done)
	require.NoError(t, s.Restorer.CheckUndo(t.Context(), r.ID))
	require.NoError(t, s.Restorer.BeginUndo(t.Context(), r.ID, "tester"))
	first := true
	err = s.Restorer.Undo(t.Context(), r.ID, "tester", func(int64, int64, string) {
		if first { // the check has been made long ago
			s.Lay(map[string]string{"/home/ines/q1.txt": "new work", "/home/ines/q0.txt": "more work"})
			first = false
		}
	})
	assert.ErrorIs(t, err, jobs.ErrPart)
	r = s.Receipt(r.ID)
	assert.Equal(t, catalogue.ReceiptPart, r.State)
	assert.Equal(t, []catalogue.ItemOutcome{"done", "done", "undone"}, outcomes(r))
	assert.Contains(t, r.Items[0].Note, "not undone")
	for name, want := range map[string]string{"q0.txt": "more work", "q1.txt": "new work"} {
		content, err := os.ReadFile(s.Path("/home/ines/" + name))
		require.NoError(t, err)
		assert.Equal(t, want, string(content))
	}
	assert.NoFileExists(t, s.Path("/home/ines/q2.txt"))
	kept, err := s.Restorer.Safe.Get(r.Items[2].SHA256.Hex())
	require.NoError(t, err, "what was removed is in safekeeping")
	require.NoError(t, kept.Close())
	assert.NotContains(t, s.Tree("/home"), ".humble-rewind")
}

// Bytes that are added to an item of a trash once it was copied stay there.
func TestWhatIsAddedToAnItemAfterItWasCopiedStays(t *testing.T) {
	f := &faults{otherDevice: true}
	s := sitetest.NewWith(t, reach.Ways{f.way()})
	s.Discard("/home/ines/log.txt", "first line\n")
	s.Lay(map[string]string{"/other/new/": ""})
	s.Survey(s.AddTrash("/home/ines"))
	lies := s.Path(sitetest.HomeTrash + "/files/log.txt")
	f.synced = func() { // copied, and not yet taken out
		file, err := os.OpenFile(lies, os.O_APPEND|os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = file.WriteString("second line\n")
		require.NoError(t, errors.Join(err, file.Close()))
		f.synced = nil
	}
	r := s.BringBack(restore.Request{Copies: ids(s.Named("log")), To: &place.Place{Machine: "loft", Path: "/other/new"}})
	require.Equal(t, []catalogue.ItemOutcome{"done"}, outcomes(r))
	assert.Contains(t, r.Items[0].Note, "not taken out")
	content, err := os.ReadFile(lies)
	require.NoError(t, err)
	assert.Equal(t, "first line\nsecond line\n", string(content))
	assert.FileExists(t, s.Path(sitetest.HomeTrash+"/info/log.txt.trashinfo"))
	require.NoError(t, s.Undo(r.ID))
	assert.FileExists(t, lies)
}

// A file that grows while it is copied ends where it ended when it was planned, and the receipt says so; one that shrinks is not
// brought back.
func TestAFileThatGrowsWhileItIsCopiedEndsWhereItWasPlanned(t *testing.T) {
	for name, grow := range map[string]bool{"grows": true, "shrinks": false} {
		t.Run(name, func(t *testing.T) {
			f := &faults{otherDevice: true}
			s := sitetest.NewWith(t, reach.Ways{f.way()})
			size := int64(1 << 20)
			s.Discard("/home/ines/log.txt", strings.Repeat("x", int(size)))
			s.Lay(map[string]string{"/other/new/": ""})
			s.Survey(s.AddTrash("/home/ines"))
			lies := s.Path(sitetest.HomeTrash + "/files/log.txt")
			f.created = func() { // looked at, and not yet read
				if grow {
					require.NoError(t, os.WriteFile(lies, []byte(strings.Repeat("x", int(size)+1000)), 0o644))
				} else {
					require.NoError(t, os.Truncate(lies, size-1000))
				}
				f.created = nil
			}
			r := s.BringBack(restore.Request{Copies: ids(s.Named("log")), To: &place.Place{Machine: "loft", Path: "/other/new"}})
			info, err := os.Stat(s.Path("/other/new/log.txt"))
			if !grow {
				assert.Equal(t, []catalogue.ItemOutcome{"failed"}, outcomes(r))
				assert.ErrorIs(t, err, os.ErrNotExist)
				assert.FileExists(t, lies)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, size, info.Size())
			assert.Contains(t, r.Items[0].Note, "it grew while it was copied")
			assert.FileExists(t, lies, "what was added is in the trash")
		})
	}
}

func TestAnInterruptedUndoGoesOn(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/a.txt", "a")
	s.Discard("/home/ines/b.txt", "b")
	s.Lay(map[string]string{"/home/ines/b.txt": "stood there"})
	s.Survey(s.AddTrash("/home/ines"))
	before := s.Tree("/")
	r := s.BringBack(restore.Request{Copies: ids(s.Named("a.txt"), s.Named("b.txt")), Rule: plan.SetAside})
	require.NoError(t, s.Catalogue.Receipts.BeginUndo(t.Context(), r.ID, "tester"))
	require.NoError(t, os.Rename(s.Path("/home/ines/b.txt"), s.Path(sitetest.HomeTrash+"/files/b.txt")))
	require.NoError(t, s.Restorer.Undo(t.Context(), r.ID, "tester", func(int64, int64, string) {}))
	assert.Equal(t, before, s.Tree("/"))
}

func TestReceiptKeepsWhatWasSetAside(t *testing.T) {
	s := sitetest.New(t)
	s.Lay(map[string]string{"/home/ines/Moulds/now/here.svg": "newer", "/home/ines/Moulds/link": "=> now"})
	s.Discard("/home/ines/Moulds/", "one.svg\n")
	s.Survey(s.AddTrash("/home/ines"))
	before := s.Tree("/home/ines")
	r := s.BringBack(restore.Request{Copies: ids(s.Find(catalogue.Query{Class: "folders"})...), Rule: plan.SetAside})
	require.Equal(t, catalogue.ReceiptDone, r.State, r.Items)
	var work struct {
		Aside struct {
			Type string
			Size int64
		}
	}
	require.NoError(t, cbor.Unmarshal(r.Items[0].Work, &work))
	assert.Equal(t, "folder", work.Aside.Type)
	assert.EqualValues(t, 5, work.Aside.Size)
	require.NoError(t, s.Undo(r.ID))
	assert.Equal(t, before, s.Tree("/home/ines"), "a whole folder comes back out of safekeeping, links included")
}

// What arrived out of snapshots is taken back even where it is of the type, or has the very content, of what gave way to it.
func TestWhatArrivedIsNotTakenForWhatGaveWayToIt(t *testing.T) {
	s := sitetest.New(t)
	when := time.Date(2026, 10, 30, 9, 0, 0, 0, time.UTC)
	const was = "/srv/points/2026-11-01T1000/home/ines"
	s.Lay(map[string]string{
		was + "/Plans/was.svg": "older", was + "/same.txt": "alike", was + "/link": "=> older",
		"/home/ines/Plans/now.svg": "newer", "/home/ines/same.txt": "alike", "/home/ines/link": "=> newer",
	})
	for _, in := range []string{was, "/home/ines"} {
		require.NoError(t, os.Chtimes(s.Path(in+"/same.txt"), when, when))
	}
	require.NoError(t, os.Chmod(s.Path(was+"/same.txt"), 0o600))
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "snapshots", At: "/srv/points", Zone: "UTC"})
	require.NoError(t, err)
	s.Survey(src)
	before := s.Tree("/home/ines")
	for _, name := range []string{"plans", "same", "link"} {
		r := s.BringBack(restore.Request{Copies: ids(s.Named(name)), Rule: plan.SetAside})
		require.Equal(t, catalogue.ReceiptDone, r.State, r.Items)
		require.NotEqual(t, before, s.Tree("/home/ines"), name)
		require.NoError(t, s.Undo(r.ID))
		assert.Equal(t, before, s.Tree("/home/ines"), name)
	}
}

func TestAcrossFileSystemsEverythingIsKeptAndUndone(t *testing.T) {
	f := &faults{otherDevice: true}
	s := sitetest.NewWith(t, reach.Ways{f.way()})
	s.Discard("/home/ines/Moulds/", "one.svg\nfull size/two.svg\n")
	inside := s.Path(sitetest.HomeTrash + "/files/Moulds")
	require.NoError(t, os.Symlink("one.svg", inside+"/link"))
	require.NoError(t, os.Mkdir(inside+"/empty", 0o711))
	require.NoError(t, unix.Setxattr(inside+"/one.svg", "user.note", []byte("checked"), 0))
	require.NoError(t, os.Chmod(inside+"/one.svg", 0o604))
	old := time.Date(1999, 12, 31, 23, 59, 58, 123456789, time.UTC)
	require.NoError(t, os.Chtimes(inside+"/one.svg", old, old))
	s.Lay(map[string]string{"/other/new/": ""})
	s.Survey(s.AddTrash("/home/ines"))
	before, item := s.Tree("/"), s.Tree(sitetest.HomeTrash+"/files/Moulds")

	r := s.BringBack(
		restore.Request{
			Copies: ids(s.Find(catalogue.Query{Words: "moulds", Class: "folders"})...),
			To:     &place.Place{Machine: "loft", Path: "/other/new"},
		},
	)
	require.Equal(t, catalogue.ReceiptDone, r.State, r.Items)
	assert.Equal(t, item, s.Tree("/other/new/Moulds"))
	assert.NoDirExists(t, inside, "copied, verified, then taken out of the trash")
	require.NoError(t, s.Undo(r.ID))
	assert.Equal(t, before, s.Tree("/"))
}

func TestABringBackThatAStopInterruptsIsSettledAtTheNextStart(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/a.txt", "a")
	s.Survey(s.AddTrash("/home/ines"))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	r := s.Begin(restore.Request{Copies: ids(s.Named("a.txt"))})
	assert.ErrorIs(t, s.Restorer.Carry(ctx, r.ID, func(int64, int64, string) {}), context.Canceled, "a stop leaves the receipt open")
	assert.Equal(t, catalogue.ReceiptOpen, s.Receipt(r.ID).State)
	require.Empty(t, settle(t, s))
	r = s.Receipt(r.ID)
	assert.Equal(t, catalogue.ReceiptFailed, r.State)
	assert.Contains(t, r.Items[0].Note, "the service stopped before it")
	assert.Len(t, s.Find(catalogue.Query{}), 1, "it is still in the trash")
}

// More folders than are kept open at once: none may be closed under an item that still needs it.
func TestItemsOfManyFoldersComeBackAndGo(t *testing.T) {
	s := sitetest.New(t)
	for i := range 700 {
		s.Discard(fmt.Sprintf("/home/ines/Papers/%03d/%03d.txt", i, i), fmt.Sprint(i))
		if i%2 == 0 {
			s.Lay(map[string]string{fmt.Sprintf("/home/ines/Papers/%03d/%03d.txt", i, i): "stood there"})
		}
	}
	s.Survey(s.AddTrash("/home/ines"))
	before := s.Tree("/")
	found := s.Find(catalogue.Query{Limit: 1000})
	require.Len(t, found, 700)
	r := s.BringBack(restore.Request{Copies: ids(found...), Rule: plan.SetAside})
	require.Equal(t, catalogue.ReceiptDone, r.State)
	assert.Equal(t, 700, r.Done)
	require.NoError(t, s.Undo(r.ID))
	assert.Equal(t, before, s.Tree("/"))
}

// What was planned to give way gives way as it stood then: what somebody saved between the plan and its turn stays.
func TestWhatIsSavedAfterThePlanDoesNotGiveWay(t *testing.T) {
	s := sitetest.New(t)
	for _, name := range []string{"same.txt", "saved.txt", "gone.txt", "Plans/", "swapped.txt"} {
		s.Discard("/home/ines/"+name, "thrown away")
	}
	s.Lay(map[string]string{"/home/ines/same.txt": "stood", "/home/ines/saved.txt": "stood", "/home/ines/gone.txt": "stood",
		"/home/ines/Plans/keel.svg": "stood", "/home/ines/swapped.txt": "=> same.txt"})
	s.Survey(s.AddTrash("/home/ines"))
	r := s.Begin(restore.Request{Copies: ids(s.Find(catalogue.Query{})...), Rule: plan.SetAside})
	require.NoError(t, os.Remove(s.Path("/home/ines/gone.txt")))
	require.NoError(t, os.Remove(s.Path("/home/ines/swapped.txt")))
	s.Lay(map[string]string{"/home/ines/saved.txt": "saved meanwhile", "/home/ines/Plans/new.svg": "saved meanwhile",
		"/home/ines/swapped.txt": "saved meanwhile"})
	require.ErrorIs(t, s.Restorer.Carry(t.Context(), r.ID, func(int64, int64, string) {}), jobs.ErrPart)
	ended := map[string]catalogue.ItemOutcome{}
	for _, item := range s.Receipt(r.ID).Items {
		kept, err := journal.Decode(item.Work)
		require.NoError(t, err)
		assert.Equal(t, journal.Tree, kept.Target, "which target it goes to stands in the journal")
		if ended[item.To.Name()] = item.Outcome; item.Outcome == catalogue.ItemFailed {
			assert.Contains(t, item.Note, "not set aside unasked", item.To)
		}
	}
	assert.Equal(t, map[string]catalogue.ItemOutcome{"same.txt": catalogue.ItemDone, "gone.txt": catalogue.ItemDone,
		"saved.txt": catalogue.ItemFailed, "swapped.txt": catalogue.ItemFailed, "Plans": catalogue.ItemFailed,
		"thrown away": catalogue.ItemSkipped}, ended)
	for _, path := range []string{"saved.txt", "Plans/new.svg", "swapped.txt"} {
		content, err := os.ReadFile(s.Path("/home/ines/" + path))
		require.NoError(t, err)
		assert.Equal(t, "saved meanwhile", string(content), path)
	}
	require.NoError(t, s.Undo(r.ID))
}
