package plan_test

import (
	"io/fs"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/say"
)

// world is what stands where, in the machine "m": a path to its standing.
type world map[string]plan.Standing

func (w world) At(p place.Place) plan.Standing {
	s, ok := w[p.Path]
	s.Exists = ok && !s.Problem.Any()
	return s
}

func (w world) Inside(p place.Place) remark.Remark { return w[p.Path].Problem }

var (
	folder = plan.Standing{Type: entry.Folder, Volume: 1, Free: 1000}
	file   = plan.Standing{Type: entry.File, Volume: 1, Size: 7}
	gone   = time.Date(2026, 11, 12, 14, 5, 0, 0, time.UTC)
)

func wanted(id, from, to string) plan.Wanted {
	w := plan.Wanted{
		Copy:    id,
		From:    place.Place{Machine: "m", Path: from},
		Type:    entry.File,
		Size:    10,
		Volume:  1,
		Leaves:  true,
		Dated:   gone,
		DatedBy: "deleted",
		Mode:    entry.Is(fs.FileMode(0o644)),
		UID:     entry.Is(int64(0)),
		GID:     entry.Is(int64(0)),
	}
	if to != "" {
		w.To = place.Place{Machine: "m", Path: to}
	}
	return w
}

// made plans copies of what is wanted.
func made(items []plan.Wanted, rule plan.Rule, w world) plan.Plan {
	var all []*plan.Wanted
	for _, item := range items {
		all = append(all, &item)
	}
	return plan.Make(all, rule, w)
}

func one(t *testing.T, w world, rule plan.Rule, item plan.Wanted) plan.Item {
	p := made([]plan.Wanted{item}, rule, w)
	require.Len(t, p.Items, 1)
	return p.Items[0]
}

func TestAFreePlaceOnTheSameFileSystemNeedsOnlyARename(t *testing.T) {
	got := one(t, world{"/": folder, "/home": folder}, "", wanted("c1", "/trash/a", "/home/a"))
	assert.Equal(t, plan.Move, got.Action)
	assert.True(t, got.Renames)
	assert.False(t, got.Clash.Any())
	assert.Empty(t, got.Makes)
}

func TestMissingFoldersAreMadeAgainOnce(t *testing.T) {
	p := made(
		[]plan.Wanted{wanted("c2", "/trash/b", "/home/x/y/b"), wanted("c1", "/trash/a", "/home/x/a")},
		"",
		world{"/": folder, "/home": folder},
	)
	var folders []string
	for _, i := range p.Items {
		for _, m := range i.Makes {
			folders = append(folders, m.Path)
		}
	}
	assert.Equal(t, []string{"/home/x", "/home/x/y"}, folders)
}

func TestClashesAreSettledByTheRule(t *testing.T) {
	w := world{"/": folder, "/home": folder, "/home/a.txt": file}
	item := wanted("c1", "/trash/a.txt", "/home/a.txt")
	both := one(t, w, plan.KeepBoth, item)
	assert.Equal(t, "/home/a (deleted 2026-11-12 14.05).txt", both.To.Path)
	assert.Equal(t, "clash-both", both.Clash.Code)
	aside := one(t, w, plan.SetAside, item)
	assert.NotNil(t, aside.Over)
	assert.Equal(t, "/home/a.txt", aside.To.Path)
	skipped := one(t, w, plan.Skip, item)
	assert.Equal(t, plan.Pass, skipped.Action)
	w["/home/a.txt"] = plan.Standing{Type: entry.Other}
	assert.Nil(t, one(t, w, plan.SetAside, item).Over, "a device or socket cannot be kept, so both are")
}

func TestTwoCopiesOfOnePlaceClashWithEachOther(t *testing.T) {
	w := world{"/": folder, "/home": folder}
	items := []plan.Wanted{
		wanted("c1", "/trash/a", "/home/a"),
		wanted("c2", "/trash/a.2", "/home/a"),
		wanted("c3", "/trash/a.3", "/home/a"),
	}
	for _, rule := range []plan.Rule{plan.KeepBoth, plan.SetAside} {
		p := made(items, rule, w)
		seen := map[string]bool{}
		for _, i := range p.Items {
			assert.False(t, seen[i.To.Path], "%s: %s is filled twice", rule, i.To)
			assert.Nil(t, i.Over, "nothing that this very plan brings is set aside")
			seen[i.To.Path] = true
		}
	}
}

func TestAFolderBringsWhatIsInIt(t *testing.T) {
	whole := wanted("c1", "/trash/f", "/home/f")
	whole.Type = entry.Folder
	inside := wanted("c2", "/trash/f/deep/x", "/home/f/deep/x")
	inside.Leaves = false
	p := made([]plan.Wanted{inside, whole}, "", world{"/": folder, "/home": folder})
	assert.Equal(t, plan.Move, p.Items[0].Action)
	assert.Equal(t, plan.Pass, p.Items[1].Action)
}

func TestAnotherFileSystemNeedsRoomForACopy(t *testing.T) {
	drive := plan.Standing{Type: entry.Folder, Volume: 2, Free: 15}
	w := world{"/": folder, "/drive": drive}
	p := made([]plan.Wanted{wanted("c1", "/trash/a", "/drive/a"), wanted("c2", "/trash/b", "/drive/b")}, "", w)
	assert.False(t, p.Items[0].Renames)
	assert.Contains(t, say.Speaker{}.Joined(p.Items[0].Notes), "another file system")
	assert.Equal(t, plan.Refuse, p.Items[1].Action, "the first took the room")
	assert.Contains(t, say.Speaker{}.Joined(p.Items[1].Notes), "has room for 5 bytes")
	assert.EqualValues(t, 10, p.Bytes)
}

func TestWhatCannotBeDoneIsRefusedWithAReason(t *testing.T) {
	link := plan.Standing{Type: entry.Link}
	readOnly := plan.Standing{Type: entry.Folder, Volume: 3, ReadOnly: true}
	w := world{"/": folder, "/home": folder, "/home/f": file, "/home/l": link, "/ro": readOnly, "/locked": {Problem: remark.Said("permission denied")}}
	nested := wanted("c", "/home/t", "/home/t/inside")
	problem := wanted("c", "/trash/a", "/home/a")
	problem.Problem = remark.Said("only the record is left")
	for want, item := range map[string]plan.Wanted{
		"nothing tells where it came from": wanted("c", "/trash/a", ""),
		"is a file, not a folder":          wanted("c", "/trash/a", "/home/f/a"),
		"is a link, not a folder":          wanted("c", "/trash/a", "/home/l/a"),
		"read-only":                        wanted("c", "/trash/a", "/ro/a"),
		"permission denied":                wanted("c", "/trash/a", "/locked/a"),
		"lies inside":                      nested,
		"the root of the machine":          wanted("c", "/trash/a", "/"),
		"only the record is left":          problem,
	} {
		got := one(t, w, "", item)
		assert.Equal(t, plan.Refuse, got.Action, want)
		assert.Contains(t, say.Notes(say.Speaker{}.Remarks(got.Notes)...), want)
	}
}

// What a store does not tell is said, and is not taken for root's or for closed to everybody.
func TestWhatNobodyTellsIsSaid(t *testing.T) {
	ines := folder
	ines.UID, ines.GID, ines.Mode = entry.Is(int64(1001)), entry.Is(int64(1001)), entry.Is(fs.FileMode(0o750))
	w := world{"/": folder, "/home": ines}
	for name, c := range map[string]struct {
		change func(*plan.Wanted)
		says   string
	}{
		"all told": {func(*plan.Wanted) {}, ""},
		"no owner": {func(w *plan.Wanted) { w.UID = entry.Maybe[int64]{} }, "does not tell whose it is: it comes to belong to user 1001"},
		"no mode":  {func(w *plan.Wanted) { w.Mode = entry.Maybe[fs.FileMode]{} }, "does not tell who may read it"},
		"nothing": {func(w *plan.Wanted) { w.UID, w.Mode = entry.Maybe[int64]{}, entry.Maybe[fs.FileMode]{} },
			"neither whose it is nor who may read it"},
		"by rename": {func(w *plan.Wanted) { w.UID, w.Volume = entry.Maybe[int64]{}, 1 }, ""},
	} {
		item := wanted("c1", "/store/a", "/home/a")
		item.Volume = 2 // it is copied
		c.change(&item)
		got := one(t, w, "", item)
		if c.says == "" {
			assert.NotContains(t, say.Notes(say.Speaker{}.Remarks(got.Notes)...), "it comes to belong", name)
		} else {
			assert.Contains(t, say.Notes(say.Speaker{}.Remarks(got.Notes)...), c.says, name)
		}
		assert.Equal(t, plan.Owner{UID: ines.UID, GID: ines.GID, Mode: ines.Mode}, got.Owner, name)
	}
}

// File systems that nobody can tell apart do not share their room, nor is anything moved by renaming between them.
func TestUnknownFileSystemsAreNotTheSame(t *testing.T) {
	a, b := folder, folder
	a.Volume, b.Volume = 0, 0
	a.Free, b.Free = 15, 15
	first, second := wanted("c1", "/trash/a", "/a/a"), wanted("c2", "/trash/b", "/b/b")
	first.Volume, second.Volume = 0, 0
	p := made([]plan.Wanted{first, second}, "", world{"/": folder, "/a": a, "/b": b})
	for _, item := range p.Items {
		assert.Equal(t, plan.Move, item.Action, say.Speaker{}.Joined(item.Notes))
		assert.False(t, item.Renames)
	}
}
