package rows

import (
	"context"
	"fmt"
	"slices"
	"sort"

	"github.com/fxamacker/cbor/v2"
	"github.com/klauspost/compress/zstd"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// ReceiptItem is what happened to one copy.
type ReceiptItem struct {
	N        int
	Copy     copies.ID
	Source   copies.SourceID
	From, To place.Place
	Type     entry.Type
	Size     int64
	SHA256   digest.Sum // unknown where nothing was read
	Outcome  ItemOutcome
	Note     string
	Work     []byte // of whoever carries it out
}

// The items of a receipt are kept in batches: one row holds as many as are carried out together, as a CBOR (RFC 8949) array of maps with
// small numbers for keys, packed by zstd (RFC 8878). So an item costs some hundred bytes written thrice, not three rows.

// keptItem is an item as it is kept.
type keptItem struct {
	Copy        copies.ID       `cbor:"1,keyasint"`
	Source      copies.SourceID `cbor:"2,keyasint"`
	FromMachine string          `cbor:"3,keyasint"`
	From        []byte          `cbor:"4,keyasint"`
	ToMachine   string          `cbor:"5,keyasint"`
	To          []byte          `cbor:"6,keyasint"`
	Type        entry.Type      `cbor:"7,keyasint"`
	Size        int64           `cbor:"8,keyasint"`
	SHA256      []byte          `cbor:"9,keyasint,omitempty"`
	Outcome     ItemOutcome     `cbor:"10,keyasint"`
	Note        string          `cbor:"11,keyasint,omitempty"`
	Work        []byte          `cbor:"12,keyasint"`
}

// maxBatch bounds what a batch unpacks to, so that a damaged one cannot take all memory.
const maxBatch = 1 << 30

var (
	batchPacker, _   = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	batchUnpacker, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxBatch))
	batchReading, _  = cbor.DecOptions{MaxArrayElements: 1 << 24, UTF8: cbor.UTF8DecodeInvalid}.DecMode()
)

func packBatch(items []ReceiptItem) ([]byte, error) {
	kept := make([]keptItem, len(items))
	for n, i := range items {
		kept[n] = keptItem{i.Copy, i.Source, i.From.Machine, []byte(i.From.Path), i.To.Machine, []byte(i.To.Path), i.Type, i.Size, i.SHA256.Bytes(),
			i.Outcome, i.Note, i.Work}
	}
	encoded, err := cbor.Marshal(kept)
	if err != nil {
		return nil, err
	}
	return batchPacker.EncodeAll(encoded, nil), nil
}

// unpackBatch reads a batch whose first item has the number first.
func unpackBatch(first int, packed []byte) ([]ReceiptItem, error) {
	encoded, err := batchUnpacker.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("%w: items of a receipt: %w", problem.Damaged, err)
	}
	var kept []keptItem
	if err := batchReading.Unmarshal(encoded, &kept); err != nil {
		return nil, fmt.Errorf("%w: items of a receipt: %w", problem.Damaged, err)
	}
	items := make([]ReceiptItem, len(kept))
	for n, k := range kept {
		items[n] = ReceiptItem{first + n, k.Copy, k.Source, place.Place{Machine: k.FromMachine, Path: string(k.From)},
			place.Place{Machine: k.ToMachine, Path: string(k.To)}, k.Type, k.Size, digest.From(k.SHA256), k.Outcome, k.Note, k.Work}
	}
	return items, nil
}

// saveBatch keeps a whole batch.
func saveBatch(ctx context.Context, w *file.Writing, receipt int64, items []ReceiptItem) error {
	packed, err := packBatch(items)
	if err != nil {
		return err
	}
	done := 0
	for _, i := range items {
		if i.Outcome == ItemDone || i.Outcome == ItemUndone {
			done++
		}
	}
	return w.Exec(ctx, "INSERT OR REPLACE INTO receipt_batches (receipt_id, first, count, done, items) VALUES (?, ?, ?, ?, ?)", receipt,
		items[0].N, len(items), done, packed)
}

// Batches tells with which items the batches of a receipt begin, in the order in which they are carried out.
func (c *Receipts) Batches(ctx context.Context, receipt int64) ([]int64, error) {
	return batches(ctx, c.f.Reads, receipt)
}

func batches(ctx context.Context, from file.Querier, receipt int64) ([]int64, error) {
	return file.Numbers(from.QueryContext(ctx, "SELECT first FROM receipt_batches WHERE receipt_id = ? ORDER BY first", receipt))
}

// Batch returns the items of a batch that begins with the one numbered first.
func (c *Receipts) Batch(ctx context.Context, receipt, first int64) ([]ReceiptItem, error) {
	return readBatch(ctx, c.f.Reads, receipt, first)
}

func readBatch(ctx context.Context, from file.Querier, receipt, first int64) ([]ReceiptItem, error) {
	var packed []byte
	err := from.QueryRowContext(ctx, "SELECT items FROM receipt_batches WHERE receipt_id = ? AND first = ?", receipt, first).Scan(&packed)
	if err != nil {
		return nil, fmt.Errorf("receipt r%d: %w", receipt, file.NoRows(err))
	}
	return unpackBatch(int(first), packed)
}

// Items returns items of a receipt from the one numbered from on, at most limit (0: all).
func (c *Receipts) Items(ctx context.Context, receipt int64, from, limit int) ([]ReceiptItem, error) {
	firsts, err := c.Batches(ctx, receipt)
	if err != nil {
		return nil, err
	}
	var all []ReceiptItem
	begin := sort.Search(len(firsts), func(n int) bool { return int(firsts[n]) > from }) - 1
	for _, first := range firsts[max(0, begin):] {
		items, err := c.Batch(ctx, receipt, first)
		if err != nil {
			return nil, err
		}
		if skip := from - int(first); skip > 0 {
			items = items[min(skip, len(items)):]
		}
		if all = append(all, items...); limit > 0 && len(all) >= limit {
			return all[:limit], nil
		}
	}
	return all, nil
}

// SaveItems keeps how items stand, all or none. A batch that is given whole is not read first.
func (c *Receipts) SaveItems(ctx context.Context, receipt int64, items []ReceiptItem) error {
	if len(items) == 0 {
		return nil
	}
	items = slices.Clone(items)
	slices.SortFunc(items, func(a, b ReceiptItem) int { return a.N - b.N })
	return c.f.Tx(ctx, func(w *file.Writing) error {
		firsts, err := batches(ctx, w, receipt)
		if err != nil {
			return err
		}
		for b, first := range firsts {
			n := len(items)
			if b+1 < len(firsts) {
				n = sort.Search(n, func(n int) bool { return int64(items[n].N) >= firsts[b+1] })
			}
			if err := saveItems(ctx, w, receipt, first, items[:n]); err != nil {
				return err
			}
			items = items[n:]
		}
		if len(items) > 0 {
			return fmt.Errorf("receipt r%d: %w", receipt, problem.NotKnown)
		}
		return nil
	})
}

// saveItems keeps how items of one batch stand.
func saveItems(ctx context.Context, w *file.Writing, receipt, first int64, items []ReceiptItem) error {
	if len(items) == 0 {
		return nil
	}
	var count int
	err := w.QueryRowContext(ctx, "SELECT count FROM receipt_batches WHERE receipt_id = ? AND first = ?", receipt, first).Scan(&count)
	if err != nil {
		return fmt.Errorf("receipt r%d: %w", receipt, file.NoRows(err))
	}
	if len(items) < count {
		whole, err := readBatch(ctx, w, receipt, first)
		if err != nil {
			return err
		}
		for _, i := range items {
			whole[i.N-int(first)] = i
		}
		items = whole
	}
	return saveBatch(ctx, w, receipt, items)
}

// EachItem calls do with every item of every receipt.
func (c *Receipts) EachItem(ctx context.Context, do func(receipt int64, i ReceiptItem) error) error {
	receipts, err := file.Numbers(c.f.Reads.QueryContext(ctx, "SELECT id FROM receipts ORDER BY id"))
	if err != nil {
		return err
	}
	for _, id := range receipts {
		firsts, err := c.Batches(ctx, id)
		if err != nil {
			return err
		}
		for _, first := range firsts {
			items, err := c.Batch(ctx, id, first)
			if err != nil {
				return err
			}
			for _, i := range items {
				if err := do(id, i); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
