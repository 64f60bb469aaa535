package history

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/refs"
)

// commit is a commit with what it changed against its first parent.
type commit struct {
	id        string
	parents   []string
	committed time.Time
	authored  time.Time
	author    string
	message   string // its first line
	changes   []change
}

// change is what a commit did to one path.
type change struct {
	path string
	blob string // what it holds from then on; "" where it was removed
	was  string // what it held before, where it was removed
	// goesOn tells that it held something before.
	goesOn bool
	link   bool // it is a symbolic link
	other  bool // it is neither file nor link: a repository in it
}

// Bounds on a history, in bytes. What is held of it is what its commits say of files: of more, the latest is told.
const (
	maxHistory  = 48 << 20
	perCommit   = 400
	perChange   = 160 // with what is worked out from it
	perText     = 80  // besides the text
	perFolder   = 280 // that a path leads through, with what is worked out of it
	maxMessage  = 200
	maxEntries  = 1_000_000 // of one folder of a commit, or of the index
	maxUnnamed  = 50_000    // commits that nothing names
	maxNameless = 50_000    // blobs that nothing names
)

// errEnough says that as much is held of a history as may be.
var errEnough = errors.New("its history is longer than is held at once")

// logFormat prints a commit as fields that each end in a zero byte: mark and name, parents, times, author, message.
const logFormat = "--format=%x01%H%x00%P%x00%ct%x00%at%x00%an%x00%s"

// log reads commits and all that come before them, newest first as git orders them, without those that before names with what comes
// before those. cut tells that it could not be read to its end, and why. The error is errEnough where there is more than is held, or than is read in the
// time that there is.
func (m *mirror) log(ctx context.Context, tips, before []string, see func(*commit)) (cut string, err error) {
	lines := make([]string, 0, len(tips)+len(before))
	lines = append(lines, tips...)
	for _, b := range before {
		lines = append(lines, "^"+b)
	}
	l := logReader{see: see, texts: map[string]string{}, held: &m.held, odd: &m.odd}
	err = m.run(ctx, lines, l.read, "log", "--stdin", "--ignore-missing", "--raw", "-z", "--no-renames", "--no-abbrev",
		"--diff-merges=first-parent", "--no-ext-diff", "--no-textconv", "--no-color", "--no-show-signature", "--ignore-submodules=none", logFormat)
	var broken *gitError
	if errors.As(err, &broken) && l.commits > 0 {
		return broken.said, nil
	}
	if errors.Is(err, errSpent) && l.commits > 1 {
		err = errEnough
	}
	return "", err
}

// logReader reads what git log prints.
type logReader struct {
	see     func(*commit)
	commits int
	texts   map[string]string // paths, authors and the names of blobs
	held    *int64            // bytes, of all that was read
	odd     *int              // changes of what can be no path
}

var errLog = fmt.Errorf("git printed something else than was asked for: %w", problem.Broken)

func (l *logReader) read(r *bufio.Reader) error {
	var now *commit
	done := func() {
		if now != nil {
			l.see(now)
		}
	}
	for {
		head, err := field(r, 0)
		if err == io.EOF {
			done()
			return nil
		}
		if err != nil {
			return err
		}
		if id, ok := bytes.CutPrefix(head, []byte{1}); ok {
			done()
			l.commits++
			if *l.held += perCommit; *l.held > maxHistory {
				return errEnough
			}
			if now, err = l.commit(string(id), r); err != nil {
				return err
			}
			continue
		}
		meta, ok := bytes.CutPrefix(bytes.TrimPrefix(head, []byte{'\n'}), []byte{':'})
		if !ok || now == nil {
			return errLog
		}
		if *l.held += perChange; *l.held > maxHistory {
			return errEnough // the commit that is being read is not seen
		}
		c, err := l.change(meta)
		if err != nil {
			return err
		}
		path, err := field(r, 0)
		if err != nil || len(path) == 0 {
			return errors.Join(errLog, err)
		}
		if !isPath(path) {
			*l.odd++
			continue
		}
		if _, known := l.texts[string(path)]; !known {
			l.folders(string(path))
		}
		c.path = l.once(path)
		now.changes = append(now.changes, c)
	}
}

// folders counts those that a path leads through, as far as they are not known.
func (l *logReader) folders(path string) {
	for dir := folderOf(path); dir != ""; dir = folderOf(dir) {
		if _, known := l.texts[dir]; known {
			return
		}
		l.texts[dir] = dir
		*l.held += perFolder
	}
}

// isPath tells whether a path leads below the folder of files: a tree that somebody made may name its entries as she likes.
func isPath(path []byte) bool {
	for name := range bytes.SplitSeq(path, []byte{'/'}) {
		if len(name) == 0 || string(name) == "." || string(name) == ".." || len(name) > maxName {
			return false
		}
	}
	return len(path) <= maxPath && bytes.Count(path, []byte{'/'}) <= maxDepth
}

// maxName and maxPath are how long names and paths may be, in bytes: longer ones no file system takes; maxDepth is how many folders deep.
const maxName, maxPath, maxDepth = 1024, 4096, 500

func (l *logReader) commit(id string, r *bufio.Reader) (*commit, error) {
	var fields [5]string
	for i := range fields {
		b, err := field(r, 0)
		if err != nil {
			return nil, err
		}
		fields[i] = string(b)
	}
	if !refs.IsObject(id) {
		return nil, errLog
	}
	c := &commit{id: id, parents: strings.Fields(fields[0]), author: l.once([]byte(readable(fields[3]))),
		message: readable(strings.TrimRight(fields[4], " "))}
	for i, at := range [...]*time.Time{&c.committed, &c.authored} {
		if seconds, err := strconv.ParseInt(fields[1+i], 10, 64); err == nil {
			*at = entry.Bounded(time.Unix(seconds, 0).UTC())
		}
	}
	return c, nil
}

// readable makes a line of text of what somebody wrote into a commit.
func readable(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
	for len(s) > maxMessage {
		s = strings.ToValidUTF8(s[:maxMessage-3], "") + "…"
	}
	return strings.TrimSpace(s)
}

// once returns a text so that each is in memory once.
func (l *logReader) once(b []byte) string {
	if known, ok := l.texts[string(b)]; ok {
		return known
	}
	s := string(b)
	l.texts[s] = s
	*l.held += int64(len(s)) + perText
	return s
}

// change reads "oldmode newmode oldname newname status".
func (l *logReader) change(meta []byte) (change, error) {
	var f [5][]byte
	n := 0
	for field := range bytes.FieldsSeq(meta) {
		if n == len(f) {
			return change{}, errLog
		}
		f[n] = field
		n++
	}
	if n < len(f) {
		return change{}, errLog
	}
	kept := func(mode []byte) bool {
		switch string(mode) {
		case "100644", "100755", "120000", "100664":
			return true
		}
		return false
	}
	var c change
	c.goesOn = refs.IsObject(string(f[2])) && kept(f[0])
	switch {
	case string(f[1]) == "000000":
		if c.goesOn {
			c.was = l.once(f[2])
		}
	case !kept(f[1]) || !refs.IsObject(string(f[3])):
		c.other = true
	default:
		c.blob, c.link = l.once(f[3]), string(f[1]) == "120000"
	}
	return c, nil
}
