// Package demo builds Alder Quay Boatyard, a boat-building cooperative whose machines, people and files are made up, to
// show the service and to test it on. The same moment gives the same world, byte for byte; every file is valid in its
// format but for the few that are broken on purpose.
package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// World is a sample world on disk.
type World struct {
	Dir        string
	ServiceDir string // of the service's records
	Machines   []Machine
	Built      time.Time
}

// Machine is one of its machines.
type Machine struct{ Name, At string }

// The people, by user number.
const (
	ines  = 1001 // front office
	oda   = 1002 // runs the yard
	tomas = 1003 // draws and lofts
	ravi  = 1004 // apprentice
)

var fullNames = map[int]string{ines: "Inês Falk", oda: "Oda Marsh", tomas: "Tomás Quill", ravi: "Ravi Thorne"}
var logins = map[int]string{ines: "ines", oda: "oda", tomas: "tomas", ravi: "ravi"}

// Build makes the world in dir, or takes up the one that is there. Times in it count back from now.
func Build(dir string, now time.Time, fresh bool) (World, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return World{}, err
	}
	w := World{Dir: dir, ServiceDir: filepath.Join(dir, "service"), Built: now}
	for _, name := range []string{"front-office", "drawing-loft", "store"} {
		w.Machines = append(w.Machines, Machine{name, filepath.Join(dir, "machines", name)})
	}
	s, err := readStamp(dir)
	switch {
	case err == nil && !fresh:
		w.Built = s.Built
		return w, nil
	case err == nil:
		if err := os.RemoveAll(dir); err != nil {
			return w, fmt.Errorf("make the sample world anew: %w", err)
		}
	case !errors.Is(err, fs.ErrNotExist):
		return w, fmt.Errorf("read the sample world in %s: %w", dir, err)
	default:
		if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
			return w, fmt.Errorf("build the sample world: %s holds something else. Next: choose an empty folder with --dir", dir)
		}
	}
	now = now.Truncate(time.Second)
	machines := filepath.Join(dir, "machines")
	var snapped []*machine
	for _, build := range []func(string, time.Time) (*machine, error){frontOffice, drawingLoft} {
		m, err := build(machines, now)
		if err != nil {
			return w, err
		}
		snapped = append(snapped, m)
	}
	if err := store(machines, now, snapped); err != nil {
		return w, err
	}
	if err := w.fillDrive(context.Background()); err != nil {
		return w, err
	}
	encoded, err := json.Marshal(stamp{now})
	if err != nil {
		return w, err
	}
	return w, os.WriteFile(filepath.Join(dir, marker), encoded, 0o644)
}

// newMachine lays the system files: accounts, zone, homes.
func newMachine(dir, name string, homes []int, now time.Time) *machine {
	zone, err := time.LoadLocation("Europe/Lisbon")
	m := &machine{name: name, root: filepath.Join(dir, name), zone: zone, err: err}
	m.fail(os.MkdirAll(m.root, 0o755))
	installed := now.AddDate(-2, 0, 0)
	passwd := "root:x:0:0:root:/root:/bin/bash\nlp:x:7:7:lp:/var/spool/lpd:/usr/sbin/nologin\n"
	for _, uid := range []int{ines, oda, tomas, ravi} {
		passwd += fmt.Sprintf("%s:x:%d:%d:%s,,,:/home/%s:/bin/bash\n", logins[uid], uid, uid, fullNames[uid], logins[uid])
	}
	m.file("/etc/passwd", 0, installed, []byte(passwd))
	m.file("/etc/timezone", 0, installed, []byte("Europe/Lisbon\n"))
	if m.err == nil {
		m.fail(os.Symlink("/usr/share/zoneinfo/Europe/Lisbon", m.at("/etc/localtime")))
	}
	for _, uid := range homes {
		m.file("/home/"+logins[uid]+"/.profile", uid, installed, []byte("umask 022\n"))
	}
	return m
}

var boats = []string{"Marsh Wren", "Grey Heron", "Little Tern", "Sea Campion", "Sanderling", "Turnstone", "Samphire", "Curlew"}

func quote(boat string, number, revision int, at time.Time) []byte {
	r := random("quote", boat, fmt.Sprint(number))
	return textDocument(fmt.Sprintf("Quote %d: %s", number, boat), []string{
		fmt.Sprintf("Alder Quay Boatyard offers to build one %s, revision %d of the lines, in larch on oak.", boat, revision),
		fmt.Sprintf("Planking and frames: %d hours. Fastenings: copper. Paint: three coats.", 240+r.IntN(300)),
		fmt.Sprintf("Price: %d,%03d. A third on order, a third when planked, the rest at launching.", 18+r.IntN(30), r.IntN(1000)),
		"Oars, mast and sails are quoted separately. Delivery depends on the tide at the slip.",
	}, at)
}

func frontOffice(dir string, now time.Time) (*machine, error) {
	m := newMachine(dir, "front-office", []int{ines, oda}, now)
	days := func(n float64) time.Time { return now.Add(-time.Duration(n * float64(dayLong))) }
	docs := "/home/ines/Documents"
	for i, boat := range boats {
		number := 110 + i*3
		m.file(fmt.Sprintf("%s/Quotes/Quote %d %s.odt", docs, number, boat), ines, days(float64(90-i*7)), quote(boat, number, 1, days(90)))
		m.file(fmt.Sprintf("%s/Orders/%s/Order %d.odt", docs, boat, number), ines, days(float64(60-i*5)),
			textDocument("Order "+fmt.Sprint(number), []string{"Ordered: one " + boat + ".", "First instalment received."}, days(60)))
		m.file(fmt.Sprintf("%s/Orders/%s/Launching day.jpg", docs, boat), ines, days(float64(40-i*3)), jpegOf("launch "+boat))
		m.file(fmt.Sprintf("/home/oda/Planning/%s/Timber list.csv", boat), oda, days(float64(50-i*4)), offsetsCSV(newHull(boat, i)))
		m.file(
			fmt.Sprintf("/home/oda/Planning/%s/Notes.txt", boat),
			oda,
			days(float64(30-i)),
			[]byte("Frames steamed. Garboards next.\nAsk Tomás about the tumblehome.\n"),
		)
	}
	for month := range 12 {
		m.file(
			fmt.Sprintf("%s/Accounts/Ledger %02d.ods", docs, month+1),
			ines,
			days(float64(360-month*30)),
			spreadsheet(
				"Ledger",
				[][]string{{"day", "what", "amount"}, {"3", "copper nails", "212.40"}, {"11", "larch", fmt.Sprintf("%d.00", 900+month*37)}},
				days(300),
			),
		)
		m.file(
			fmt.Sprintf("%s/Minutes/Minutes %02d.txt", docs, month+1),
			ines,
			days(float64(355-month*30)),
			[]byte("Present: Inês, Oda, Tomás, Ravi.\nThe slip needs new greased ways before spring.\n"),
		)
	}
	m.file(
		"/home/ines/Contacts/Customers.vcf",
		ines,
		days(6),
		vcards([]string{"Nell Harrow", "Piet Varga", "Saoirse Holm", "Matti Dunn", "Joana Reis"}),
	)
	m.file("/home/ines/Contacts/Suppliers.vcf", ines, days(20), vcards([]string{"Coppersmith Ebb", "Larch Wharf"}))
	m.file(
		"/home/ines/Calendar/Yard.ics",
		ines,
		days(2),
		calendar([]string{"Launch of Marsh Wren", "Insurance survey", "Steam box lit"}, now),
	)
	frontOfficeTrash(m, now, days)
	frontOfficeLosses(m, days)
	frontOfficePast(m, days)
	return m, m.finish()
}

// frontOfficeTrash deletes things of many ages, and leaves the oddities that real trashes have.
func frontOfficeTrash(m *machine, now time.Time, days func(float64) time.Time) {
	docs, home := "/home/ines/Documents", homeCan("/home/ines")
	discard := func(c can, path string, uid int, gone, written time.Time, content []byte) {
		m.file(path, uid, written, content)
		m.discard(c, path, uid, gone)
	}
	discard(home, docs+"/Quotes/Quote 127 Sea Campion.odt", ines, days(0.09), days(1), quote("Sea Campion", 127, 3, days(1)))
	discard(home, docs+"/Quotes/Quote 127 Sea Campion.odt", ines, days(4.2), days(5), quote("Sea Campion", 127, 2, days(5)))
	discard(home, docs+"/Offsets/Marsh Wren offsets.csv", ines, days(0.3), days(12), offsetsCSV(newHull("Marsh Wren", 4)))
	discard(
		home,
		docs+"/Offsets/Marsh Wren offsets.ods",
		ines,
		days(0.31),
		days(12),
		spreadsheet("Offsets", newHull("Marsh Wren", 4).table(), days(12)),
	)
	discard(home, "/home/ines/Contacts/Customers old.vcf", ines, days(2.5), days(200), vcards([]string{"Nell Harrow", "Piet Varga"}))
	discard(
		home,
		"/home/ines/Calendar/Last year.ics",
		ines,
		days(27.4),
		days(300),
		calendar([]string{"Launch of Curlew", "Stocktaking"}, days(400)),
	)
	for i := range 24 {
		discard(
			home,
			fmt.Sprintf("%s/Scans/Delivery note %03d.png", docs, 200+i),
			ines,
			days(1.5+float64(i)*1.37),
			days(40+float64(i)),
			pngOf(fmt.Sprint("scan", i)),
		)
	}
	for i, boat := range boats[:4] {
		folder := fmt.Sprintf("%s/Regatta %d", docs, 2020+i)
		for k := range 5 {
			m.file(fmt.Sprintf("%s/Entries/%s %d.jpg", folder, boat, k+1), ines, days(400), jpegOf(fmt.Sprint("regatta", i, k)))
		}
		m.file(folder+"/Results.csv", ines, days(390), []byte("place,boat,time\r\n1,"+boat+",1:42:10\r\n2,Curlew,1:44:31\r\n"))
		m.discard(home, folder, ines, days(3+float64(i)*6.1))
	}
	oldPlans := homeCan("/home/oda")
	for i := range 9 {
		discard(oldPlans, fmt.Sprintf("/home/oda/Planning/Week %02d.ods", 30+i), oda, days(0.6+float64(i)*3.3), days(70-float64(i)),
			spreadsheet("Week", [][]string{{"day", "who", "what"}, {"Mon", "Ravi", "planks"}, {"Tue", "Tomás", "lofting"}}, days(70)))
	}
	discard(oldPlans, "/home/oda/Planning/Offsets checked by Oda.csv", oda, days(8.8), days(9), offsetsCSV(newHull("Grey Heron", 2)))
	discard(
		oldPlans,
		"/home/oda/Planning/caf\xe9 opening hours.txt",
		oda,
		days(5.1),
		days(30),
		[]byte("Named by an old machine, in an old encoding.\n"),
	)
	discard(oldPlans, "/home/oda/Planning/two\nlines.txt", oda, days(5.2), days(31), []byte("Somebody pasted a name with a line break.\n"))
	// An item whose record was lost, a record whose item was, and a record that is broken.
	m.file(home.dir+"/files/Spars sketch.svg", ines, days(9), linesSVG(newHull("Spars", 1), 1))
	m.record(
		home,
		"Winter cover.odt",
		ines,
		days(13),
		"[Trash Info]\nPath="+docs+"/Winter%20cover.odt\nDeletionDate="+days(13).In(m.zone).Format("2006-01-02T15:04:05")+"\n",
	)
	m.file(home.dir+"/files/Insurance.pdf", ines, days(15), []byte("%PDF-1.4\n% a scan that was cut off\n"))
	m.record(home, "Insurance.pdf", ines, days(14), "[Trash Info]\nPath=%zz/Insurance.pdf\nDeletionDate=last Tuesday\n")
}

func drawingLoft(dir string, now time.Time) (*machine, error) {
	m := newMachine(dir, "drawing-loft", []int{tomas, ravi}, now)
	days := func(n float64) time.Time { return now.Add(-time.Duration(n * float64(dayLong))) }
	for i, boat := range boats {
		for rev := 1; rev <= 4; rev++ {
			h := newHull(boat, rev)
			m.file(
				fmt.Sprintf("/home/tomas/Drawings/%s/%s lines rev %d.svg", boat, boat, rev),
				tomas,
				days(float64(120-i*8-rev*3)),
				linesSVG(h, rev),
			)
		}
		m.file(fmt.Sprintf("/home/tomas/Offsets/%s offsets.csv", boat), tomas, days(float64(100-i*9)), offsetsCSV(newHull(boat, 4)))
		m.file(
			fmt.Sprintf("/home/tomas/Offsets/%s offsets.ods", boat),
			tomas,
			days(float64(99-i*9)),
			spreadsheet("Offsets", newHull(boat, 4).table(), days(99)),
		)
		m.file(fmt.Sprintf("/home/ravi/Learning/%s half model.jpg", boat), ravi, days(float64(80-i*6)), jpegOf("model "+boat))
		m.file(
			fmt.Sprintf("/home/ravi/Learning/%s.txt", boat),
			ravi,
			days(float64(79-i*6)),
			[]byte("Station 5 is the widest. Fair the batten before marking.\n"),
		)
	}
	can := homeCan("/home/tomas")
	discard := func(path string, uid int, gone, written time.Time, content []byte) {
		m.file(path, uid, written, content)
		m.discard(homeCan("/home/"+logins[uid]), path, uid, gone)
	}
	for i, boat := range boats[:5] {
		discard(
			fmt.Sprintf("/home/tomas/Offsets/drafts/%s offsets draft.csv", boat),
			tomas,
			days(0.5+float64(i)*5.9),
			days(float64(20+i)),
			offsetsCSV(newHull(boat, 3)),
		)
		discard(
			fmt.Sprintf("/home/tomas/Drawings/%s/%s lines rev 0.svg", boat, boat),
			tomas,
			days(1.2+float64(i)*6.3),
			days(float64(130+i)),
			linesSVG(newHull(boat, 0), 0),
		)
	}
	folder := "/home/tomas/Drawings/Sanderling moulds"
	for i := range 9 {
		m.file(fmt.Sprintf("%s/Mould %d.svg", folder, i+1), tomas, days(15), linesSVG(newHull("Sanderling", i), i))
	}
	m.file(folder+"/Full size/Offsets at full size.csv", tomas, days(14), offsetsCSV(newHull("Sanderling", 9)))
	m.discard(can, folder, tomas, days(1.9))
	for i := range 8 {
		discard(
			fmt.Sprintf("/home/ravi/Learning/Exercise %d.odt", i+1),
			ravi,
			days(2.2+float64(i)*4.1),
			days(float64(60+i)),
			textDocument(
				fmt.Sprintf("Exercise %d", i+1),
				[]string{"Scarf two planks at eight to one.", "Show the joint to Tomás."},
				days(60),
			),
		)
	}
	if m.err == nil {
		m.fail(os.Symlink("/home/tomas/Drawings", m.at("/home/tomas/To the drawings")))
		m.made = append(m.made, made{"/home/tomas/To the drawings", tomas, days(33)})
		m.discard(can, "/home/tomas/To the drawings", tomas, days(3.3))
	}
	// The card from the sea trials carries its own trash, with one record that nobody should follow.
	card := "/media/tomas/SEA-TRIAL"
	onCard := func(path string, gone float64) {
		m.file(card+path, tomas, days(gone+2), jpegOf(path))
		m.discard(cardCan(card), card+path, tomas, days(gone))
	}
	for i := range 14 {
		m.file(fmt.Sprintf("%s/DCIM/Trial %03d.jpg", card, i+1), tomas, days(11), jpegOf(fmt.Sprint("trial", i)))
	}
	for i := range 12 {
		onCard(fmt.Sprintf("/DCIM/Trial %03d.jpg", 40+i), 0.8+float64(i)*2.4)
	}
	m.file(card+"/.Trash-1003/files/planted.txt", tomas, days(6), []byte("This record points out of the card.\n"))
	m.record(
		cardCan(card),
		"planted.txt",
		tomas,
		days(6),
		"[Trash Info]\nPath=../../../etc/cron.d/planted\nDeletionDate="+days(6).In(m.zone).Format("2006-01-02T15:04:05")+"\n",
	)
	drawingLoftLosses(m, days)
	drawingLoftPast(m, days)
	m.lines(days)
	return m, m.finish()
}

func cardCan(top string) can { return can{top + "/.Trash-1003", top} }

func store(dir string, now time.Time, snapped []*machine) error {
	m := newMachine(dir, "store", []int{ines, oda, tomas, ravi}, now)
	days := func(n float64) time.Time { return now.Add(-time.Duration(n * float64(dayLong))) }
	m.drive("/dev/sda1", "/", "defaults,discard", false, time.Time{})
	top := "/srv/yard"
	for i, boat := range boats {
		for k := range 4 {
			m.file(
				fmt.Sprintf("%s/Photographs/%s/%s %02d.jpg", top, boat, boat, k+1),
				oda,
				days(float64(140-i*11-k)),
				jpegOf(fmt.Sprint(boat, k)),
			)
		}
		m.file(fmt.Sprintf("%s/Shared drawings/%s lines.svg", top, boat), tomas, days(float64(70-i*4)), linesSVG(newHull(boat, 4), 4))
		m.file(
			fmt.Sprintf("%s/Safety/%s checklist.txt", top, boat),
			oda,
			days(float64(33-i)),
			[]byte("Bilge dry. Seacocks shut. Fire bucket full.\n"),
		)
	}
	if m.err == nil { // made by the administrator for everybody, as the specification wants it
		m.folder(top+"/.Trash", 0, days(200))
		m.fail(os.Chmod(m.at(top+"/.Trash"), 0o777|os.ModeSticky))
	}
	shared := func(uid int) can { return can{fmt.Sprintf("%s/.Trash/%d", top, uid), top} }
	own := func(uid int) can { return can{fmt.Sprintf("%s/.Trash-%d", top, uid), top} }
	for i, boat := range boats[:6] {
		path := fmt.Sprintf("%s/Photographs/%s/%s blurred.jpg", top, boat, boat)
		m.file(path, oda, days(float64(100+i)), jpegOf("blurred "+boat))
		m.discard(shared(oda), path, oda, days(1.1+float64(i)*5.2))
		path = fmt.Sprintf("%s/Shared drawings/%s offsets for the yard.csv", top, boat)
		m.file(path, tomas, days(float64(80+i)), offsetsCSV(newHull(boat, 2)))
		m.discard(own(tomas), path, tomas, days(0.4+float64(i)*4.7))
	}
	folder := top + "/Tenders/Harbour ferry"
	for i := range 6 {
		m.file(
			fmt.Sprintf("%s/Tender part %d.odt", folder, i+1),
			ines,
			days(26),
			textDocument(
				fmt.Sprintf("Part %d", i+1),
				[]string{"The harbour asks for a ferry of twelve seats.", "Drawings are to be in three views."},
				days(26),
			),
		)
	}
	m.discard(shared(ines), folder, ines, days(6.6))
	m.archives(now)
	m.folder("/srv/snapshots", 0, days(200))
	if err := m.finish(); err != nil {
		return err
	}
	for _, from := range snapped {
		if err := from.snapshots(filepath.Join(m.root, "srv/snapshots", from.name), now); err != nil {
			return err
		}
	}
	return nil
}
