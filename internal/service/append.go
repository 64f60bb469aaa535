package service

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"strconv"

	"humble-rewind/api"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/restore"
)

// Answers of a hundred thousand entries are written by append: reflection would take longer than finding them.

// appendText appends a text as JSON, as package encoding/json writes it.
func appendText(b []byte, text string) []byte {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c > '~' || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			quoted, _ := json.Marshal(text) // which fails for no string
			return append(b, quoted...)
		}
	}
	b = append(b, '"')
	b = append(b, text...)
	return append(b, '"')
}

func appendPlace(b []byte, p api.Place) []byte {
	b = append(b, `{"machine":`...)
	b = appendText(b, p.Machine)
	b = append(b, `,"path":`...)
	b = appendText(b, p.Path)
	if p.PathBytes != nil {
		b = append(b, `,"path_bytes":"`...)
		b = base64.StdEncoding.AppendEncode(b, *p.PathBytes)
		b = append(b, '"')
	}
	return append(b, '}')
}

func appendPlanItem(b []byte, i api.PlanItem) []byte {
	b = append(b, `{"action":`...)
	b = appendText(b, string(i.Action))
	if i.Asks != nil {
		b = append(b, `,"asks":[`...)
		for n, ask := range *i.Asks {
			if n > 0 {
				b = append(b, ',')
			}
			b = appendText(b, string(ask))
		}
		b = append(b, ']')
	}
	b = append(b, `,"clash":`...)
	b = appendText(b, i.Clash)
	b = append(b, `,"copy":`...)
	b = appendText(b, i.Copy)
	b = append(b, `,"from":`...)
	b = appendPlace(b, i.From)
	if i.Makes != nil {
		b = append(b, `,"makes":[`...)
		for n, folder := range *i.Makes {
			if n > 0 {
				b = append(b, ',')
			}
			b = appendPlace(b, folder)
		}
		b = append(b, ']')
	}
	b = append(b, `,"note":`...)
	b = appendText(b, i.Note)
	b = append(b, `,"size":`...)
	b = strconv.AppendInt(b, i.Size, 10)
	b = append(b, `,"to":`...)
	b = appendPlace(b, i.To)
	b = append(b, `,"type":`...)
	b = appendText(b, string(i.Type))
	return append(b, '}')
}

// shownPlan is a plan as it is answered. It is worked out while it is written: it may have hundreds of thousands of items.
type shownPlan struct {
	ctx context.Context
	restore.Planned
}

// VisitBringBackResponse writes the plan. Where working it out fails in the middle, the answer breaks off.
func (p shownPlan) VisitBringBackResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "application/json")
	return inPieces(w, func(put func([]byte) error) error {
		out := pieces{put: put, b: []byte(`{"items":[`)}
		first := true
		bytes, err := p.Each(p.ctx, func(item plan.Item) error {
			if !first {
				out.b = append(out.b, ',')
			}
			first = false
			out.b = appendPlanItem(out.b, toPlanItem(item))
			return out.append(nil)
		})
		if err != nil {
			return err
		}
		out.b = append(out.b, `],"bytes":`...)
		out.b = strconv.AppendInt(out.b, bytes, 10)
		return put(append(out.b, '}', '\n'))
	})
}

// pieceSize is how much of a long answer is written at once.
const pieceSize = 256 << 10

// pieces gathers an answer until there is enough of it.
type pieces struct {
	put func([]byte) error
	b   []byte
}

// append adds some, and puts what there is once it is enough.
func (p *pieces) append(some []byte) error {
	if p.b = append(p.b, some...); len(p.b) < pieceSize {
		return nil
	}
	full := p.b
	p.b = make([]byte, 0, pieceSize+1024)
	return p.put(full)
}

// inPieces writes what produce hands over, one piece while the next is made: packing takes as long as making. Where it fails before its
// first piece, that is the answer; later the answer breaks off, so that nobody takes it for the whole.
func inPieces(w http.ResponseWriter, produce func(put func([]byte) error) error) error {
	pieces, done, failed := make(chan []byte, 2), make(chan struct{}), make(chan error, 1)
	go func() {
		failed <- produce(func(piece []byte) error {
			select {
			case pieces <- piece:
				return nil
			case <-done:
				return errUnwanted
			}
		})
		close(pieces)
	}()
	defer close(done)
	begun := false
	for piece := range pieces {
		if _, err := w.Write(piece); err != nil {
			return err
		}
		begun = true
	}
	err := <-failed
	if err != nil && begun {
		slog.Warn("an answer broke off", "error", err)
		panic(http.ErrAbortHandler)
	}
	return err
}

// errUnwanted says that nobody reads an answer any more.
var errUnwanted = errors.New("nobody reads the answer any more")
