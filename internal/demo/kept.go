package demo

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/aes"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha1" //nolint:gosec // which the encryption of zip files is made of
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/clouddrive"
)

// kittiwake is a boat whose lines are kept under version control, shared on the cloud drive, and packed at the turn of the year.
const kittiwake = "/home/tomas/Lines"

const offsets = kittiwake + "/Kittiwake offsets.csv"

// lines lays the drawing loft's repository: forty commits by two people, a branch, a list that was thrown out long ago, and a study that
// nothing names any more. Of the offsets there is a copy in every kind of store.
func (m *machine) lines(days func(float64) time.Time) {
	if m.err != nil {
		return
	}
	const commits, apart = 40, 1.7 // days
	at := func(n int) time.Time { return days(69 - float64(n)*apart) }
	m.folder(kittiwake, tomas, days(70))
	r := repository{m: m, dir: m.at(kittiwake)}
	version := func(n int) []byte { return offsetsCSV(newHull("Kittiwake", n)) }
	readme := []byte("Lines of the Kittiwake. Fair before you commit.\n")
	const list = "Kittiwake mould list.csv"
	for n := range commits {
		who, message := tomas, fmt.Sprintf("Faired station %d", 1+n%9)
		if n%5 == 3 {
			who = ravi
		}
		changes := map[string][]byte{"Kittiwake lines.svg": linesSVG(newHull("Kittiwake", n), n)}
		switch n {
		case 0:
			message, changes["README.txt"] = "Lines of the Kittiwake begun", readme
		case 4:
			message, changes[list] = "A list of the moulds", []byte("mould,station,wood\r\n1,2,spruce\r\n2,4,spruce\r\n3,6,larch\r\n4,8,larch\r\n")
		case 9:
			message, changes[list] = "The mould list goes, the moulds are made", nil
		}
		if n%3 == 0 {
			changes["Kittiwake offsets.csv"] = version(n / 3)
			if n+3 < commits {
				m.was(offsets, tomas, at(n), at(n+3), version(n/3))
			}
		}
		r.commit("main", "", at(n), who, message, changes)
		if n == 20 {
			r.commit("raised-sheer", "refs/heads/main", at(n).Add(time.Hour), ravi, "What if the sheer were raised",
				map[string][]byte{"Kittiwake sheer.csv": offsetsCSV(newHull("Kittiwake sheer", 7))})
		}
	}
	fmt.Fprint(&r.stream, "blob\n") // which nothing names
	r.data([]byte("The transom rakes by eleven degrees. Nobody has committed this.\n"))
	last := at(commits - 1)
	r.git(last, nil, "init", "-q", "-b", "main", "--template=")
	r.git(last, &r.stream, "fast-import", "--quiet")
	// What stands beside the repository's own folder.
	m.file(kittiwake+"/README.txt", tomas, at(0), readme)
	m.file(kittiwake+"/Kittiwake lines.svg", tomas, last, linesSVG(newHull("Kittiwake", commits-1), commits-1))
	m.file(offsets, tomas, days(30), []byte("station,half breadth\r\n1,taken from the old drawing\r\n"))
	if m.err != nil {
		return
	}
	m.past = m.past[:len(m.past)-1] // it was there for a minute
	m.discard(homeCan("/home/tomas"), offsets, tomas, days(12))
	m.file(offsets, tomas, last, version((commits-1)/3))
	m.file(offsets+"~", tomas, days(5.1), version(11))
	r.git(last, nil, "reset", "-q") // which tells git what is there
	m.fail(filepath.WalkDir(r.dir+"/.git", func(path string, d os.DirEntry, err error) error {
		if err == nil {
			m.made = append(m.made, made{strings.TrimPrefix(path, m.root), tomas, days(1)})
		}
		return err
	}))
}

// repository is a repository being made, by the stream that git fast-import reads.
type repository struct {
	m      *machine
	dir    string
	stream bytes.Buffer
}

func (r *repository) data(content []byte) {
	fmt.Fprintf(&r.stream, "data %d\n%s\n", len(content), content)
}

// commit adds a commit to a branch, or to one that begins at another. Contents are by paths; nil removes.
func (r *repository) commit(branch, from string, at time.Time, who int, message string, changes map[string][]byte) {
	by := fmt.Sprintf("%s <%s@alder-quay.example> %d +0000\n", fullNames[who], logins[who], at.Unix())
	fmt.Fprintf(&r.stream, "commit refs/heads/%s\nauthor %scommitter %s", branch, by, by)
	r.data([]byte(message))
	if from != "" {
		fmt.Fprintf(&r.stream, "from %s\n", from)
	}
	for _, path := range slices.Sorted(maps.Keys(changes)) {
		if changes[path] == nil {
			fmt.Fprintf(&r.stream, "D %s\n", path)
			continue
		}
		fmt.Fprintf(&r.stream, "M 100644 inline %s\n", path)
		r.data(changes[path])
	}
}

// git runs git in the repository as Tomás did at a time, with no settings but these: its logs say who and when, too.
func (r *repository) git(at time.Time, stdin io.Reader, args ...string) {
	if r.m.err != nil {
		return
	}
	c := exec.Command("git", append([]string{"-C", r.dir}, args...)...)
	c.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null",
		"GIT_DIR=" + r.dir + "/.git", "GIT_WORK_TREE=" + r.dir, "GIT_COMMITTER_NAME=" + fullNames[tomas],
		"GIT_COMMITTER_EMAIL=" + logins[tomas] + "@alder-quay.example", fmt.Sprintf("GIT_COMMITTER_DATE=%d +0000", at.Unix())}
	c.Stdin = stdin
	out, err := c.CombinedOutput()
	if errors.Is(err, exec.ErrNotFound) {
		err = errors.New("the sample world has a repository, and git is not installed. Next: install it (Debian: apt install git)")
	} else if err != nil {
		err = fmt.Errorf("git %s: %w: %s", args[0], err, out)
	}
	r.m.fail(err)
}

// ArchivePassword opens the yearly archive of the front office.
const ArchivePassword = "slipway"

// archives lays the store's yearly archives: of the front office as an encrypted zip, of the drawing loft as a packed tar.
func (m *machine) archives(now time.Time) {
	year := now.Year() - 1
	closed := time.Date(year, 12, 30, 16, 30, 0, 0, time.UTC)
	ledger := spreadsheet("Ledger", [][]string{{"month", "what", "amount"}, {"10", "two Curlews", "41200.00"}, {"12", "timber", "-9870.50"}}, closed)
	name := fmt.Sprintf("home/ines/Accounts %d/Year %d.ods", year, year)
	letter := textDocument("Year's letter", []string{"To all members of the cooperative.", "It was a good year."}, closed)
	packed, err := encryptedZip([]member{{name, closed, ledger},
		{fmt.Sprintf("home/ines/Accounts %d/Letter to the members.odt", year), closed, letter}}, ArchivePassword)
	m.fail(err)
	m.file(fmt.Sprintf("/srv/archive/front-office/%d-12-31 front office.zip", year), 0, closed.Add(24*time.Hour), packed)
	unpacked, err := packedTar([]member{{strings.TrimPrefix(offsets, "/"), closed.AddDate(0, 0, -40), offsetsCSV(newHull("Kittiwake sketch", 0))}})
	m.fail(err)
	m.file(fmt.Sprintf("/srv/archive/drawing-loft/%d-12-31 drawing loft.tar.gz", year), 0, closed.Add(24*time.Hour), unpacked)
}

// member is a file of an archive.
type member struct {
	name    string
	written time.Time
	content []byte
}

func packedTar(members []member) ([]byte, error) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	t := tar.NewWriter(z)
	for _, f := range members {
		if err := t.WriteHeader(&tar.Header{Name: f.name, Mode: 0o644, Size: int64(len(f.content)), ModTime: f.written, Format: tar.FormatPAX}); err != nil {
			return nil, err
		}
		if _, err := t.Write(f.content); err != nil {
			return nil, err
		}
	}
	err := errors.Join(t.Close(), z.Close())
	return b.Bytes(), err
}

// encryptedZip encrypts its members by AES with 256 bits, as the specification AE-2 of the zip format says.
func encryptedZip(members []member, password string) ([]byte, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range members {
		sealed, err := encrypted(f, password)
		if err != nil {
			return nil, err
		}
		const encryptedFlag, aesMethod = 1, 99
		h := &zip.FileHeader{Name: f.name, Flags: encryptedFlag, Method: aesMethod, Modified: f.written,
			CompressedSize64: uint64(len(sealed)), UncompressedSize64: uint64(len(f.content)),
			Extra: []byte{0x01, 0x99, 7, 0, 2, 0, 'A', 'E', 3, 0, 0}}
		// As a wall clock shows it, to two seconds.
		h.ModifiedDate = uint16(f.written.Day() + int(f.written.Month())<<5 + (f.written.Year()-1980)<<9) //lint:ignore SA1019 of a raw member
		h.ModifiedTime = uint16(f.written.Second()/2 + f.written.Minute()<<5 + f.written.Hour()<<11)      //lint:ignore SA1019 of a raw member
		w, err := z.CreateRaw(h)
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(sealed); err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return b.Bytes(), err
}

func encrypted(f member, password string) ([]byte, error) {
	const keySize, rounds, signed = 32, 1000, 10
	salt := evenBytes("salt of "+f.name, 16)
	keys, err := pbkdf2.Key(sha1.New, password, salt, rounds, 2*keySize+2)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(keys[:keySize])
	if err != nil {
		return nil, err
	}
	sealed := append(append([]byte{}, salt...), keys[2*keySize:]...)
	from := len(sealed)
	for n := 0; n < len(f.content); n += aes.BlockSize { // a counter that begins at 1, its lowest byte first
		var counter, pad [aes.BlockSize]byte
		binary.LittleEndian.PutUint64(counter[:], uint64(n/aes.BlockSize+1))
		block.Encrypt(pad[:], counter[:])
		for i := n; i < min(n+aes.BlockSize, len(f.content)); i++ {
			sealed = append(sealed, f.content[i]^pad[i-n])
		}
	}
	mac := hmac.New(sha1.New, keys[keySize:2*keySize])
	mac.Write(sealed[from:])
	return append(sealed, mac.Sum(nil)[:signed]...), nil
}

// Secrets is the folder with the file that holds the password of the world's cloud drive.
func (w World) Secrets() string { return w.driveDir() }

// driveDir is where the world's cloud drive lies.
func (w World) driveDir() string { return filepath.Join(w.Dir, "drive") }

// drive fills the office's cloud drive: a letter that somebody put back to an older version, a price list that was deleted there, and the
// drawing loft's offsets.
func (w World) fillDrive(ctx context.Context) error {
	d, err := clouddrive.Open(ctx, w.driveDir())
	if err != nil {
		return err
	}
	defer d.Close()
	now := w.Built.Truncate(time.Second)
	at := now
	d.Now = func() time.Time { return at }
	days := func(n float64) time.Time { return now.Add(-time.Duration(n * float64(dayLong))) }
	var failed error
	put := func(when time.Time, who int, path string, content []byte, comment string) {
		at = when
		_, _, err := d.Put(ctx, path, bytes.NewReader(content), logins[who], comment, "")
		failed = errors.Join(failed, err)
	}
	at = days(60)
	failed = errors.Join(failed, d.Mkdir(ctx, "/Office"), d.Mkdir(ctx, "/Lines"))
	letter := func(n int) []byte {
		return textDocument("Standing orders", []string{"What the yard orders every month.",
			fmt.Sprintf("Copper nails: %d kilos. Linseed oil: %d litres.", 4+n, 20+2*n)}, days(50))
	}
	for n, who := range []int{ines, ines, oda, ines, oda} {
		put(days(50-float64(n)*9), who, "/Office/Standing orders.odt", letter(n), "")
	}
	put(days(3), oda, "/Office/Standing orders.odt", letter(1), "put back to an older version")
	prices := func(n int) []byte {
		return spreadsheet("Prices for the fair", [][]string{{"boat", "price"}, {"Sanderling", fmt.Sprint(18200 + 300*n)}, {"Curlew",
			fmt.Sprint(20600 + 300*n)}}, days(30))
	}
	put(days(30), ines, "/Office/Prices for the fair.ods", prices(0), "")
	put(days(8), ines, "/Office/Prices for the fair.ods", prices(1), "after the fair in May")
	put(days(20), tomas, "/Lines/Kittiwake offsets.csv", offsetsCSV(newHull("Kittiwake", 9)), "")
	put(days(7), tomas, "/Lines/Kittiwake offsets.csv", offsetsCSV(newHull("Kittiwake", 12)), "for the yard")
	put(days(2.6), ravi, "/Lines/Kittiwake offsets.csv", offsetsCSV(newHull("Kittiwake", 13)), "")
	at = days(1.3)
	failed = errors.Join(failed, d.Remove(ctx, "/Office/Prices for the fair.ods", "oda", "", false))
	if failed != nil {
		return fmt.Errorf("fill the cloud drive: %w", failed)
	}
	secret := rand.Text()
	if err := d.Admit(ctx, "yard", secret, time.Time{}); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(w.driveDir(), "secret"), []byte(secret+"\n"), 0o600)
}

// ServeDrive serves the world's cloud drive on a free port of loopback, which it keeps from one time to the next, until stop is called.
// address is how it is reached.
func (w World) ServeDrive(ctx context.Context) (address string, stop func(), err error) {
	d, err := clouddrive.Open(ctx, w.driveDir())
	if err != nil {
		return "", nil, err
	}
	remembered := filepath.Join(w.driveDir(), "listens")
	listen := "127.0.0.1:0"
	if text, err := os.ReadFile(remembered); err == nil {
		listen = strings.TrimSpace(string(text))
	}
	ctx, cancel := context.WithCancel(ctx)
	type place struct{ url, certificate string }
	ready, ended := make(chan place, 1), make(chan error, 1)
	go func() {
		ended <- d.Serve(ctx, listen, func(url, certificate string) { ready <- place{url, certificate} })
	}()
	stop = func() {
		cancel()
		<-ended
		d.Close()
	}
	select {
	case err := <-ended:
		cancel()
		return "", nil, errors.Join(err, d.Close())
	case p := <-ready:
		u, err := url.Parse(p.url)
		if err == nil {
			_, _, err = net.SplitHostPort(u.Host)
		}
		if err == nil {
			err = os.WriteFile(remembered, []byte(u.Host+"\n"), 0o600)
		}
		if err != nil {
			stop()
			return "", nil, err
		}
		u.User = url.User("yard")
		u.RawQuery = url.Values{"certificate": {p.certificate}, "secret-file": {filepath.Join(w.driveDir(), "secret")}}.Encode()
		return u.String(), stop, nil
	}
}

// Certificate is what tells the certificate of the world's cloud drive; "" where there is none.
func (w World) Certificate(ctx context.Context) string {
	d, err := clouddrive.Open(ctx, w.driveDir())
	if err != nil {
		return ""
	}
	defer d.Close()
	_, told, err := d.Certificate()
	if err != nil {
		return ""
	}
	return told
}
