package file

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"humble-rewind/internal/core/problem"
)

// SQLite does not notice a changed byte inside a row. So the catalogue keeps a checksum (CRC-32C) of every page of its file in a
// file of its own. In WAL mode pages reach the file only by checkpoints, and none is made but by [pageSums.checkpoint]: it first
// writes down the sums that the pages will have, and puts them in force once they are there. Killed at any point, each page is as
// the sums in force say, or as those that were to come, or it stands in the log, which has checksums of its own.
type pageSums struct {
	path string // of the catalogue

	mu   sync.Mutex // held during a checkpoint
	sums sums       // of the pages as they are in the file once its log is in it
}

// sums are the checksums of the pages of a file, the first page first.
type sums struct {
	pageSize int64
	pages    []uint32 // neverWritten of those that were not
}

// neverWritten is the sum of a page that no log ever held, as of the one at a gibibyte, which SQLite leaves out for its locks (section 1.2
// of its file format), and of pages that were free as soon as they were there. What is in them says nothing.
const neverWritten = 0

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// A file of sums: eight bytes that say so, the page size and the number of pages (32 bits each, little endian), a sum a page, and
// a sum over all of that.
const sumsMagic = "hr-sums\x01"

func (p *pageSums) inForce() string { return p.path + "-sums" }
func (p *pageSums) toCome() string  { return p.path + "-sums-next" }
func (p *pageSums) log() string     { return p.path + "-wal" }

func readSums(path string) (sums, error) {
	content, err := os.ReadFile(path)
	if err != nil {
		return sums{}, err
	}
	const head = len(sumsMagic) + 8
	if len(content) < head+4 || string(content[:len(sumsMagic)]) != sumsMagic {
		return sums{}, fmt.Errorf("%s is not a file of checksums", filepath.Base(path))
	}
	body, sum := content[:len(content)-4], binary.LittleEndian.Uint32(content[len(content)-4:])
	count := int(binary.LittleEndian.Uint32(content[len(sumsMagic)+4:]))
	if crc32.Checksum(body, castagnoli) != sum || len(body) != head+4*count {
		return sums{}, fmt.Errorf("%s is damaged", filepath.Base(path))
	}
	s := sums{pageSize: int64(binary.LittleEndian.Uint32(content[len(sumsMagic):])), pages: make([]uint32, count)}
	for i := range s.pages {
		s.pages[i] = binary.LittleEndian.Uint32(body[head+4*i:])
	}
	return s, nil
}

// write writes sums so that they are there as a whole or not at all.
func (s sums) write(path string) error {
	content := make([]byte, 0, len(sumsMagic)+12+4*len(s.pages))
	content = append(content, sumsMagic...)
	content = binary.LittleEndian.AppendUint32(content, uint32(s.pageSize))
	content = binary.LittleEndian.AppendUint32(content, uint32(len(s.pages)))
	for _, sum := range s.pages {
		content = binary.LittleEndian.AppendUint32(content, sum)
	}
	content = binary.LittleEndian.AppendUint32(content, crc32.Checksum(content, castagnoli))
	return writeWhole(path, content)
}

func writeWhole(path string, content []byte) error {
	f, err := os.OpenFile(path+"~", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return Rename(path+"~", path)
}

// Rename replaces a file and makes that last.
func Rename(from, to string) error {
	if err := os.Rename(from, to); err != nil {
		return err
	}
	dir, err := os.Open(filepath.Dir(to))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// pageSize reads the size of a database's pages from its header (section 1.3.2 of SQLite's file format).
func pageSize(header []byte) (int64, error) {
	size := int64(binary.BigEndian.Uint16(header[16:]))
	if size == 1 {
		size = 65536
	}
	if string(header[:16]) != "SQLite format 3\x00" || size < 512 || size&(size-1) != 0 {
		return 0, errors.New("its header is not one of a database")
	}
	return size, nil
}

// sumFile computes the sums of a database file's pages.
func sumFile(path string) (sums, error) {
	f, err := os.Open(path)
	if err != nil {
		return sums{}, err
	}
	defer f.Close()
	header := make([]byte, 100)
	if _, err := io.ReadFull(f, header); err != nil {
		return sums{}, fmt.Errorf("its header cannot be read: %w", err)
	}
	s := sums{}
	if s.pageSize, err = pageSize(header); err != nil {
		return sums{}, err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return sums{}, err
	}
	r, page := bufio.NewReaderSize(f, 1<<20), make([]byte, s.pageSize)
	for {
		_, err := io.ReadFull(r, page)
		if err == io.EOF {
			return s, nil
		}
		if err != nil {
			return s, fmt.Errorf("its last page is not whole: %w", err)
		}
		s.pages = append(s.pages, crc32.Checksum(page, castagnoli))
	}
}

// verify compares the file with its sums before anything opens it. It says with problem.Damaged what is wrong. fresh tells that there
// is no catalogue yet, unsummed that it has no sums yet: it is from before there were any.
func (p *pageSums) verify() (fresh, unsummed bool, err error) {
	info, err := os.Stat(p.path)
	inForce, sumsErr := readSums(p.inForce())
	toCome, nextErr := readSums(p.toCome())
	had := sumsErr == nil || nextErr == nil
	switch {
	case errors.Is(err, fs.ErrNotExist) && !had, err == nil && info.Size() == 0 && !had:
		return true, false, nil
	case errors.Is(err, fs.ErrNotExist):
		return false, false, fmt.Errorf("%w: its file is gone", problem.Damaged)
	case err != nil:
		return false, false, err
	case info.Size() == 0:
		return false, false, fmt.Errorf("%w: its file is empty", problem.Damaged)
	case errors.Is(sumsErr, fs.ErrNotExist) && errors.Is(nextErr, fs.ErrNotExist):
		return false, true, nil
	case !had:
		return false, false, fmt.Errorf("%w: %w", problem.Damaged, errors.Join(sumsErr, nextErr))
	}
	if err := p.compare(inForce, toCome); err != nil {
		return false, false, fmt.Errorf("%w: %w", problem.Damaged, err)
	}
	p.sums = inForce
	if nextErr == nil { // what it adds is in the file already, or in the log
		p.sums = toCome
	}
	return false, false, nil
}

// compare says what in the file is neither as the sums in force say, nor as those to come, nor in the log.
func (p *pageSums) compare(inForce, toCome sums) error {
	logged, err := readLog(p.log(), p.sameBoot())
	if err != nil {
		return err
	}
	now, err := sumFile(p.path)
	if err != nil {
		return err
	}
	superseded := func(i int) bool { _, ok := logged.pages[uint32(i+1)]; return ok }
	for i, sum := range now.pages {
		if !superseded(i) && !inForce.is(i, sum) && !toCome.is(i, sum) {
			return fmt.Errorf("page %d of %d is not as it was written", i+1, len(now.pages))
		}
	}
	least := len(inForce.pages)
	if toCome.pageSize != 0 {
		least = min(least, len(toCome.pages))
	}
	for i := len(now.pages); i < least; i++ {
		if !superseded(i) {
			return fmt.Errorf("its file is cut off after %d of %d pages", len(now.pages), least)
		}
	}
	return nil
}

// check compares while the catalogue is open.
func (p *pageSums) check() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	inForce, sumsErr := readSums(p.inForce())
	toCome, nextErr := readSums(p.toCome())
	if sumsErr != nil && nextErr != nil {
		return errors.Join(sumsErr, nextErr)
	}
	return p.compare(inForce, toCome)
}

// bootFile says since when the machine has been running, as the system itself names it: a log that was not cut off by the machine
// stopping is whole to its last commit.
const bootFile = "/proc/sys/kernel/random/boot_id"

func (p *pageSums) sameBoot() bool {
	then, errThen := os.ReadFile(p.path + "-boot")
	now, errNow := os.ReadFile(bootFile)
	return errThen == nil && errNow == nil && string(then) == string(now)
}

// noteBoot keeps under which start of the machine the log is being written.
func (p *pageSums) noteBoot() error {
	now, err := os.ReadFile(bootFile)
	if err != nil || p.sameBoot() {
		return nil // where that cannot be told, the log's end is not held to it
	}
	return writeWhole(p.path+"-boot", now)
}

// is tells whether a page may have a sum.
func (s sums) is(page int, sum uint32) bool {
	return page < len(s.pages) && (s.pages[page] == sum || s.pages[page] == neverWritten)
}

// begin takes the sums of a catalogue that has none, whose log is in its file.
func (p *pageSums) begin() error {
	now, err := sumFile(p.path)
	if err != nil {
		return err
	}
	p.sums = now
	return errors.Join(now.write(p.inForce()), remove(p.toCome()))
}

func remove(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// checkpoint brings the log into the file. into runs the checkpoint itself and tells whether all of the log went in, which
// somebody who is reading can keep it from; nobody may write meanwhile.
func (p *pageSums) checkpoint(ctx context.Context, into func(ctx context.Context) (whole bool, err error)) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	logged, err := readLog(p.log(), true)
	if err != nil || len(logged.pages) == 0 {
		return err
	}
	next := sums{logged.pageSize, append([]uint32{}, p.sums.pages...)}
	for page, sum := range logged.pages {
		for int(page) > len(next.pages) {
			next.pages = append(next.pages, neverWritten)
		}
		next.pages[page-1] = sum
	}
	if logged.size > 0 && int(logged.size) < len(next.pages) {
		next.pages = next.pages[:logged.size]
	}
	if err := next.write(p.toCome()); err != nil {
		return fmt.Errorf("write down the catalogue's checksums: %w", err)
	}
	p.sums = next
	if whole, err := into(ctx); err != nil || !whole {
		return err
	}
	return Rename(p.toCome(), p.inForce())
}

// logged is what a write-ahead log holds: the sums of the pages as its last commit leaves them.
type logged struct {
	pageSize int64
	pages    map[uint32]uint32
	size     uint32 // pages of the database after the last commit
}

// readLog reads a write-ahead log (section 4 of SQLite's file format) up to its last commit. Every commit was on the disk before the
// next began, so a power cut can have left but the last one behind in part: a wrong frame before that is an error and, where whole
// says that there was no power cut, in that as well.
func readLog(path string, whole bool) (logged, error) {
	l := logged{pages: map[uint32]uint32{}}
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err != nil {
		return l, err
	}
	defer f.Close()
	r := bufio.NewReaderSize(f, 1<<20)
	header := make([]byte, 32)
	if _, err := io.ReadFull(r, header); err != nil {
		return l, nil // empty, or never begun
	}
	magic := binary.BigEndian.Uint32(header)
	if magic&^1 != 0x377f0682 {
		return l, errors.New("its log is not one of a database")
	}
	var order binary.ByteOrder = binary.LittleEndian
	if magic&1 != 0 {
		order = binary.BigEndian
	}
	l.pageSize = int64(binary.BigEndian.Uint32(header[8:]))
	if l.pageSize < 512 || l.pageSize > 65536 || l.pageSize&(l.pageSize-1) != 0 {
		return l, errors.New("the header of its log is damaged")
	}
	var sum logSum
	sum.add(order, header[:24])
	if sum != readLogSum(header[24:]) {
		return l, errors.New("the header of its log is damaged")
	}
	salts := string(header[16:24])
	frame, pending := make([]byte, 24+l.pageSize), map[uint32]uint32{}
	broken, commits := 0, 0 // the first wrong frame, and the commits from it on
	bound := 1              // of those, what a power cut may leave
	if whole {
		bound = 0
	}
	for n := 1; ; n++ {
		_, err := io.ReadFull(r, frame)
		if err != nil || string(frame[8:16]) != salts { // the end, or what the log before left
			if commits > bound {
				return l, fmt.Errorf("frame %d of its log is damaged", broken)
			}
			return l, nil
		}
		size := binary.BigEndian.Uint32(frame[4:])
		sum.add(order, frame[:8])
		sum.add(order, frame[24:])
		if broken == 0 && sum != readLogSum(frame[16:]) {
			broken = n
		}
		if broken > 0 {
			if size != 0 {
				commits++
			}
			continue
		}
		pending[binary.BigEndian.Uint32(frame)] = crc32.Checksum(frame[24:], castagnoli)
		if size != 0 {
			for page, sum := range pending {
				l.pages[page] = sum
			}
			clear(pending)
			l.size = size
		}
	}
}

// logSum is the running checksum of a log (section 4.2).
type logSum struct{ a, b uint32 }

func readLogSum(b []byte) logSum {
	return logSum{binary.BigEndian.Uint32(b), binary.BigEndian.Uint32(b[4:])}
}

func (s *logSum) add(order binary.ByteOrder, b []byte) {
	for ; len(b) >= 8; b = b[8:] {
		s.a += order.Uint32(b) + s.b
		s.b += order.Uint32(b[4:]) + s.a
	}
}
