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

// Bounds on a history.
const (
	maxCommits = 2_000_000
	maxChanges = 8_000_000
	maxMessage = 200 // bytes
)

// logFormat prints a commit as fields that each end in a zero byte: mark and name, parents, times, author, message.
const logFormat = "--format=%x01%H%x00%P%x00%ct%x00%at%x00%an%x00%s"

// log reads commits and all that come before them, newest first as git orders them, without those that before names with what comes
// before those. cut tells that it could not be read to its end, and why.
func (m *mirror) log(ctx context.Context, tips, before []string, see func(*commit)) (cut string, err error) {
	lines := make([]string, 0, len(tips)+len(before))
	lines = append(lines, tips...)
	for _, b := range before {
		lines = append(lines, "^"+b)
	}
	l := logReader{see: see, texts: map[string]string{}}
	err = m.run(ctx, lines, l.read, "log", "--stdin", "--ignore-missing", "--raw", "-z", "--no-renames", "--no-abbrev",
		"--diff-merges=first-parent", "--no-ext-diff", "--no-textconv", "--no-color", "--no-show-signature", "--ignore-submodules=none", logFormat)
	var broken *gitError
	if errors.As(err, &broken) && l.commits > 0 {
		return broken.said, nil
	}
	return "", err
}

// logReader reads what git log prints.
type logReader struct {
	see     func(*commit)
	commits int
	changes int
	texts   map[string]string // paths and authors
}

var errLog = errors.New("git log printed something else than was asked for")

func (l *logReader) read(r *bufio.Reader) error {
	field := func() ([]byte, error) { // until the next is read
		b, err := r.ReadSlice(0)
		if err == bufio.ErrBufferFull { // a path or a line that nobody wrote by hand: its beginning will do
			b = bytes.Clone(b)
			for err == bufio.ErrBufferFull {
				_, err = r.ReadSlice(0)
			}
		}
		return bytes.TrimSuffix(b, []byte{0}), err
	}
	var now *commit
	done := func() {
		if now != nil {
			l.see(now)
		}
	}
	for {
		head, err := field()
		if err == io.EOF {
			done()
			return nil
		}
		if err != nil {
			return err
		}
		if id, ok := bytes.CutPrefix(head, []byte{1}); ok {
			done()
			if l.commits++; l.commits > maxCommits {
				return fmt.Errorf("it has more than %d commits", maxCommits)
			}
			if now, err = l.commit(string(id), field); err != nil {
				return err
			}
			continue
		}
		meta, ok := bytes.CutPrefix(bytes.TrimPrefix(head, []byte{'\n'}), []byte{':'})
		if !ok || now == nil {
			return errLog
		}
		if l.changes++; l.changes > maxChanges {
			return fmt.Errorf("its commits changed more than %d files", maxChanges)
		}
		c, err := readChange(meta)
		if err != nil {
			return err
		}
		path, err := field()
		if err != nil || len(path) == 0 {
			return errors.Join(errLog, err)
		}
		c.path = l.once(path)
		now.changes = append(now.changes, c)
	}
}

func (l *logReader) commit(id string, field func() ([]byte, error)) (*commit, error) {
	var fields [5]string
	for i := range fields {
		b, err := field()
		if err != nil {
			return nil, err
		}
		fields[i] = string(b)
	}
	if !isObject(id) {
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
	return s
}

// readChange reads "oldmode newmode oldname newname status".
func readChange(meta []byte) (change, error) {
	f := strings.Fields(string(meta))
	if len(f) != 5 {
		return change{}, errLog
	}
	kept := func(mode string) bool {
		return mode == "100644" || mode == "100755" || mode == "120000" || mode == "100664"
	}
	var c change
	c.goesOn = isObject(f[2]) && kept(f[0])
	switch {
	case f[1] == "000000":
		if c.goesOn {
			c.was = strings.Clone(f[2])
		}
	case !kept(f[1]) || !isObject(f[3]):
		c.other = true
	default:
		c.blob, c.link = strings.Clone(f[3]), f[1] == "120000" // so that the line need not be kept
	}
	return c, nil
}
