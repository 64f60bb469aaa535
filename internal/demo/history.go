package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"humble-rewind/api"
	"humble-rewind/internal/source/archive"
	"humble-rewind/internal/source/cloud"
	"humble-rewind/internal/source/live"
	"humble-rewind/internal/source/snapshots"
)

// past is what stood at a path for some time.
type past struct {
	path    string
	uid     int
	written time.Time
	since   time.Time
	until   time.Time // zero: it still does
	content []byte
}

func inTrash(path string) bool {
	return strings.Contains(path, "/.local/share/Trash/") || strings.Contains(path, "/.Trash")
}

// end notes that what stood at a path, and below it, no longer does.
func (m *machine) end(path string, at time.Time) {
	for i := range m.past {
		p := &m.past[i]
		if p.until.IsZero() && (p.path == path || strings.HasPrefix(p.path, path+"/")) {
			p.until = at
		}
	}
}

// was adds a version that stood at a path from when it was written until something took its place.
func (m *machine) was(path string, uid int, written, until time.Time, content []byte) {
	m.past = append(m.past, past{path, uid, written, written, until, content})
}

func frontOfficePast(m *machine, days func(float64) time.Time) {
	quotes := "/home/ines/Documents/Quotes"
	// A quote that was worked on for weeks, and two days ago saved over with a short draft of another.
	tern := quotes + "/Quote 116 Little Tern.odt"
	steps := []float64{76, 62, 47, 33, 19, 11}
	m.past = slices.DeleteFunc(m.past, func(p past) bool { return p.path == tern })
	for i, at := range steps {
		until := days(2.1)
		if i+1 < len(steps) {
			until = days(steps[i+1])
		}
		m.was(tern, ines, days(at), until, quote("Little Tern", 116, i+1, days(at)))
	}
	m.file(tern, ines, days(2.1), textDocument("Draft", []string{"A tender for the harbour. To be written."}, days(2.1)))
	// The folder was called Offers until forty days ago.
	m.renamed("/home/ines/Documents/Offers", quotes, days(40))
	// A table of prices that grew a row at a time.
	prices := "/home/ines/Documents/Prices.ods"
	rows := [][]string{{"timber", "metre", "seasoned"}}
	for i, wood := range []string{"larch", "oak", "ash", "spruce", "elm", "iroko"} {
		rows = append(rows, []string{wood, fmt.Sprintf("%d.50", 12+i*3), fmt.Sprintf("%d months", 9+i*4)})
		if i == 4 {
			rows[2][1] = "17.20"
		}
		at := days(70 - float64(i)*12)
		content := spreadsheet("Prices", rows, at)
		if i < 5 {
			m.was(prices, ines, at, days(70-float64(i+1)*12), content)
		} else {
			m.file(prices, ines, at, content)
		}
	}
}

// renamed tells that what lies in a folder lay in another until then.
func (m *machine) renamed(old, now string, at time.Time) {
	var before []past
	for i := range m.past {
		p := &m.past[i]
		rest, inside := strings.CutPrefix(p.path, now+"/")
		if !inside || !p.since.Before(at) {
			continue
		}
		b := *p
		b.path = old + "/" + rest
		if p.until.IsZero() || p.until.After(at) {
			b.until = at
			p.since = at
		} else {
			p.path = b.path // it was gone before
			continue
		}
		before = append(before, b)
	}
	m.past = append(m.past, before...)
}

func drawingLoftPast(m *machine, days func(float64) time.Time) {
	// Ravi's documents were put on the second drive twenty days ago.
	papers := "/data/ravi/Documents"
	for i, title := range []string{"Apprentice book", "Knots", "Tide tables"} {
		m.file(
			fmt.Sprintf("%s/%s.odt", papers, title),
			ravi,
			days(60-float64(i)),
			textDocument(title, []string{"Kept by Ravi.", "Week by week."}, days(60)),
		)
	}
	m.renamed("/home/ravi/Documents", papers, days(20))
	dirs := "/home/ravi/.config/user-dirs.dirs"
	m.was(dirs, ravi, days(80), days(20), []byte("XDG_DOCUMENTS_DIR=\"$HOME/Documents\"\n"))
	m.file(dirs, ravi, days(20), []byte("XDG_DOCUMENTS_DIR=\"/data/ravi/Documents\"\n"))
	// Renderings are left out of the snapshots.
	for i, boat := range boats[:3] {
		m.file(fmt.Sprintf("/home/tomas/Renderings/%s.png", boat), tomas, days(float64(9-i)), pngOf("rendering "+boat))
	}
}

// notSnapped is left out of the snapshots.
const notSnapped = "/home/tomas/Renderings/"

// moments are the times of the snapshots that are still held: hourly for a day, daily for two weeks, weekly for three
// months; oldest first.
func moments(now time.Time) []time.Time {
	hour := now.Truncate(time.Hour)
	var all []time.Time
	for week := 12; week >= 3; week-- {
		all = append(all, hour.AddDate(0, 0, -7*week))
	}
	for day := 14; day >= 2; day-- {
		all = append(all, hour.AddDate(0, 0, -day))
	}
	for h := 24; h >= 0; h-- {
		all = append(all, hour.Add(-time.Duration(h)*time.Hour))
	}
	return all
}

// snapshots writes a machine's snapshots below dir, one folder each; what did not change is a hard link to the one before.
func (m *machine) snapshots(dir string, now time.Time) error {
	before, beforeDir := map[string]int{}, ""
	for _, at := range moments(now) {
		name := filepath.Join(dir, at.In(m.zone).Format("2006-01-02T1504"))
		here := map[string]int{}
		for i, p := range m.past {
			if !p.since.After(at) && (p.until.IsZero() || at.Before(p.until)) &&
				(strings.HasPrefix(p.path, "/home/") || strings.HasPrefix(p.path, "/data/")) &&
				!strings.HasPrefix(p.path, notSnapped) {
				here[p.path] = i
			}
		}
		if err := os.MkdirAll(name, 0o755); err != nil {
			return err
		}
		folders := m.emptied(at)
		for folder := range folders {
			if err := os.MkdirAll(filepath.Join(name, folder), 0o755); err != nil {
				return err
			}
		}
		for path, i := range here {
			to := filepath.Join(name, path)
			for f := filepath.Dir(path); f != "/" && folders[f] == 0; f = filepath.Dir(f) {
				folders[f] = 1 + m.past[i].uid
				if f == "/home" || f == "/data" {
					folders[f] = 1
				}
			}
			if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
				return err
			}
			if was, ok := before[path]; ok && was == i {
				if err := os.Link(filepath.Join(beforeDir, path), to); err != nil {
					return err
				}
				continue
			}
			if err := m.write(to, m.past[i]); err != nil {
				return err
			}
		}
		for f, owner := range folders {
			if err := own(filepath.Join(name, f), owner-1, at); err != nil {
				return err
			}
		}
		if err := own(name, 0, at); err != nil {
			return err
		}
		before, beforeDir = here, name
	}
	return own(dir, 0, now)
}

// emptied lists folders that still stand though what was in them is gone, each with its owner's number and one.
func (m *machine) emptied(at time.Time) map[string]int {
	folders := map[string]int{}
	for _, p := range m.past {
		folder := filepath.Dir(p.path)
		if p.until.IsZero() || p.until.After(at) || !strings.HasPrefix(folder, "/home/") {
			continue
		}
		if info, err := os.Stat(m.at(folder)); err == nil && info.IsDir() {
			folders[folder] = 1 + p.uid
		}
	}
	return folders
}

func (m *machine) write(to string, p past) error {
	if err := os.WriteFile(to, p.content, 0o644); err != nil {
		return err
	}
	return own(to, p.uid, p.written)
}

// own sets the owner, where the one who builds may, and the times.
func own(path string, uid int, at time.Time) error {
	if os.Geteuid() == 0 {
		if err := os.Lchown(path, uid, uid); err != nil {
			return err
		}
	}
	spec := unix.NsecToTimespec(at.UnixNano())
	return unix.UtimesNanoAt(unix.AT_FDCWD, path, []unix.Timespec{spec, spec}, unix.AT_SYMLINK_NOFOLLOW)
}

// Sources are the sources of the sample world that are not found by looking at each machine.
var Sources = []api.NewSource{
	{Machine: "front-office", Kind: snapshots.Kind.Name(), At: at("store:/srv/snapshots/front-office")},
	{Machine: "drawing-loft", Kind: snapshots.Kind.Name(), At: at("store:/srv/snapshots/drawing-loft")},
	{Machine: "drawing-loft", Kind: live.Kind.Name(), At: at("/data")},
	{Machine: "store", Kind: live.Kind.Name(), At: at("/srv/yard")},
	{Machine: "front-office", Kind: archive.Kind.Name(), At: at("store:/srv/archive/front-office")},
	{Machine: "drawing-loft", Kind: archive.Kind.Name(), At: at("store:/srv/archive/drawing-loft")},
	{Machine: "front-office", Kind: cloud.Kind.Name(), At: at(Drive + ":/Office"), Maps: &[]string{"/Office=/home/ines/Office"}},
	{Machine: "drawing-loft", Kind: cloud.Kind.Name(), At: at(Drive + ":/Lines"), Maps: &[]string{"/Lines=" + kittiwake}},
}

// Drive is the machine that is the yard's cloud drive.
const Drive = "yard-drive"

func at(location string) *string { return &location }
