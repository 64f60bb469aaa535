package history

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/semaphore"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/core/problem"
)

// Bounds on a child of git.
const (
	childSpace  = 2 << 30   // bytes of address space, packs that are mapped among them
	childMemory = 256 << 20 // bytes of memory
	childTime   = 1800      // seconds of the processor, for a content that is passed through
	surveyTime  = 120       // and for all else: as much of a history as is held is mostly read in a few
	childWall   = time.Hour // for what is read from a child that sends it at its own pace
	answerWall  = 5 * time.Minute
)

// surveying is held by the one child that reads a history as a whole; others read single contents meanwhile.
var surveying = semaphore.NewWeighted(1)

// overflowUser is who a child is where the service is root: nobody, who owns nothing. What takes a child over by an object made to
// do harm can then read what everybody may, and write nothing.
const overflowUser = 65534

// environment is all that a child of git is told by.
func environment() []string {
	return []string{
		"PATH=" + os.Getenv("PATH"), "LC_ALL=C", "HOME=/nonexistent", "XDG_CONFIG_HOME=/nonexistent", "GIT_DIR=.",
		"GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_SYSTEM=/dev/null", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_ATTR_NOSYSTEM=1",
		"GIT_NO_REPLACE_OBJECTS=1", "GIT_NO_LAZY_FETCH=1", "GIT_ALLOW_PROTOCOL=", "GIT_OPTIONAL_LOCKS=0", "GIT_TERMINAL_PROMPT=0",
		"GIT_PAGER=cat", "GIT_EDITOR=false", "GIT_ASKPASS=false", "SSH_ASKPASS=false",
	}
}

// bounded has a shell hold itself to a child's bounds before it becomes git: from outside that takes rights that a service in a container
// may not have. Where the service itself is held to less, that stays. Its first argument is how many seconds of the processor it may take.
var bounded = fmt.Sprintf(`{ ulimit -c 0; ulimit -v %d; ulimit -d %d; ulimit -t "$1"; } 2>/dev/null; shift; exec git --no-pager --no-replace-objects "$@"`,
	childSpace>>10, childMemory>>10)

// start starts a child of git in the mirror's folder. pipe connects it before that.
func (m *mirror) start(ctx context.Context, pipe func(*exec.Cmd) error, args ...string) (*exec.Cmd, error) {
	seconds := surveyTime
	if args[0] == "cat-file" && !slices.Contains(args, "--batch-check") {
		seconds = childTime
	}
	c := exec.CommandContext(ctx, "/bin/sh", append([]string{"-c", bounded, "git", strconv.Itoa(seconds)}, args...)...)
	c.Dir, c.Env = m.dir, environment()
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if os.Geteuid() == 0 {
		folder, err := unix.Open(m.dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
		if err != nil {
			return nil, err
		}
		defer unix.Close(folder)
		c.Dir = fmt.Sprintf("/proc/self/fd/%d", folder) // no path leads there that a child may take who is nobody
		c.SysProcAttr.Credential = &syscall.Credential{Uid: overflowUser, Gid: overflowUser}
	}
	c.Cancel = func() error { return syscall.Kill(-c.Process.Pid, syscall.SIGKILL) } // and what it may have started
	c.WaitDelay = 5 * time.Second
	if err := pipe(c); err != nil {
		return nil, err
	}
	return c, c.Start()
}

// run runs git with lines to read, and has what it prints read while it runs, for an hour at the most. One history at a time is read whole.
func (m *mirror) run(ctx context.Context, lines []string, read func(*bufio.Reader) error, args ...string) error {
	if args[0] == "log" || slices.Contains(args, "--batch-all-objects") {
		if err := surveying.Acquire(ctx, 1); err != nil {
			return err
		}
		defer surveying.Release(1)
	}
	ctx, stop := context.WithTimeoutCause(ctx, childWall, errSilent)
	defer stop()
	return m.pipe(ctx, lines, read, args...)
}

// pipe is run for as long as whoever reads takes. An error of git says its own last line.
func (m *mirror) pipe(ctx context.Context, lines []string, read func(*bufio.Reader) error, args ...string) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	said := &tail{}
	var out io.Reader
	c, err := m.start(ctx, func(c *exec.Cmd) (err error) {
		c.Stdin, c.Stderr = strings.NewReader(strings.Join(lines, "\n")+"\n"), said
		out, err = c.StdoutPipe()
		return err
	}, args...)
	if err != nil {
		return err
	}
	if err = read(bufio.NewReaderSize(out, 256<<10)); err != nil {
		stop()
		_ = c.Wait()
		return err
	}
	if err := c.Wait(); err != nil {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if spent(c.ProcessState) {
			return errSpent
		}
		return &gitError{args[0], said.last()}
	}
	return nil
}

// errSpent says that a child took more time of the processor than it is given.
var errSpent = fmt.Errorf("git took more time of the processor than it is given: %w", problem.TooLarge)

// spent tells whether a child was ended for that.
func spent(s *os.ProcessState) bool {
	status, ok := s.Sys().(syscall.WaitStatus)
	return ok && status.Signaled() && (status.Signal() == syscall.SIGXCPU || status.Signal() == syscall.SIGKILL && s.UserTime()+s.SystemTime() > time.Minute)
}

// errSilent says that a child was ended that did not end by itself.
var errSilent = fmt.Errorf("git took longer than it is given: %w", problem.Broken)

// field reads what a child ends with a byte, without it; it holds until the next is read. Of what no sane answer is as long as (a path or a
// line that nobody wrote by hand) only the beginning is kept.
func field(r *bufio.Reader, end byte) ([]byte, error) {
	b, err := r.ReadSlice(end)
	if err == bufio.ErrBufferFull {
		b = bytes.Clone(b)
		for n := 0; err == bufio.ErrBufferFull; {
			var more []byte
			more, err = r.ReadSlice(end)
			if n += len(more); n > maxField {
				return nil, errLog
			}
		}
	}
	return bytes.TrimSuffix(b, []byte{end}), err
}

// maxField is how much is read for the end of an answer before git is given up, in bytes.
const maxField = 64 << 20

// gitError is what git says when it cannot read on: what is wrong with the repository.
type gitError struct{ command, said string }

func (e *gitError) Error() string { return fmt.Sprintf("git %s: %s", e.command, e.said) }

// Unwrap returns the code.
func (e *gitError) Unwrap() error { return problem.Broken }

// tail keeps the end of what is written to it, and takes no more than maxField.
type tail struct {
	b []byte
	n int
}

func (t *tail) Write(p []byte) (int, error) {
	if t.n += len(p); t.n > maxField {
		return 0, errLog
	}
	t.b = append(t.b, p...)
	if len(t.b) > 4096 {
		t.b = t.b[len(t.b)-2048:]
	}
	return len(p), nil
}

func (t *tail) last() string {
	lines := strings.Split(strings.TrimSpace(string(t.b)), "\n")
	return strings.ToValidUTF8(lines[len(lines)-1], "?")
}

// object is what git tells of an object without reading it.
type object struct {
	kind string
	size int64
}

// objects lists everything that there is, whether anything names it or not.
func (m *mirror) objects(ctx context.Context, see func(name string, o object)) error {
	return m.run(ctx, nil, func(r *bufio.Reader) error {
		for {
			line, err := field(r, '\n')
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return err
			}
			if name, o, ok := readObject(line); ok {
				see(name, o)
			}
		}
	}, "cat-file", "--batch-all-objects", "--batch-check", "--unordered")
}

// readObject reads "name kind size".
func readObject(line []byte) (string, object, bool) {
	name, rest, _ := bytes.Cut(line, []byte{' '})
	kind, size, ok := bytes.Cut(rest, []byte{' '})
	if !ok || len(name) < 40 {
		return "", object{}, false
	}
	n, err := strconv.ParseInt(string(size), 10, 64)
	o := object{size: n}
	switch string(kind) { // so that each is one string
	case "blob":
		o.kind = "blob"
	case "commit":
		o.kind = "commit"
	case "tree":
		o.kind = "tree"
	case "tag":
		o.kind = "tag"
	default:
		return "", object{}, false
	}
	return string(name), o, err == nil && n >= 0
}

// reader is a child that reads one object after the other.
type reader struct {
	mirror *mirror

	mu   sync.Mutex
	stop context.CancelFunc
	cmd  *exec.Cmd
	in   io.WriteCloser
	out  *bufio.Reader
}

// errMissing says that the repository does not hold an object.
var errMissing = fmt.Errorf("the repository does not hold it any more: %w", problem.NotThere)

// get reads a whole object where it has at most limit bytes; of a larger one only what it is.
func (r *reader) get(ctx context.Context, name string, limit int64) (o object, content []byte, err error) {
	if strings.ContainsAny(name, "\n\x00") {
		return o, nil, errMissing
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if ctx.Err() != nil {
		return o, nil, ctx.Err()
	}
	limited, done := context.WithTimeout(ctx, answerWall)
	defer done()
	end := context.AfterFunc(limited, r.kill)
	defer end()
	if o, err = r.ask("info " + name + "\n"); err == nil && o.size <= limit {
		if o, err = r.ask("contents " + name + "\n"); err == nil {
			content = make([]byte, o.size)
			if _, err = io.ReadFull(r.out, content); err == nil {
				_, err = r.out.Discard(1)
			}
		}
	}
	if err != nil && !errors.Is(err, errMissing) {
		r.close()
		if ctx.Err() != nil {
			return o, nil, ctx.Err()
		}
		err = fmt.Errorf("git ended while it read an object (%w): %w", err, problem.Broken)
	}
	return o, content, err
}

// ask asks for one object. mu is held.
func (r *reader) ask(question string) (object, error) {
	if r.cmd == nil {
		if err := r.start(); err != nil {
			return object{}, err
		}
	}
	if _, err := io.WriteString(r.in, question); err != nil {
		return object{}, err
	}
	line, err := field(r.out, '\n')
	if err != nil {
		return object{}, err
	}
	if _, o, ok := readObject(line); ok {
		return o, nil
	}
	return object{}, errMissing // or ambiguous, or not there as named
}

func (r *reader) start() error {
	ctx, stop := context.WithCancel(context.Background())
	var in io.WriteCloser
	var out io.Reader
	c, err := r.mirror.start(ctx, func(c *exec.Cmd) (err error) {
		if in, err = c.StdinPipe(); err == nil {
			out, err = c.StdoutPipe()
		}
		return err
	}, "cat-file", "--batch-command")
	if err != nil {
		stop()
		return err
	}
	r.cmd, r.stop, r.in, r.out = c, stop, in, bufio.NewReaderSize(out, 64<<10)
	return nil
}

// kill ends the child from outside, so that whoever waits for it goes on.
func (r *reader) kill() {
	if r.stop != nil {
		r.stop()
	}
}

// close ends the child. mu is held.
func (r *reader) close() {
	if r.cmd == nil {
		return
	}
	_ = r.in.Close()
	r.stop()
	_ = r.cmd.Wait()
	r.cmd = nil
}

// Close ends the child.
func (r *reader) Close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.close()
}
