package apart

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/fxamacker/cbor/v2"

	"humble-rewind/internal/core/archived"
)

// Zip takes the structure of a zip apart in a child: each is called with what is said of each member, in their order, until it fails.
func (p *Pool) Zip(ctx context.Context, at io.ReaderAt, size int64, each func(archived.Head) error) (archived.Told, error) {
	return p.members(ctx, &members{form: "zip", content: []Input{{ReaderAt: at, Size: size}}, each: each})
}

// Tar does so for a tar that can be read at any offset, past contents.
func (p *Pool) Tar(ctx context.Context, at io.ReaderAt, size int64, each func(archived.Head) error) (archived.Told, error) {
	return p.members(ctx, &members{form: "tar", content: []Input{{ReaderAt: at, Size: size}}, each: each})
}

// PackedTar does so for a tar that is packed as one stream, in the form named, see Unpack: the same child unpacks it.
// In no form it is read as it is, from its beginning. It unpacks no more than so many bytes: what unpacks to more is archived.ErrBomb.
func (p *Pool) PackedTar(ctx context.Context, form string, packed io.Reader, most int64, each func(archived.Head) error) (archived.Told, error) {
	return p.members(ctx, &members{form: "tar", packedAs: form, packed: packed, most: most, each: each})
}

// members is an archive that is taken apart.
type members struct {
	form, packedAs string
	content        []Input
	packed         io.Reader
	most           int64 // bytes that are unpacked
	all            bool  // of what is packed was given
	each           func(archived.Head) error
}

// members asks a child. One that ended while it had nothing to do is none.
func (p *Pool) members(ctx context.Context, m *members) (told archived.Told, err error) {
	p.begin()
	for {
		kept, err := p.unpacking.Acquire(ctx)
		if err != nil {
			return told, err
		}
		c := kept.Value()
		c.asked++
		begun, told, err := m.ask(ctx, c)
		if err == nil && !c.broken {
			kept.Release()
			p.lookLater()
			return told, nil
		}
		kept.Destroy()
		if err == nil || begun || c.asked == 1 || ctx.Err() != nil {
			return told, err
		}
	}
}

// memberFrame is the largest frame of heads, in bytes: a name may be of 64 KiB, and as much a target.
const memberFrame = 1 << 20

// ask has a child take the archive apart. begun says that something came of it.
func (m *members) ask(ctx context.Context, c *child) (begun bool, told archived.Told, err error) {
	stop := context.AfterFunc(ctx, c.end) // so that reading from it ends
	patience := time.AfterFunc(wallTime, c.end)
	defer func() {
		if ends := !stop(); ends || !patience.Stop() {
			c.broken = true
		}
	}()
	r := request{Op: opMembers, Form: m.form, Packed: m.packedAs, Most: m.most}
	for _, content := range m.content {
		r.Names, r.Sizes = append(r.Names, content.Name), append(r.Sizes, content.Size)
	}
	if err := c.request(r); err != nil {
		return false, told, ErrDemanding
	}
	for {
		kind, frame, err := readFrameOf(c.out, c.buffer, memberFrame)
		switch {
		case ctx.Err() != nil:
			return begun, told, ctx.Err()
		case err != nil:
			return begun, told, ErrDemanding
		}
		begun = true
		switch kind {
		case frameRead:
			patience.Stop() // that may be slow
			err = m.give(c, frame)
			patience.Reset(wallTime)
		case frameOutput:
			err = m.take(frame)
			patience.Reset(wallTime)
		case frameResult:
			var answer result
			if err := json.Unmarshal(frame, &answer); err != nil {
				return begun, told, errStrange
			}
			if answer.Failure != "" {
				return begun, told, answer.said()
			}
			return begun, told, decode(answer.Value, &told)
		default:
			err = errStrange
		}
		if err != nil {
			c.broken = true
			return begun, told, err
		}
	}
}

// give gives the child what it wants to read: of a content, or the next piece of what is packed.
func (m *members) give(c *child, frame []byte) error {
	if len(m.content) > 0 {
		var readErr error
		if err := c.give(frame, m.content, &readErr); err != nil {
			return errors.Join(readErr, err)
		}
		return readErr
	}
	if m.all || len(frame) > 0 {
		return errStrange
	}
	n, err := io.ReadFull(m.packed, c.piece)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return err
	}
	m.all = n == 0
	if err := writeFrame(c.in, framePiece, c.piece[:n]); err != nil {
		return ErrDemanding // it ended
	}
	return nil
}

// headsReading bounds what a frame of heads unpacks to.
var headsReading, _ = cbor.DecOptions{MaxArrayElements: 1 << 16, MaxMapPairs: 64, MaxNestedLevels: 4, UTF8: cbor.UTF8DecodeInvalid}.DecMode()

func (m *members) take(frame []byte) error {
	var heads []archived.Head
	if err := headsReading.Unmarshal(frame, &heads); err != nil {
		return fmt.Errorf("%w: %w", errStrange, err)
	}
	for _, h := range heads {
		if err := m.each(h); err != nil {
			return err
		}
	}
	return nil
}

// batchBytes is about how much of what is said of members is sent at once.
const batchBytes = 64 << 10

// members is the child's side.
func (w *worker) members(r request, contents []Input) (any, error) {
	tidy()
	var batch []archived.Head
	size := 0
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		encoded, err := cbor.Marshal(batch)
		if err != nil {
			return err
		}
		batch, size = batch[:0], 0
		w.renew()
		return errors.Join(writeFrame(w.out, frameOutput, encoded), w.out.Flush())
	}
	put := func(h archived.Head) error {
		batch = append(batch, h)
		if size += 64 + len(h.Name) + len(h.Target) + len(h.Cryptic); size < batchBytes {
			return nil
		}
		return flush()
	}
	told, err := w.archive(r, contents, put)
	if err == nil {
		err = flush()
	}
	return told, err
}

func (w *worker) archive(r request, contents []Input, put func(archived.Head) error) (archived.Told, error) {
	ctx := context.Background() // whoever does not want to know any more ends the process
	switch {
	case r.Form == "zip" && len(contents) == 1:
		return archived.Zip(ctx, contents[0], contents[0].Size, put)
	case r.Form == "tar" && len(contents) == 1:
		return archived.Tar(ctx, io.NewSectionReader(contents[0], 0, contents[0].Size), put)
	case r.Form == "tar" && len(contents) == 0:
		unpacker, ok := unpackers[r.Packed]
		if r.Packed == "" { // it is only read from its beginning
			unpacker, ok = func(r io.Reader) (io.ReadCloser, error) { return io.NopCloser(r), nil }, true
		}
		if !ok {
			return archived.Told{}, fmt.Errorf("%q is not a form that is unpacked", r.Packed)
		}
		packed := &asked{w: w}
		defer packed.end()
		if err := packed.ask(); err != nil {
			return archived.Told{}, err
		}
		of, err := unpacker(packed)
		if err != nil {
			return archived.Told{}, fmt.Errorf("%w (%w)", archived.ErrDamaged, err)
		}
		defer of.Close()
		return archived.Tar(ctx, &renewing{Reader: of, w: w, most: r.Most}, put)
	}
	return archived.Told{}, errors.New("not a request")
}

// renew lets the child go on: what it does is taken note of as it comes.
func (w *worker) renew() {
	if bound(cpuTime) != nil {
		os.Exit(exitSpent)
	}
}

// renewing lets the child go on with each megabyte that it has unpacked.
type renewing struct {
	io.Reader
	w    *worker
	left int
	most int64
}

func (r *renewing) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	if r.most -= int64(n); r.most < 0 {
		return 0, archived.ErrBomb
	}
	if r.left -= n; r.left <= 0 {
		r.left = 1 << 20
		r.w.renew()
	}
	return n, err
}
