package restore

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/spool"
	"humble-rewind/internal/source"
)

// work is what is kept with the receipt of an item.
func (w *wanted) work() work {
	of := work{Ref: []byte(w.ref), Leaves: w.Leaves, Dated: entry.Bounded(w.Dated), DatedBy: w.DatedBy,
		AsOf: w.asOf, Expect: w.expect, Alone: w.Alone, Away: w.Away, Like: w.like, To: w.to}
	if w.before != nil {
		of.Before = *w.before
	}
	return of
}

// work is kept with a receipt's item: what carrying it out, finishing it after a crash and undoing it need. It is kept as CBOR (RFC 8949);
// earlier versions kept it as JSON, with the same names.
type work struct {
	Ref     []byte      `json:"ref,omitempty"` // the copy's
	Action  plan.Action `json:"action"`
	Rule    plan.Rule   `json:"rule"`
	Renames bool        `json:"renames"`
	Leaves  bool        `json:"leaves"`
	Slip    source.Slip `json:"held,omitempty"`
	Dated   time.Time   `json:"dated"`
	DatedBy string      `json:"dated_by"`
	Before  identity    `json:"before"` // of the copy where it lies
	After   identity    `json:"after"`  // of what arrived; of a copied one, known before it takes its final name
	Made    [][]byte    `json:"made,omitempty"`
	Aside   *aside      `json:"aside,omitempty"`
	Sets    bool        `json:"sets_aside,omitempty"`
	AsOf    bool        `json:"as_of,omitempty"` // planned by what surveys saw
	Expect  expectation `json:"expect,omitzero"` // of a file planned so
	Alone   bool        `json:"alone,omitempty"` // a folder without what is in it
	Away    bool        `json:"away,omitempty"`  // there is no copy: what stands is set aside
	Ground  *ground     `json:"ground,omitempty"`
	To      *belonging  `json:"to,omitempty"`
	Bits    fs.FileMode `json:"bits,omitempty"`    // set-id bits that it had and that were taken from it after it was moved
	Removed string      `json:"removed,omitempty"` // what an undo removed, in safekeeping
	Over    string      `json:"over,omitempty"`    // on a drive that keeps versions, the tag of what it is written over
	Like    *entry.Mark `json:"like,omitempty"`    // what it comes back like, where not as its content is read
}

// expectation is what a file planned by what surveys saw must still be like.
type expectation struct {
	Size    int64         `json:"size"`
	Written entry.Instant `json:"written"`
}

func (e expectation) met(i reach.Info) bool {
	return i.Size == e.Size && entry.At(i.Written) == e.Written
}

// former is how earlier versions kept the locator of a copy in place of its ref.
type former struct {
	Capture []byte `json:"capture"`
	Dir     []byte `json:"dir"`
	Name    []byte `json:"name"`
}

// How work is written and read: times as text, to the nanosecond and with their zones, and texts that may be no UTF-8, as the target of a
// link may.
var (
	workForm, _    = cbor.EncOptions{Time: cbor.TimeRFC3339Nano}.EncMode()
	workReading, _ = cbor.DecOptions{UTF8: cbor.UTF8DecodeInvalid}.DecMode()
)

func (w *work) encode() ([]byte, error) { return workForm.Marshal(w) }

// errUnreadable says that what was kept of an item cannot be read, or not all that would tell whether it arrived.
var errUnreadable = errors.New("what was noted of it in the receipt cannot be read, so nobody can tell whether it arrived; " +
	"look at its place")

// decodeWork reads what was kept of an item. Of what cannot be read as a whole each part is read that can be: what is only told to people
// keeps nothing from being settled.
func decodeWork(encoded []byte) (work, error) {
	var w work
	if !bytes.HasPrefix(encoded, []byte("{")) {
		if workReading.Unmarshal(encoded, &w) == nil {
			return w, nil
		}
		return salvaged(encoded)
	}
	if err := json.Unmarshal(encoded, &w); err != nil {
		return w, fmt.Errorf("read the journal: %w", err)
	}
	if w.Ref == nil {
		var f former
		if err := json.Unmarshal(encoded, &f); err != nil {
			return w, fmt.Errorf("read the journal: %w", err)
		}
		w.Ref = []byte(sighting.Locator{Capture: string(f.Capture), Dir: string(f.Dir), Name: string(f.Name)}.Ref())
	}
	return w, nil
}

// salvaged reads the parts of a work that can be read.
func salvaged(encoded []byte) (w work, err error) {
	var parts map[string]cbor.RawMessage
	if err := workReading.Unmarshal(encoded, &parts); err != nil {
		return w, fmt.Errorf("%w (%w)", errUnreadable, err)
	}
	for name, part := range parts {
		one, err := workForm.Marshal(map[string]cbor.RawMessage{name: part})
		if err != nil {
			return w, err
		}
		before := w
		if err := workReading.Unmarshal(one, &w); err != nil {
			if w = before; name != "dated" && name != "dated_by" && name != "like" {
				return w, fmt.Errorf("%w (%s: %w)", errUnreadable, name, err)
			}
		}
	}
	return w, nil
}

// ref is how the copy's store finds it.
func (w *work) ref() sighting.Ref { return sighting.Ref(w.Ref) }

// SetAside tells what was set aside for an item of a receipt; false where nothing was.
func SetAside(item catalogue.ReceiptItem) (GaveWay, bool, error) {
	w, err := decodeWork(item.Work)
	if errors.Is(err, errUnreadable) { // the item's note says so
		return GaveWay{}, false, nil
	}
	if err != nil || w.Aside == nil {
		return GaveWay{}, false, err
	}
	return GaveWay{w.Aside.Type, w.Aside.Size, digest.Parse(w.Aside.SHA256)}, true, nil
}

// GaveWay is what was set aside for an item.
type GaveWay struct {
	Type   entry.Type
	Size   int64
	SHA256 digest.Sum // of a file
}

// carried is one item on its way.
type carried struct {
	item    *catalogue.ReceiptItem
	work    work
	source  source.Store // nil where there is no copy, or its source was removed
	stage   *stage       // that it was written in
	proofs  []proof      // of what was written and is not read back yet
	spool   *spool.File  // what is to be written to a drive
	arrived bool
	partly  string // what of it arrived and what did not, where that is not all
	err     error
}

// load reads the work of an item, which is changed in place.
func load(item *catalogue.ReceiptItem) (*carried, error) {
	w, err := decodeWork(item.Work)
	return &carried{item: item, work: w}, err
}

// store writes the work back into the item.
func (c *carried) store() (err error) {
	c.item.Work, err = c.work.encode()
	return err
}

// levelOf is how deep a folder lies that comes without what is in it; -1 for everything else.
func levelOf(item plan.Item) int {
	if item.Type != entry.Folder || !item.Alone {
		return -1
	}
	return strings.Count(item.To.Path, "/")
}

// slips asks the stores what they remember about the items that will leave them, by the items' indexes. Nothing leaves a store that is
// brought back as of a moment.
func (r *Restorer) slips(ctx context.Context, p Planned) (map[int]source.Slip, error) {
	bySource := map[copies.SourceID][]int{}
	for _, item := range p.whole.Items {
		if item.Action == plan.Move {
			id := p.wants[item.Index].source
			bySource[id] = append(bySource[id], item.Index)
		}
	}
	all := map[int]source.Slip{}
	for id, indexes := range bySource {
		src, err := r.Site.Catalogue.Sources.ByID(ctx, id)
		if err != nil {
			return nil, err
		}
		store, err := r.Site.Store(ctx, src.Source)
		if err != nil {
			return nil, err
		}
		refs := make([]sighting.Ref, len(indexes))
		for n, index := range indexes {
			refs[n] = p.wants[index].ref
		}
		var slips []source.Slip
		if emptied, ok := source.AsEmptied(store); ok {
			slips, err = emptied.Slips(ctx, refs)
		}
		store.Close()
		if err != nil {
			return nil, err
		}
		for n, index := range indexes {
			all[index] = slips[n]
		}
	}
	return all, nil
}
