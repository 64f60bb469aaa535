// Package journal is what is kept of each item of a receipt, so that it can be carried out, finished after a crash, and undone. Nobody else
// parses it.
package journal

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/spool"
	"humble-rewind/internal/restore/original"
	"humble-rewind/internal/say"
	"humble-rewind/internal/source"
)

// Work is kept with a receipt's item: what carrying it out, finishing it after a crash and undoing it need. It is kept as CBOR (RFC 8949);
// earlier versions kept it as JSON, with the same names.
type Work struct {
	Ref     []byte              `json:"ref,omitempty"` // the copy's
	Action  plan.Action         `json:"action"`
	Rule    plan.Rule           `json:"rule"`
	Renames bool                `json:"renames"`
	Leaves  bool                `json:"leaves"`
	Slip    source.Slip         `json:"held,omitempty"`
	Dated   time.Time           `json:"dated"`
	DatedBy string              `json:"dated_by"`
	Before  original.Identity   `json:"before"` // of the copy where it lies
	After   original.Identity   `json:"after"`  // of what arrived; of a copied one, known before it takes its final name
	Made    [][]byte            `json:"made,omitempty"`
	Aside   *Aside              `json:"aside,omitempty"`
	Sets    bool                `json:"sets_aside,omitempty"`
	AsOf    bool                `json:"as_of,omitempty"` // planned by what surveys saw
	Expect  Expectation         `json:"expect,omitzero"` // of a file planned so
	Alone   bool                `json:"alone,omitempty"` // a folder without what is in it
	Away    bool                `json:"away,omitempty"`  // there is no copy: what stands is set aside
	Ground  *Ground             `json:"ground,omitempty"`
	To      *original.Belonging `json:"to,omitempty"`
	Bits    fs.FileMode         `json:"bits,omitempty"`    // set-id bits that it had and that were taken from it after it was moved
	Removed string              `json:"removed,omitempty"` // what an undo removed, in safekeeping
	Over    string              `json:"over,omitempty"`    // on a cloud drive, the tag of what it is written over
	Like    *entry.Mark         `json:"like,omitempty"`    // what it comes back like, where not as its content is read
	Target  Target              `json:"target,omitempty"`  // where it is brought back to; "" in receipts of earlier versions
	Stood   *Stood              `json:"stood,omitempty"`   // what stood there when it was planned, and gives way
}

// Target is a kind of destination.
type Target string

// The kinds.
const (
	Tree  Target = "tree"  // the folder tree of a machine
	Cloud Target = "drive" // a cloud drive; the word stands in the journals of all versions
)

// Stood is what stood at a destination.
type Stood struct {
	Type    entry.Type    `json:"type"`
	Size    int64         `json:"size"` // of a file
	Written entry.Instant `json:"written"`
}

// Still tells whether it stands there as it did. Nil is true for all: receipts of earlier versions do not say it.
func (s *Stood) Still(i reach.Info) bool {
	return s == nil || s.Type == i.Type && s.Written == entry.At(i.Written) && (s.Type != entry.File || s.Size == i.Size)
}

// Expectation is what a file planned by what surveys saw must still be like.
type Expectation struct {
	Size    int64         `json:"size"`
	Written entry.Instant `json:"written"`
}

// Met tells whether something is like that.
func (e Expectation) Met(i reach.Info) bool {
	return i.Size == e.Size && entry.At(i.Written) == e.Written
}

// formerLocator is how earlier versions kept the locator of a copy in place of its ref.
type formerLocator struct {
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

// Encode packs it.
func (w *Work) Encode() ([]byte, error) { return workForm.Marshal(w) }

// ErrUnreadable says that what was kept of an item cannot be read, or not all that would tell whether it arrived.
var ErrUnreadable = errors.New("what was noted of it in the receipt cannot be read, so nobody can tell whether it arrived; " +
	"look at its place")

// Decode reads what was kept of an item. Of what cannot be read as a whole each part is read that can be: what is only told to people
// keeps nothing from being settled.
func Decode(encoded []byte) (Work, error) {
	var w Work
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
		var f formerLocator
		if err := json.Unmarshal(encoded, &f); err != nil {
			return w, fmt.Errorf("read the journal: %w", err)
		}
		w.Ref = []byte(sighting.Locator{Capture: string(f.Capture), Dir: string(f.Dir), Name: string(f.Name)}.Ref())
	}
	return w, nil
}

// salvaged reads the parts of a work that can be read.
func salvaged(encoded []byte) (w Work, err error) {
	var parts map[string]cbor.RawMessage
	if err := workReading.Unmarshal(encoded, &parts); err != nil {
		return w, fmt.Errorf("%w (%w)", ErrUnreadable, err)
	}
	for name, part := range parts {
		one, err := workForm.Marshal(map[string]cbor.RawMessage{name: part})
		if err != nil {
			return w, err
		}
		before := w
		if err := workReading.Unmarshal(one, &w); err != nil {
			if w = before; name != "dated" && name != "dated_by" && name != "like" {
				return w, fmt.Errorf("%w (%s: %w)", ErrUnreadable, name, err)
			}
		}
	}
	return w, nil
}

// CopyRef is how the copy's store finds it.
func (w *Work) CopyRef() sighting.Ref { return sighting.Ref(w.Ref) }

// SetAside tells what was set aside for an item of a receipt; false where nothing was.
func SetAside(item catalogue.ReceiptItem) (GaveWay, bool, error) {
	w, err := Decode(item.Work)
	if errors.Is(err, ErrUnreadable) { // the item's note says so
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

// Carried is one item on its way.
type Carried struct {
	Item    *catalogue.ReceiptItem
	Work    Work
	Source  source.Store     // nil where there is no copy, or its source was removed
	Stage   reach.Folder     // the working folder that it was written in
	Proofs  []original.Proof // of what was written and is not read back yet
	Spool   *spool.File      // what is to be written to a cloud drive
	Arrived bool
	Partly  remark.Remark // what of it arrived and what did not, where that is not all
	Err     error
}

// Note adds to what is told of an item, in words: a receipt keeps what was said.
func Note(item *catalogue.ReceiptItem, of ...remark.Remark) {
	item.Note = say.Notes(append([]string{item.Note}, say.Speaker{}.Remarks(of)...)...)
}

// Note adds to what is told of the item.
func (c *Carried) Note(code string, pairs ...any) { Note(c.Item, remark.New(code, pairs...)) }

// Load reads the work of an item, which is changed in place.
func Load(item *catalogue.ReceiptItem) (*Carried, error) {
	w, err := Decode(item.Work)
	return &Carried{Item: item, Work: w}, err
}

// Store writes the work back into the item.
func (c *Carried) Store() (err error) {
	c.Item.Work, err = c.Work.Encode()
	return err
}

// LevelOf is how deep a folder lies that comes without what is in it; -1 for everything else.
func LevelOf(item plan.Item) int {
	if item.Type != entry.Folder || !item.Alone {
		return -1
	}
	return strings.Count(item.To.Path, "/")
}

// Aside is what was set aside: its contents and its description are in safekeeping.
type Aside struct {
	Manifest string            `json:"manifest"` // the digest of the description, an original.Kept
	Was      original.Identity `json:"was"`
	Type     entry.Type        `json:"type"`
	Size     int64             `json:"size"`
	SHA256   string            `json:"sha256,omitempty"` // of a file, in hex
}

// Ground is the folder nearest to a destination that stood when a bring-back was planned.
type Ground struct {
	Path   []byte       `json:"path"`
	Volume entry.Volume `json:"device"`
}

// Former tells whether an item was begun by a version that had no working folders yet: it made things ready beside their places, under names
// made from the numbers of receipt and item, which anybody could have used.
func (w Work) Former() bool { return w.Ground == nil }

// FolderTime is the write time that a folder comes back with.
func (w *Work) FolderTime() time.Time {
	if w.Like != nil && w.Like.Written.Known {
		return w.Like.Written.Time()
	}
	return w.Before.Written.Time()
}

// Written is what of a copy is written: of a folder that comes alone only itself, and all as it is to come back.
func (c *Carried) Written(o original.Original) original.Original {
	if c.Work.Alone {
		o = original.Bare{Original: o}
	}
	if c.Work.Like != nil {
		o = original.Liked{Original: o, Like: *c.Work.Like}
	}
	if c.Work.To != nil {
		o = original.Belonged{Original: o, To: c.Work.To}
	}
	return o
}

// SideBySide does something with each item that nothing has kept back yet.
func SideBySide(all []*Carried, do func(it *Carried)) {
	_ = reach.SideBySide(len(all), func(n int) error { // which has nothing to say: each item keeps its own error
		if all[n].Err == nil {
			do(all[n])
		}
		return nil
	})
}
