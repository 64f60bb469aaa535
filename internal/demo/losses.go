package demo

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"humble-rewind/api"
)

// drive lays the files by which a machine tells what its drive is: the table of mounts, the device's queue, and, where the
// trim runs by a timer, when it last did.
func (m *machine) drive(device, mount, options string, rotating bool, trimmed time.Time) {
	installed := m.made[0].at
	table := fmt.Sprintf("# <device> <mount> <type> <options> <dump> <pass>\n%s %s ext4 %s 0 1\n", device, mount, options)
	m.file("/etc/fstab", 0, installed, []byte(table))
	disk := strings.TrimRight(strings.TrimPrefix(device, "/dev/"), "0123456789")
	queue := map[bool]string{true: "1\n", false: "0\n"}[rotating]
	m.file("/sys/block/"+disk+"/queue/rotational", 0, installed, []byte(queue))
	if !trimmed.IsZero() {
		m.file("/var/lib/systemd/timers/stamp-fstrim.timer", 0, trimmed, nil)
	}
}

// move puts a file elsewhere as a person does by dragging it.
func (m *machine) move(from, to string, uid int, at time.Time) {
	if m.err != nil {
		return
	}
	m.folder(filepath.Dir(to), uid, at)
	m.fail(os.Rename(m.at(from), m.at(to)))
	for i := range m.made {
		if m.made[i].path == from {
			m.made[i].path = to
		}
	}
	for i := range m.past {
		if p := m.past[i]; p.path == from && p.until.IsZero() {
			m.past[i].until = at
			p.path, p.since = to, at
			m.past = append(m.past, p)
		}
	}
}

// frontOfficeLosses are what people at the front office ask for.
func frontOfficeLosses(m *machine, days func(float64) time.Time) {
	trimmed := days(0).In(m.zone)
	for trimmed = time.Date(trimmed.Year(), trimmed.Month(), trimmed.Day(), 0, 14, 0, 0, m.zone); trimmed.Weekday() != time.Monday; {
		trimmed = trimmed.AddDate(0, 0, -1)
	}
	m.drive("/dev/sda2", "/", "defaults,noatime", false, trimmed)
	// Dragged into another folder by a slip of the mouse.
	m.move(
		"/home/ines/Documents/Quotes/Quote 113 Grey Heron.odt",
		"/home/ines/Documents/Orders/Grey Heron/Quote 113 Grey Heron.odt",
		ines,
		days(3.2),
	)
	// Moved out of the trash by hand, which made it forget where it belongs.
	cover := textDocument(
		"Winter cover",
		[]string{
			"A cover of proofed canvas, laced to the gunwale every forearm's length.",
			"Two ridge poles of ash. Ask Oda for the measure of the sheer.",
		},
		days(60),
	)
	m.was("/home/ines/Documents/Winter cover.odt", ines, days(60), days(13), cover)
	m.file("/home/ines/Desktop/Winter cover.odt", ines, days(60), cover)
	brokenLedger(m, days)
	rigging(m, days)
	wages(m, days)
}

// wages is a folder of encrypted files that was removed for good; it only makes sense whole.
func wages(m *machine, days func(float64) time.Time) {
	const folder = "/home/ines/Wages/"
	removed := days(1.4)
	m.was(
		folder+"gocryptfs.conf",
		ines,
		days(80),
		removed,
		[]byte("{\n\t\"Creator\": \"the front office\",\n\t\"Version\": 2,\n\t\"FeatureFlags\": [\"DirIV\", \"LongNames\"]\n}\n"),
	)
	for n, name := range []string{"pQ7mX2vR9kT4bW1zL8cN5d", "J3fH6sY0aG9uE2iO7rM4xB", "t5Zk8Vn1Qw6Cj3Lp0Db9Fy", "W2gS7hU4eA1oI8yR5mX6qK"} {
		if n > 0 {
			m.was(folder+name, ines, days(float64(80-9*n)), removed, evenBytes(name, 3000+700*n))
			continue
		}
		for week := 11; week > 0; week-- { // written to every Friday, or near enough
			at, next := days(float64(7*week)), days(float64(7*(week-1)))
			if next.After(removed) {
				next = removed
			}
			m.was(folder+name, ines, at, next, evenBytes(fmt.Sprint(name, week), 5200+40*(11-week)))
		}
	}
}

// brokenLedger is a ledger whose program has written it broken for five weeks, every day anew.
func brokenLedger(m *machine, days func(float64) time.Time) {
	const ledger = "/home/ines/Documents/Accounts/Ledger 09.ods"
	i := slices.IndexFunc(m.past, func(p past) bool { return p.path == ledger })
	if i < 0 {
		return
	}
	p := m.past[i]
	m.past = slices.Delete(m.past, i, i+1)
	var saves []time.Time // a little before each snapshot, so that each holds another one
	for _, at := range moments(days(0)) {
		if written := at.Add(-20 * time.Minute); written.After(days(35)) {
			saves = append(saves, written)
		}
	}
	m.was(ledger, ines, p.written, saves[0], p.content)
	rows := [][]string{{"day", "what", "amount"}, {"3", "copper nails", "212.40"}, {"11", "larch", "1196.00"}}
	for n, written := range saves {
		rows = append(rows, []string{fmt.Sprint(12 + n), "tar and linen", fmt.Sprintf("%d.%02d", 40+n*7, n)})
		harmed := slices.Clone(spreadsheet("Ledger", rows, written))
		at := len(harmed) / 3
		r := random("ledger", fmt.Sprint(n))
		for k := range 60 {
			harmed[at+k] = byte(r.Uint32())
		}
		if n+1 < len(saves) {
			m.was(ledger, ines, written, saves[n+1], harmed)
		} else {
			m.file(ledger, ines, written, harmed)
		}
	}
}

// rigging is a folder whose files all became noise within a minute, yesterday.
func rigging(m *machine, days func(float64) time.Time) {
	const folder = "/home/oda/Rigging"
	began := days(0.8)
	n := 0
	for i, boat := range boats {
		for _, f := range []struct {
			name    string
			content []byte
		}{
			{"Sail plan.svg", linesSVG(newHull(boat+" sails", 1), 1)},
			{"Spar list.ods", spreadsheet("Spars", [][]string{{"spar", "length", "wood"}, {"mast", fmt.Sprintf("%d", 4100+i*130),
				"spruce"}, {"yard", fmt.Sprintf("%d", 2900+i*90), "spruce"}}, days(50))},
			{"Rigging notes.odt", textDocument("Rigging "+boat, []string{"Shrouds of hemp, served and tarred.",
				fmt.Sprintf("Halyard: %d metres.", 14+i)}, days(50))},
		} {
			path := fmt.Sprintf("%s/%s/%s", folder, boat, f.name)
			written := days(float64(60 - i*3))
			at := began.Add(time.Duration(n) * 2 * time.Second)
			n++
			m.was(path, oda, written, at, f.content)
			noise := evenBytes(path, len(f.content))
			if boat == "Curlew" && f.name == "Rigging notes.odt" { // written afresh this morning, before anybody asked for help
				m.was(path, oda, at, days(0.2), noise)
				m.file(
					path,
					oda,
					days(0.2),
					textDocument(
						"Rigging Curlew",
						[]string{"Shrouds of hemp, served and tarred.", "Written again from memory; the halyard is to be measured."},
						days(0.2),
					),
				)
				continue
			}
			m.file(path, oda, at, noise)
		}
	}
	m.file(folder+"/How to get your files.txt", oda, began.Add(50*time.Second), []byte("Your files are locked. Ask us nicely.\n"))
	m.file(folder+"/Ordered today.csv", oda, days(0.15), []byte("what,metres\r\nhemp,120\r\ntarred marline,60\r\n"))
}

// evenBytes are what encryption leaves.
func evenBytes(seed string, size int) []byte {
	r := rand.New(rand.NewPCG(random("noise", seed).Uint64(), 7))
	b := make([]byte, size)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// drawingLoftLosses are what a crash left in the drawing loft.
func drawingLoftLosses(m *machine, days func(float64) time.Time) {
	m.drive("/dev/sdb1", "/", "defaults", true, time.Time{})
	const notes = "/home/tomas/Offsets/Turnstone fairing notes.odt"
	text := []string{
		"Station 3 stands proud by two millimetres between the second and the third waterline.",
		"The batten lies fair from station 4 on.",
		"Buttock A runs out at the transom; lift the knuckle by three.",
	}
	written := func(n int, at time.Time) []byte { return textDocument("Turnstone fairing notes", text[:n], at) }
	m.was(notes, tomas, days(4), days(1.2), written(1, days(4)))
	m.file(notes, tomas, days(1.2), written(2, days(1.2)))
	more := append(
		slices.Clone(text),
		"Diagonal 2 is fair now; take the offsets from the floor, not from the plan.",
		"Mould 6 is to be cut again: it was marked from the old line.",
	)
	m.file(
		"/home/tomas/.config/office/4/user/backup/Turnstone fairing notes_0.odt",
		tomas,
		days(0.16),
		textDocument("Turnstone fairing notes", more, days(0.16)),
	)
	m.file(
		"/home/tomas/Offsets/.~lock.Turnstone fairing notes.odt#",
		tomas,
		days(0.3),
		[]byte(",tomas,drawing-loft,,file:///home/tomas/.config/office/4;"),
	)
	m.file("/home/tomas/Offsets/Turnstone fairing notes.odt~", tomas, days(1.2), written(1, days(4)))
	m.file("/home/tomas/Offsets/#Turnstone fairing notes.odt#", tomas, days(0.14), nil)
	m.file(
		"/home/tomas/Offsets/Turnstone fairing.odt",
		tomas,
		days(20),
		textDocument("Fairing", []string{"What the lofting floor needs before the batten is laid."}, days(20)),
	)
	m.file(
		"/home/tomas/.config/office/4/user/backup/Turnstone fairing_0.odt",
		tomas,
		days(0.5),
		textDocument("Fairing", []string{"What the lofting floor needs before the batten is laid.", "Sweep it."}, days(0.5)),
	)
}

// Cases are requests for help, open and ready to be worked on: one of each kind of loss, one of a whole folder, and one for each of the
// repository, the cloud drive and the yearly archive.
func (w World) Cases() []api.NewCase {
	at := func(machine, path string) *api.Destination {
		return &api.Destination{Machine: machine, Path: path}
	}
	days := func(n float64) *time.Time {
		t := w.Built.Add(-time.Duration(n * float64(dayLong))).UTC()
		return &t
	}
	text := func(s string) *string { return &s }
	return []api.NewCase{
		{Loss: api.LossDeleted, Place: at("front-office", "/home/ines/Documents/Quotes/Quote 127 Sea Campion.odt"), NoticedAt: days(0.05),
			Happened: text("Tidied up the quotes this morning and threw away the one that goes out today.")},
		{
			Loss:      api.LossOverwritten,
			Place:     at("front-office", "/home/ines/Documents/Quotes/Quote 116 Little Tern.odt"),
			GoodAt:    days(3),
			NoticedAt: days(0.1),
			Happened:  text("Opened the quote to begin a tender, and saved the tender over it."),
		},
		{Loss: api.LossDamaged, Place: at("front-office", "/home/ines/Documents/Accounts/Ledger 09.ods"),
			Happened: text("The September ledger does not open any more. Nobody has looked at it since the summer.")},
		{Loss: api.LossMisplaced, Place: at("front-office", "/home/ines/Documents/Quotes/Quote 113 Grey Heron.odt"),
			Happened: text("It was in the quotes, and now it is not. Nothing was deleted.")},
		{Loss: api.LossUnsaved, Place: at("drawing-loft", "/home/tomas/Offsets/Turnstone fairing notes.odt"), NoticedAt: days(0.12),
			Happened: text("The machine froze while writing up the fairing; the last two pages were never saved.")},
		{Loss: api.LossDamaged, Place: at("front-office", "/home/oda/Rigging"),
			Happened: text("Nothing in the rigging folder opens any more, and there is a strange note in it.")},
		{Loss: api.LossDeleted, Place: at("drawing-loft", kittiwake+"/Kittiwake mould list.csv"), NoticedAt: days(0.1),
			Happened: text("The Kittiwake is to be built again, and the list of her moulds was thrown out weeks ago.")},
		{Loss: api.LossDeleted, Place: at("front-office", "/home/ines/Office/Prices for the fair.ods"), NoticedAt: days(0.08),
			Happened: text("The prices for the fair are gone from the shared drive. Nobody says that they did it.")},
		{Loss: api.LossOverwritten, Place: at("front-office", "/home/ines/Office/Standing orders.odt"), GoodAt: days(4), NoticedAt: days(0.06),
			Happened: text("The standing orders on the shared drive are those of weeks ago: somebody put an old version back.")},
		{Loss: api.LossDeleted, Place: at("front-office", fmt.Sprintf("/home/ines/Accounts %[1]d/Year %[1]d.ods", w.Built.Year()-1)),
			NoticedAt: days(0.04), Happened: text("Last year's accounts are asked for, and are only in the yearly archive with the password.")},
	}
}
