package history

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
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
	path  string
	blob  string // what it holds from then on; "" where it was removed
	was   string // what it held before; "" where it is new
	link  bool   // it is a symbolic link
	other bool   // it is neither file nor link: a repository in it
}

// Bounds on a history.
const (
	maxCommits = 2_000_000
	maxChanges = 8_000_000
	maxMessage = 200 // bytes
)

// logFormat prints a commit as fields that each end in a zero byte: mark and name, parents, times, author, message.
const logFormat = "--format=%x01%H%x00%P%x00%ct%x00%at%x00%an%x00%<(200,trunc)%s"

// log reads commits and all that come before them, newest first as git orders them, without those that before names with what comes
// before those. cut tells that it could not be read to its end, and why.
func (m *mirror) log(ctx context.Context, tips, before []string, see func(*commit)) (cut string, err error) {
	lines := make([]string, 0, len(tips)+len(before))
	lines = append(lines, tips...)
	for _, b := range before {
		lines = append(lines, "^"+b)
	}
	l := logReader{see: see, paths: map[string]string{}}
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
	paths   map[string]string // so that each is in memory once
}

var errLog = errors.New("git log printed something else than was asked for")

func (l *logReader) read(r *bufio.Reader) error {
	field := func() (string, error) {
		s, err := r.ReadString(0)
		return strings.TrimSuffix(s, "\x00"), err
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
		if id, ok := strings.CutPrefix(head, "\x01"); ok {
			done()
			if l.commits++; l.commits > maxCommits {
				return fmt.Errorf("it has more than %d commits", maxCommits)
			}
			if now, err = l.commit(id, field); err != nil {
				return err
			}
			continue
		}
		meta, ok := strings.CutPrefix(strings.TrimPrefix(head, "\n"), ":")
		if !ok || now == nil {
			return errLog
		}
		path, err := field()
		if err != nil {
			return err
		}
		if l.changes++; l.changes > maxChanges {
			return fmt.Errorf("its commits changed more than %d files", maxChanges)
		}
		c, err := l.change(meta, path)
		if err != nil {
			return err
		}
		now.changes = append(now.changes, c)
	}
}

func (l *logReader) commit(id string, field func() (string, error)) (*commit, error) {
	var fields [5]string
	for i := range fields {
		var err error
		if fields[i], err = field(); err != nil {
			return nil, err
		}
	}
	if !isObject(id) {
		return nil, errLog
	}
	c := &commit{id: id, parents: strings.Fields(fields[0]), author: l.once(readable(fields[3])),
		message: readable(strings.TrimRight(fields[4], " "))}
	for i, at := range [...]*time.Time{&c.committed, &c.authored} {
		if seconds, err := strconv.ParseInt(fields[1+i], 10, 64); err == nil {
			*at = time.Unix(seconds, 0).UTC()
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

func (l *logReader) once(s string) string {
	if known, ok := l.paths[s]; ok {
		return known
	}
	l.paths[s] = s
	return s
}

// change reads "oldmode newmode oldname newname status".
func (l *logReader) change(meta, path string) (change, error) {
	f := strings.Fields(meta)
	if len(f) != 5 || path == "" {
		return change{}, errLog
	}
	c := change{path: l.once(path)}
	kept := func(mode string) bool {
		return mode == "100644" || mode == "100755" || mode == "120000" || mode == "100664"
	}
	if isObject(f[2]) && kept(f[0]) {
		c.was = f[2]
	}
	switch {
	case f[1] == "000000":
	case !kept(f[1]) || !isObject(f[3]):
		c.other = true
	default:
		c.blob, c.link = f[3], f[1] == "120000"
	}
	return c, nil
}
