package history

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
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
	childTime   = 1800      // seconds of the processor
)

// surveying is held by the one child that reads a history as a whole; others read single contents meanwhile.
var surveying = semaphore.NewWeighted(1)

// command makes a child of git that reads the mirror.
func (m *mirror) command(ctx context.Context, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, "git", append([]string{"--no-pager", "--no-replace-objects"}, args...)...)
	c.Dir, c.Env = m.dir, environment(m.dir)
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	c.WaitDelay = 5 * time.Second
	return c
}

// bound holds a child that has just been started to its bounds.
func bound(c *exec.Cmd) error {
	pid := c.Process.Pid
	return errors.Join(
		unix.Prlimit(pid, unix.RLIMIT_AS, &unix.Rlimit{Cur: childSpace, Max: childSpace}, nil),
		unix.Prlimit(pid, unix.RLIMIT_DATA, &unix.Rlimit{Cur: childMemory, Max: childMemory}, nil),
		unix.Prlimit(pid, unix.RLIMIT_CPU, &unix.Rlimit{Cur: childTime, Max: childTime}, nil),
		unix.Prlimit(pid, unix.RLIMIT_CORE, &unix.Rlimit{}, nil),
	)
}

// run runs git with lines to read, and has what it prints read while it runs. An error of git says its own last line.
func (m *mirror) run(ctx context.Context, lines []string, read func(*bufio.Reader) error, args ...string) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	if args[0] == "log" || slices.Contains(args, "--batch-all-objects") {
		if err := surveying.Acquire(ctx, 1); err != nil {
			return err
		}
		defer surveying.Release(1)
	}
	c := m.command(ctx, args...)
	c.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
	said := &tail{}
	c.Stderr = said
	out, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return err
	}
	if err := bound(c); err != nil {
		stop()
		return errors.Join(err, c.Wait())
	}
	err = read(bufio.NewReaderSize(out, 256<<10))
	if err != nil {
		stop()
		_ = c.Wait()
		return err
	}
	if err := c.Wait(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &gitError{args[0], said.last()}
	}
	return nil
}

// gitError is what git says when it cannot read on: what is wrong with the repository.
type gitError struct{ command, said string }

func (e *gitError) Error() string { return fmt.Sprintf("git %s: %s", e.command, e.said) }

// Unwrap returns the code.
func (e *gitError) Unwrap() error { return problem.Broken }

// tail keeps the end of what is written to it.
type tail struct{ b []byte }

func (t *tail) Write(p []byte) (int, error) {
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
			line, err := r.ReadSlice('\n')
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
	name, rest, _ := bytes.Cut(bytes.TrimSuffix(line, []byte{'\n'}), []byte{' '})
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
	end := context.AfterFunc(ctx, r.kill)
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
	line, err := r.out.ReadString('\n')
	if err != nil {
		return object{}, err
	}
	if _, o, ok := readObject([]byte(line)); ok {
		return o, nil
	}
	return object{}, errMissing // or ambiguous, or not there as named
}

func (r *reader) start() error {
	ctx, stop := context.WithCancel(context.Background())
	c := r.mirror.command(ctx, "cat-file", "--batch-command")
	in, err := c.StdinPipe()
	if err != nil {
		stop()
		return err
	}
	out, err := c.StdoutPipe()
	if err == nil {
		err = c.Start()
	}
	if err == nil {
		err = bound(c)
	}
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
