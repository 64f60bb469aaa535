package apart

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"humble-rewind/internal/core/disk/scan"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// The two sides talk in frames over the child's standard input and output: a byte for the kind, four bytes for the length (big
// endian), and that many bytes. The service asks with a request; the child then asks for pieces of the contents, each answered
// by one frame, until it sends its result, before which it may send output. Of a stream, such as what is to be unpacked, it asks without saying
// for which piece: it gets the next.
const (
	frameRequest = 'q' // JSON of a request
	frameRead    = 'r' // a byte for the content, eight for the offset, four for the length; nothing for the next piece of what is packed
	framePiece   = 'p' // the bytes there; fewer than asked for only at the end
	frameLast    = 'l' // of a stream, the last ones
	frameFault   = 'f' // they cannot be read
	frameOutput  = 'o'
	frameResult  = 'd' // JSON of a result
)

// What the service takes from a child, which may have been taken over by what it looked into: the bytes of a frame, and of all its output; and
// how many values an answer holds.
const (
	maxFrame = 48 << 20
	maxParts = 1_000_000
)

// pieceSize is how much of a content the child asks for at once.
const pieceSize = 128 << 10

type op string

const (
	opExamine op = "examine"
	opLook    op = "look"
	opDraw    op = "draw"
	opCompare op = "compare"
	opShares  op = "shares"
	opHolds   op = "holds"
	opUnpack  op = "unpack"
	opMembers op = "members"
	opRefs    op = "refs"

	opMultistatus op = "multistatus"

	opVolumes op = "volumes"
	opWalk    op = "walk"
	opSweep   op = "sweep"
)

type request struct {
	Op     op       `json:"op"`
	Words  []string `json:"words,omitempty"`
	Form   string   `json:"form,omitempty"`   // of what is to be unpacked, or taken apart
	Packed string   `json:"packed,omitempty"` // the form as which that is packed
	Most   int64    `json:"most,omitempty"`   // bytes that are unpacked
	Last   bool     `json:"last,omitempty"`   // piece of an answer

	// Of a drive.
	Volume *scan.Volume `json:"volume,omitempty"`
	Erased bool         `json:"erased,omitempty"`
	From   int64        `json:"from,omitempty"` // an offset

	Names []string `json:"names"`
	Sizes []int64  `json:"sizes"`
	// Sent says that the first piece of the first content, or of the stream, follows at once, unasked: of most it is all of it.
	Sent bool `json:"sent,omitempty"`
}

type result struct {
	Value json.RawMessage `json:"value,omitempty"`
	// Of a failure: what kind it is of, and its words.
	Failure failure      `json:"failure,omitempty"`
	Error   string       `json:"error,omitempty"`
	Code    problem.Code `json:"code,omitempty"` // "" where it is none
}

// said is a failure as the child said it.
func (r result) said() error {
	text := place.Readable(r.Error[:min(len(r.Error), maxSaid)])
	if r.Code == "" {
		return errors.New(text)
	}
	return saidError{text, r.Code}
}

// maxSaid is how much of what a child says of a failure is passed on, in bytes.
const maxSaid = 400

// saidError is what a child said of a failure that has a code.
type saidError struct {
	text string
	code problem.Code
}

func (e saidError) Error() string { return e.text }
func (e saidError) Unwrap() error { return e.code }

type failure string

const (
	failed    failure = "failed"
	noPicture failure = "no-picture"
	tooHeavy  failure = "heavy" // it wants to be done alone, where more may be taken
)

// errWorn says that a child ended that had looked into other contents before, what is left of which may be to blame.
var errWorn = errors.New("a used process ended")

// errStrange says that a child sent what none does that works as it should.
var errStrange = errors.New("a process that looks into contents sent something strange")

// decode reads the value of an answer. A few bytes can stand for a value of many, so they are counted first.
func decode(answer json.RawMessage, value any) error {
	tokens := json.NewDecoder(bytes.NewReader(answer))
	for range maxParts {
		if _, err := tokens.Token(); err == io.EOF {
			return json.Unmarshal(answer, value)
		} else if err != nil {
			return err
		}
	}
	return errStrange
}

var errHeavy = errors.New("it takes more than a light look")

func writeFrame(w io.Writer, kind byte, parts ...[]byte) error {
	length := 0
	for _, part := range parts {
		length += len(part)
	}
	head := binary.BigEndian.AppendUint32([]byte{kind}, uint32(length))
	for _, part := range append([][]byte{head}, parts...) {
		if _, err := w.Write(part); err != nil {
			return err
		}
	}
	return nil
}

// readFrame reads a frame into buffer where it fits.
func readFrame(r io.Reader, buffer []byte) (kind byte, content []byte, err error) {
	return readFrameOf(r, buffer, maxFrame)
}

// readFrameOf reads one of at most so many bytes.
func readFrameOf(r io.Reader, buffer []byte, most int) (kind byte, content []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	length := int(binary.BigEndian.Uint32(head[1:]))
	if length > most {
		return 0, nil, fmt.Errorf("a frame of %d bytes", length)
	}
	if length > cap(buffer) {
		buffer = make([]byte, length)
	}
	content = buffer[:length]
	_, err = io.ReadFull(r, content)
	return head[0], content, err
}
