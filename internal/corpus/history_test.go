package corpus

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/advice"
	registered "humble-rewind/internal/kinds"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/site"
	"humble-rewind/internal/source/trash"
	"humble-rewind/internal/survey"
)

// Case is one loss with its answer.
type Case struct {
	Family, Variant string
	Play            func(h *History)
	Ask             advice.Question
	Path            string
	Machine         string // "" for the first
	// Want is the content that must be recommended; nil where nothing must be.
	Want []byte
	// Found is where it must be said to stand; "" where nothing is asked of that.
	Found string
	// Other is the kind of source of which a runner-up must be listed; "" where nothing is asked of that.
	Other string
	// To is the name that it must get; "" where nothing is asked of that.
	To string
	// Unsure says that the answer must not be called certain.
	Unsure bool
}

// Now is when every case is asked.
var Now = time.Date(2026, 11, 20, 16, 0, 0, 0, time.UTC)

// ago is a moment before Now.
func ago(d time.Duration) time.Time { return Now.Add(-d) }

const (
	hour = time.Hour
	day  = 24 * time.Hour
	week = 7 * day
)

// History is a small site whose clock is set by hand.
type History struct {
	dir      string
	clock    time.Time
	ctx      context.Context
	site     *site.Site
	records  *catalogue.Catalogue
	machines map[string]bool
	excluded []string
	skew     time.Duration // by which the machine's clock is ahead
	told     bool          // which the technician knows
	untimed  bool          // snapshots carry the time at which they were taken
	linked   bool          // what did not change is linked from one snapshot to the next
	snapped  string        // the latest one
	err      error
}

// First and Second are the machines; ines lives on both.
const (
	First  = "loft"
	Second = "office"
)

// Home is ines's.
const Home = "/home/ines"

func newHistory(ctx context.Context, dir string) *History {
	h := &History{dir: dir, clock: ago(100 * day), ctx: ctx, machines: map[string]bool{}}
	h.machine(First)
	return h
}

func (h *History) fail(err error) {
	if h.err == nil {
		h.err = err
	}
}

func (h *History) on(machine, path string) string { return filepath.Join(h.dir, machine, path) }

func (h *History) machine(name string) {
	h.machines[name] = true
	h.write(h.on(name, "/etc/passwd"), []byte("root:x:0:0:root:/root:/bin/sh\nines:x:1001:1001:Inês Falk:/home/ines:/bin/sh\n"), h.clock)
	h.write(h.on(name, "/etc/timezone"), []byte("Europe/Lisbon\n"), h.clock)
	h.write(h.on(name, Home+"/.profile"), nil, h.clock)
	h.fail(os.MkdirAll(h.on(name, "/srv/snapshots"), 0o755))
}

func (h *History) write(at string, content []byte, written time.Time) {
	h.fail(os.MkdirAll(filepath.Dir(at), 0o755))
	h.fail(os.WriteFile(at, content, 0o644))
	h.times(at, written)
}

func (h *History) times(at string, written time.Time) {
	spec := unix.NsecToTimespec(written.UnixNano())
	h.fail(unix.UtimesNanoAt(unix.AT_FDCWD, at, []unix.Timespec{spec, spec}, unix.AT_SYMLINK_NOFOLLOW))
}

// At sets the clock.
func (h *History) At(t time.Time) { h.clock = t }

// Save writes a file now, as the machine's clock has it.
func (h *History) Save(path string, content []byte) { h.SaveOn(First, path, content) }

// SaveOn does so on another machine.
func (h *History) SaveOn(machine, path string, content []byte) {
	h.write(h.on(machine, path), content, h.clock.Add(h.skew))
}

// Sneak changes content and leaves size and write time as they are.
func (h *History) Sneak(path string, content []byte) {
	info, err := os.Stat(h.on(First, path))
	if err != nil {
		h.fail(err)
		return
	}
	h.write(h.on(First, path), content, info.ModTime())
}

// Bring writes a file with an older write time, as a sync or an unpacked archive does.
func (h *History) Bring(path string, content []byte, written time.Time) {
	h.write(h.on(First, path), content, written)
}

// Remove deletes without a trash.
func (h *History) Remove(path string) { h.fail(os.RemoveAll(h.on(First, path))) }

// Move renames, on one machine.
func (h *History) Move(from, to string) {
	h.fail(os.MkdirAll(filepath.Dir(h.on(First, to)), 0o755))
	h.fail(os.Rename(h.on(First, from), h.on(First, to)))
}

// Carry moves a file to another machine and keeps its write time.
func (h *History) Carry(from, to string) {
	content, err := os.ReadFile(h.on(First, from))
	h.fail(err)
	info, err := os.Stat(h.on(First, from))
	if err != nil {
		h.fail(err)
		return
	}
	h.write(h.on(Second, to), content, info.ModTime())
	h.Remove(from)
}

// Discard moves a file or folder into ines's trash.
func (h *History) Discard(path string) {
	can := Home + "/.local/share/Trash"
	zone, err := time.LoadLocation("Europe/Lisbon")
	h.fail(err)
	name := filepath.Base(path)
	for n := 2; exists(h.on(First, can+"/info/"+name+".trashinfo")); n++ {
		name = fmt.Sprintf("%s.%d", filepath.Base(path), n)
	}
	h.write(h.on(First, can+"/info/"+name+".trashinfo"), []byte(fmt.Sprintf("[Trash Info]\nPath=%s\nDeletionDate=%s\n",
		trash.EncodePercent(path), h.clock.Add(h.skew).In(zone).Format("2006-01-02T15:04:05"))), h.clock)
	h.fail(os.MkdirAll(h.on(First, can+"/files"), 0o755))
	h.fail(os.Rename(h.on(First, path), h.on(First, can+"/files/"+name)))
}

// Claim puts an item into the trash of another user of the machine, whose record says that it came from a path that she may not write.
func (h *History) Claim(path string, content []byte, written time.Time) {
	can := "/home/oda/.local/share/Trash"
	h.write(h.on(First, "/etc/passwd"), []byte("root:x:0:0:root:/root:/bin/sh\nines:x:1001:1001:Inês Falk:/home/ines:/bin/sh\n"+
		"oda:x:1002:1002:Oda Brandt:/home/oda:/bin/sh\n"), h.clock)
	h.write(h.on(First, can+"/files/"+filepath.Base(path)), content, written)
	h.write(h.on(First, can+"/info/"+filepath.Base(path)+".trashinfo"), []byte(fmt.Sprintf("[Trash Info]\nPath=%s\nDeletionDate=%s\n",
		trash.EncodePercent(path), written.Add(time.Minute).Format("2006-01-02T15:04:05"))), written)
}

// Empty empties the trash.
func (h *History) Empty() { h.Remove(Home + "/.local/share/Trash") }

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// Exclude leaves names out of the snapshots from now on.
func (h *History) Exclude(name string) { h.excluded = append(h.excluded, name) }

// Snap takes a snapshot of all machines, named by the time.
func (h *History) Snap() {
	for machine := range h.machines {
		to := h.on(machine, "/srv/snapshots/"+h.clock.UTC().Format("2006-01-02T150405"))
		h.fail(filepath.WalkDir(h.on(machine, "/home"), func(at string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			rel, _ := filepath.Rel(h.on(machine, "/"), at)
			for _, name := range h.excluded {
				if d.Name() == name {
					return filepath.SkipDir
				}
			}
			if d.Name() == "Trash" {
				return filepath.SkipDir
			}
			target := filepath.Join(to, rel)
			info, err := d.Info()
			if err != nil {
				return err
			}
			switch {
			case d.IsDir():
				return os.MkdirAll(target, 0o755)
			case d.Type()&fs.ModeSymlink != 0:
				link, err := os.Readlink(at)
				return errors.Join(err, os.Symlink(link, target))
			}
			content, err := os.ReadFile(at)
			if err != nil {
				return err
			}
			written := info.ModTime()
			if h.untimed {
				written = h.clock
			}
			if h.linked && h.link(filepath.Join(h.snapped, rel), target, content, written) {
				return nil
			}
			h.write(target, content, written)
			return nil
		}))
		h.snapped = to
	}
}

// link links what the snapshot before has already, if it is the same.
func (h *History) link(before, target string, content []byte, written time.Time) bool {
	info, err := os.Stat(before)
	if err != nil || !info.ModTime().Equal(written) {
		return false
	}
	same, err := os.ReadFile(before)
	return err == nil && bytes.Equal(same, content) && os.Link(before, target) == nil
}

// Days takes a snapshot each day at the clock's time of day, until one lies after the end.
func (h *History) Days(from, to time.Time) {
	for at := from; !at.After(to); at = at.Add(day) {
		h.At(at)
		h.Snap()
	}
}

// Thin removes the snapshots that keep refuses.
func (h *History) Thin(keep func(at time.Time) bool) {
	dir := h.on(First, "/srv/snapshots")
	entries, err := os.ReadDir(dir)
	h.fail(err)
	for _, e := range entries {
		at, err := time.Parse("2006-01-02T150405", e.Name())
		h.fail(err)
		if !keep(at) {
			h.fail(os.RemoveAll(filepath.Join(dir, e.Name())))
		}
	}
}

// Survey surveys everything as of the clock.
func (h *History) Survey() {
	if h.err != nil {
		return
	}
	h.fail(h.survey())
}

func (h *History) survey() error {
	if h.site == nil {
		records, err := catalogue.Open(h.ctx, h.dir)
		if err != nil {
			return err
		}
		h.records = records
		rules, _ := registered.Leftovers()
		h.site = &site.Site{Catalogue: records, Ways: registered.Ways(pool), Kinds: registered.All(rules), Kept: filepath.Join(h.dir, "sources"),
			Unpacker: pool}
	}
	for _, machine := range []string{First, Second} {
		if !h.machines[machine] {
			continue
		}
		if _, err := h.records.Machines.Named(h.ctx, machine); errors.Is(err, catalogue.ErrNotFound) {
			if err := h.enrol(machine); err != nil {
				return err
			}
		}
	}
	for machine := range h.machines {
		if err := h.enrolSnapshots(machine); err != nil {
			return err
		}
	}
	sources, err := h.records.Sources.Of(h.ctx, "")
	if err != nil {
		return err
	}
	for _, src := range sources {
		if src.Traits.Live() {
			if err := (registry.Registry{Site: h.site, View: h.site.Catalogue.Everything()}).RefreshPeople(h.ctx, src.Machine, h.clock); err != nil {
				return err
			}
		}
		_, err := survey.Run(h.ctx, h.site, src, h.clock, survey.Following{})
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Digest reads all contents, as a survey does that is asked to.
func (h *History) Digest() {
	if h.err != nil {
		return
	}
	sources, err := h.records.Sources.Of(h.ctx, "")
	h.fail(err)
	reader := contents.Reader{Site: h.site, Apart: pool}
	for _, src := range sources {
		_, err := reader.DigestAll(h.ctx, src.ID, func(int64, int64, string) {})
		h.fail(err)
	}
}

func (h *History) enrol(machine string) error {
	m := registry.NewMachine{Name: machine, At: h.on(machine, "/")}
	if h.told {
		m.ClockAhead = h.skew
	}
	if _, err := (registry.Registry{Site: h.site, View: h.site.Catalogue.Everything()}).AddMachine(h.ctx, m); err != nil {
		return err
	}
	if err := os.MkdirAll(h.on(machine, Home+"/.local/share/Trash/files"), 0o755); err != nil {
		return err
	}
	if err := os.MkdirAll(h.on(machine, Home+"/.local/share/Trash/info"), 0o755); err != nil {
		return err
	}
	for _, n := range []registry.NewSource{{Machine: machine, Kind: "live", At: "/home"}, {Machine: machine, Kind: "trash", At: Home},
		{Machine: machine, Kind: "strays", At: "/home"}, {Machine: machine, Kind: "trash", At: "/home/oda"}} {
		if n.At == "/home/oda" && !exists(h.on(machine, n.At)) {
			continue
		}
		if _, err := (registry.Registry{Site: h.site, View: h.site.Catalogue.Everything()}).AddSource(h.ctx, n); err != nil {
			return err
		}
	}
	return nil
}

// enrolSnapshots adds the snapshots of a machine once there are some.
func (h *History) enrolSnapshots(machine string) error {
	entries, err := os.ReadDir(h.on(machine, "/srv/snapshots"))
	if err != nil || len(entries) == 0 {
		return err
	}
	_, err = (registry.Registry{Site: h.site, View: h.site.Catalogue.Everything()}).AddSource(
		h.ctx,
		registry.NewSource{
			Machine:    machine,
			Kind:       "snapshots",
			At:         "/srv/snapshots",
			Zone:       "UTC",
			Named:      "%Y-%m-%dT%H%M%S",
			Exclusions: h.excluded,
		},
	)
	if errors.Is(err, catalogue.ErrTaken) {
		return nil
	}
	return err
}
