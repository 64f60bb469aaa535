package apart

import (
	"bufio"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"humble-rewind/internal/core/peek"
)

// child is a process that looks into one content after the other.
type child struct {
	cmd    *exec.Cmd
	in     io.WriteCloser
	to     *bufio.Writer // in; a request goes with its first piece
	out    *bufio.Reader
	buffer []byte
	piece  []byte // of what it reads
	broken bool   // it ended, or does not answer as it should
	over   sync.Once
	asked  int // how often
}

// environment makes a program that imports this package a child: see init.
const environment = "HUMBLE_REWIND_APART"

// executable is the program that children run: this one.
var executable = os.Executable

func start(how manner) (*child, error) {
	program, err := executable()
	if err != nil {
		return nil, err
	}
	kind := "light"
	if how == heavy {
		kind = "heavy"
	}
	c := &child{cmd: exec.Command(program), buffer: make([]byte, pieceSize), piece: make([]byte, pieceSize)}
	c.cmd.Env = []string{environment + "=" + kind, "GOMAXPROCS=1"}
	c.cmd.Dir = "/"
	c.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // an interrupt in the terminal is for the service
	if c.in, err = c.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	c.to = bufio.NewWriterSize(c.in, 64<<10)
	out, err := c.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	c.out = bufio.NewReaderSize(out, 64<<10)
	if err := c.cmd.Start(); err != nil {
		return nil, fmt.Errorf("start a process to look into contents: %w", err)
	}
	return c, nil
}

// end ends the process and waits for it.
func (c *child) end() {
	c.over.Do(func() {
		c.in.Close()
		_ = syscall.Kill(-c.cmd.Process.Pid, syscall.SIGKILL) // and what it may have started
		_ = c.cmd.Wait()                                      // says that it was killed
	})
}

// wallTime is how long a look may take at the most, whatever the machine is busy with. A child's processor time is bounded by
// itself, more tightly.
const wallTime = 3 * time.Minute

// ask has a request carried out.
func (c *child) ask(ctx context.Context, r request, value any, out io.Writer, contents []Input) error {
	c.asked++
	limited, done := context.WithTimeout(ctx, wallTime)
	defer done()
	stop := context.AfterFunc(limited, c.end) // so that reading from it ends
	defer stop()
	for _, content := range contents {
		r.Names, r.Sizes = append(r.Names, content.Name), append(r.Sizes, content.Size)
	}
	var readErr error
	answer, err := c.exchange(r, out, contents, &readErr)
	switch {
	case ctx.Err() != nil:
		c.broken = true
		return ctx.Err()
	case readErr != nil:
		c.broken = c.broken || err != nil
		return readErr
	case err != nil:
		c.broken = true
		c.end()
		if used := c.asked > 1; used && c.cmd.ProcessState.ExitCode() != exitSpent {
			return errWorn
		}
		return ErrDemanding
	}
	switch answer.Failure {
	case "":
		if value == nil {
			return nil
		}
		return decode(answer.Value, value)
	case tooHeavy:
		return errHeavy
	case noPicture:
		return fmt.Errorf("%w: %s", peek.ErrNoPicture, answer.Error)
	}
	return errors.New(answer.Error)
}

// exchange asks, gives the child what it wants to read, and returns its result. readErr is what kept a content from being read.
func (c *child) exchange(r request, out io.Writer, contents []Input, readErr *error) (answer result, err error) {
	first := 0
	if len(contents) > 0 && contents[0].Size > 0 && contents[0].Size <= pieceSize {
		n, err := contents[0].ReadAt(c.piece[:contents[0].Size], 0)
		if err != nil && !errors.Is(err, io.EOF) {
			*readErr = err
			return answer, err
		}
		first = n
	}
	r.Sent = first > 0
	if err := c.request(r, framePiece, c.piece[:first]); err != nil {
		return answer, err
	}
	for written := 0; ; {
		kind, frame, err := readFrame(c.out, c.buffer)
		if err != nil {
			return answer, err
		}
		switch kind {
		case frameRead:
			if err := c.give(frame, contents, readErr); err != nil {
				return answer, err
			}
		case frameOutput:
			if written += len(frame); written > maxFrame {
				return answer, errStrange
			}
			if out != nil {
				if _, err := out.Write(frame); err != nil {
					return answer, err
				}
			}
		case frameResult:
			return answer, json.Unmarshal(frame, &answer)
		default:
			return answer, errStrange
		}
	}
}

// request sends a request, with its first piece where that goes with it.
func (c *child) request(r request, kind byte, first []byte) error {
	encoded, err := json.Marshal(r)
	if err == nil {
		err = writeFrame(c.to, frameRequest, encoded)
	}
	if err == nil && r.Sent {
		err = writeFrame(c.to, kind, first)
	}
	if err == nil {
		err = c.to.Flush()
	}
	return err
}

// next reads the next piece of a stream, and tells whether it is the last.
func (c *child) next(from io.Reader) (piece []byte, last bool, err error) {
	n, err := io.ReadFull(from, c.piece)
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return c.piece[:n], true, nil
	}
	return c.piece[:n], false, err
}

// pieceOf is the kind of frame that a piece of a stream goes in.
func pieceOf(last bool) byte {
	if last {
		return frameLast
	}
	return framePiece
}

// send sends a frame.
func (c *child) send(kind byte, content []byte) error {
	return errors.Join(writeFrame(c.to, kind, content), c.to.Flush())
}

// give answers a child that wants to read.
func (c *child) give(frame []byte, contents []Input, readErr *error) error {
	if len(frame) != 13 || int(frame[0]) >= len(contents) {
		return errStrange
	}
	content := contents[frame[0]]
	at, length := int64(binary.BigEndian.Uint64(frame[1:])), int64(binary.BigEndian.Uint32(frame[9:]))
	length = min(length, int64(len(c.piece)), content.Size-at)
	if at < 0 || length <= 0 {
		return c.send(framePiece, nil)
	}
	n, err := content.ReadAt(c.piece[:length], at)
	if err != nil && !errors.Is(err, io.EOF) {
		*readErr = err
		return c.send(frameFault, nil)
	}
	return c.send(framePiece, c.piece[:n])
}
