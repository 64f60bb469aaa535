package apart

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"github.com/hashicorp/golang-lru/v2/simplelru"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/compare"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/document"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/pdf"
	"humble-rewind/internal/core/peek"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/refs"
	"humble-rewind/internal/core/similar"
)

// init makes the program a child where its environment says so, whatever program it is: tests look into contents by the same
// children as the service does.
func init() {
	if kind := os.Getenv(environment); kind != "" {
		os.Exit(serve(kind == "heavy"))
	}
}

// exitSpent is the status of a child that used up its processor time.
const exitSpent = 4

// What a child may take. It can open nothing, write to no file, and gain no rights. The data of a process is everything that it can
// write to (RLIMIT_DATA): the heap, and what the runtime keeps besides.
const (
	lightData = 120 << 20 // bytes
	heavyData = 175 << 20
	lightSoft = 40 << 20 // of the heap, from which on the collector works harder
	heavySoft = 90 << 20
	cpuTime   = 20 // seconds of processor time for one content
)

// nobody is who a child is where the service is root: the overflow user, who owns nothing. It begins as root, because it may be
// that nobody else can read the program.
const nobody = 65534

func dropRights() error {
	if os.Geteuid() != 0 {
		return nil
	}
	return errors.Join(syscall.Setgroups(nil), syscall.Setresgid(nobody, nobody, nobody), syscall.Setresuid(nobody, nobody, nobody))
}

// serve answers requests until there are no more.
func serve(heavy bool) int {
	if smallThreads() != nil {
		return 3
	}
	data, soft := uint64(lightData), int64(lightSoft)
	if heavy {
		data, soft = heavyData, heavySoft
	}
	debug.SetGCPercent(400) // a look is short, and what it takes goes at once; the limit holds where one is not
	debug.SetMemoryLimit(soft)
	if err := dropRights(); err != nil {
		return 3
	}
	time.Sleep(time.Microsecond) // the runtime opens what its timers need at the first, which may be its own, when it gives memory back
	for what, most := range map[int]uint64{unix.RLIMIT_DATA: data, unix.RLIMIT_CORE: 0, unix.RLIMIT_FSIZE: 0, unix.RLIMIT_NOFILE: 3} {
		if err := unix.Setrlimit(what, &unix.Rlimit{Cur: most, Max: most}); err != nil {
			return 3
		}
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return 3
	}
	spent := make(chan os.Signal, 1)
	signal.Notify(spent, syscall.SIGXCPU)
	go func() {
		<-spent
		os.Exit(exitSpent)
	}()
	w := &worker{in: bufio.NewReaderSize(os.Stdin, 64<<10), out: bufio.NewWriterSize(os.Stdout, 64<<10), heavy: heavy}
	for {
		kind, frame, err := readFrame(w.in, nil)
		if err != nil || kind != frameRequest {
			return 0
		}
		var r request
		if err := json.Unmarshal(frame, &r); err != nil || bound(cpuTime) != nil {
			return 3
		}
		var first []byte
		if w.sent = nil; r.Sent {
			kind, first, err = readFrame(w.in, w.first)
			w.first = first
			switch {
			case err != nil, kind != framePiece && kind != frameLast:
				return 3
			case len(r.Sizes) == 0:
				w.sent = &sent{first, kind == frameLast}
			}
		}
		if err := w.answer(r, first); err != nil {
			return 3
		}
	}
}

// bound lets the process use so many seconds of processor time more, before it is told to end.
func bound(seconds uint64) error {
	var used unix.Rusage
	if err := unix.Getrusage(unix.RUSAGE_SELF, &used); err != nil {
		return err
	}
	return unix.Setrlimit(unix.RLIMIT_CPU, &unix.Rlimit{Cur: uint64(used.Utime.Sec+used.Stime.Sec) + seconds + 1, Max: unix.RLIM_INFINITY})
}

// worker answers one request after the other.
type worker struct {
	in    *bufio.Reader
	out   *bufio.Writer
	heavy bool
	sent  *sent // the first piece of the stream of the request; nil where it has none

	first, unpacked []byte // buffers, of the first piece and of what comes out
}

// answer carries a request out; first is the beginning of the first content, where it was sent with it.
func (w *worker) answer(r request, first []byte) error {
	contents := make([]Input, len(r.Sizes))
	for i, size := range r.Sizes {
		pieces, _ := simplelru.NewLRU[int64, []byte](keptPieces, nil) // it fails for no size alone
		of := &remote{w: w, content: byte(i), size: size, pieces: pieces, of: pieceSize}
		if r.Op == opMembers && r.Form == "tar" {
			of.of = headPiece // what lies between heads is of no interest
		}
		of.renews = r.Op == opWalk || r.Op == opSweep
		if i == 0 && first != nil {
			of.pieces.Add(0, first)
		}
		contents[i] = Input{Name: r.Names[i], ReaderAt: of, Size: size}
	}
	value, err := w.do(r, contents)
	var answer result
	switch {
	case err == nil:
		if answer.Value, err = json.Marshal(value); err != nil {
			return err
		}
	case errors.Is(err, errHeavy):
		answer.Failure = tooHeavy
	case errors.Is(err, peek.ErrNoPicture):
		answer.Failure, answer.Error = noPicture, strings.TrimPrefix(err.Error(), peek.ErrNoPicture.Error()+": ")
	default:
		answer.Failure, answer.Error = failed, err.Error()
		answer.Code, _ = errors.AsType[problem.Code](err)
	}
	encoded, err := json.Marshal(answer)
	if err == nil {
		err = writeFrame(w.out, frameResult, encoded)
	}
	return errors.Join(err, w.out.Flush())
}

func (w *worker) do(r request, c []Input) (any, error) {
	for _, content := range c {
		if !w.heavy && w.outgrows(r.Op, content) {
			return nil, errHeavy
		}
	}
	switch {
	case r.Op == opExamine && len(c) == 1:
		return examine(c[0])
	case r.Op == opLook && len(c) == 1:
		return peek.Look(c[0], c[0].Size)
	case r.Op == opDraw && len(c) == 1:
		var drawn bytes.Buffer
		if err := peek.Render(c[0], c[0].Size, &drawn); err != nil {
			return nil, err
		}
		return nil, writeFrame(w.out, frameOutput, drawn.Bytes())
	case r.Op == opCompare && len(c) == 2:
		return compare.Of(compare.Side{Name: c[0].Name, Content: c[0], Size: c[0].Size},
			compare.Side{Name: c[1].Name, Content: c[1], Size: c[1].Size})
	case r.Op == opShares && len(c) == 2:
		ofA, ofB := similar.Shares(c[0], c[0].Size, c[1], c[1].Size)
		return [2]float64{ofA, ofB}, nil
	case r.Op == opHolds && len(c) == 1:
		return holds(c[0], r.Words), nil
	case r.Op == opUnpack && len(c) == 0:
		return nil, w.unpack(r.Form)
	case r.Op == opMembers:
		return w.members(r, c)
	case r.Op == opRefs && len(c) == 0:
		return nil, w.refs(refs.Form(r.Form))
	case r.Op == opMultistatus && len(c) == 0:
		return w.multistatus(r.Last)
	case r.Op == opVolumes, r.Op == opWalk, r.Op == opSweep:
		return w.drive(r, c)
	}
	return nil, errors.New("not a request")
}

// lightPicture is the most that decoding a picture may take in a light look, in bytes; lightCompared the most that is compared.
const (
	lightPicture  = 24 << 20
	lightCompared = 1 << 20
)

// outgrows tells whether a content takes more than a light look may.
func (w *worker) outgrows(o op, c Input) bool {
	switch o {
	case opExamine, opDraw, opCompare, opShares:
		if bytes, ok := peek.Weight(c, c.Size); ok && bytes > lightPicture {
			return true
		}
	}
	return (o == opCompare || o == opShares || o == opHolds) && c.Size > lightCompared
}

func examine(c Input) (condition.Findings, error) {
	found, err := condition.Examine(c, c.Size)
	if err != nil || found.Media != "application/vnd.sqlite3" || found.State == condition.Broken || c.Size > maxDatabase {
		return found, err
	}
	verdict, err := catalogue.CheckDatabase(context.Background(), c, c.Size)
	if err != nil {
		return found, err
	}
	return found.WithDatabase(verdict), nil
}

// maxDatabase is the largest database whose integrity is checked, in bytes.
const maxDatabase = 1 << 30

// maxRead is how much of a content is searched for words, in bytes.
const maxRead = 16 << 20

// holds looks for words in a document's text, in plain text, or else in the bytes, those of a PDF's pages included.
func holds(c Input, words []string) Held {
	text, isText := "", true
	size := min(c.Size, maxRead)
	if d, err := document.Read(c, c.Size); err == nil {
		text = d.Text()
	} else if text, isText = peek.WholeText(c, size); !isText {
		raw := make([]byte, size)
		n, _ := c.ReadAt(raw, 0)
		if raw = raw[:n]; pdf.Is(raw) && !pdf.Encrypted(raw) {
			raw = pdf.Pages(raw, maxRead)
		}
		text = string(raw)
	}
	folded := names.Fold(text)
	held := Held{Words: make([]bool, len(words)), Text: isText}
	for i, word := range words {
		held.Words[i] = strings.Contains(folded, names.Fold(word))
	}
	return held
}

// remote is a content that the service reads for the child, in pieces of which the latest are kept.
type remote struct {
	w       *worker
	content byte
	size    int64
	pieces  *simplelru.LRU[int64, []byte] // by their numbers
	of      int64                         // bytes
	renews  bool                          // each megabyte that is read lets the child go on
	fetched int64
}

// headPiece is how much of a tar is asked for at once.
const headPiece = 64 << 10

// keptPieces is how many pieces of a content are kept.
const keptPieces = 16

var errUnreadable = errors.New("the content cannot be read")

func (r *remote) ReadAt(p []byte, off int64) (n int, err error) {
	if off < 0 {
		return 0, errors.New("a negative offset")
	}
	for n < len(p) {
		at := off + int64(n)
		if at >= r.size {
			return n, io.EOF
		}
		piece, err := r.piece(at / r.of)
		if err != nil {
			return n, err
		}
		within := int(at % r.of)
		if within >= len(piece) {
			return n, io.EOF
		}
		n += copy(p[n:], piece[within:])
	}
	return n, nil
}

func (r *remote) piece(number int64) ([]byte, error) {
	if piece, ok := r.pieces.Get(number); ok {
		return piece, nil
	}
	question := append(binary.BigEndian.AppendUint64([]byte{r.content}, uint64(number*r.of)), 0, 0, 0, 0)
	binary.BigEndian.PutUint32(question[9:], uint32(r.of))
	if err := errors.Join(writeFrame(r.w.out, frameRead, question), r.w.out.Flush()); err != nil {
		return nil, err
	}
	if r.fetched += r.of; r.renews && r.fetched >= 1<<20 {
		r.fetched = 0
		r.w.renew()
	}
	var spare []byte
	if r.pieces.Len() >= keptPieces {
		_, spare, _ = r.pieces.RemoveOldest()
	}
	kind, piece, err := readFrame(r.w.in, spare)
	if err != nil {
		os.Exit(0) // nobody wants to know any more
	}
	if kind != framePiece {
		return nil, errUnreadable
	}
	r.pieces.Add(number, piece)
	return piece, nil
}
