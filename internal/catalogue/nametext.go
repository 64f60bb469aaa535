package catalogue

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"slices"
	"strings"
	"sync"

	"github.com/klauspost/compress/s2"
)

// nameText is what a search by words reads: the names of all places as they are searched, a line each, in runs of one block, packed. Beside
// each chunk of text stands which two bytes follow each other in it, and for every group of its lines a signature of which three do, so that
// what is rare or is nowhere is looked for in little of it. A hit is confirmed by looking into the block.
type nameText struct {
	mu       sync.RWMutex
	chunks   []*nameChunk
	resident int // bytes of texts in memory, as they are packed there
	fresh    int // of them of chunks that came since the text was read
}

// How names are kept.
const (
	chunkBytes    = 256 << 10 // of text, from which on another chunk is begun
	groupBytes    = 2 << 10
	unitGroups    = 8        // that are packed together
	groupSlots    = 2048     // bits of a signature
	maxResident   = 64 << 20 // bytes of packed text kept in memory; what is more is read when it is searched
	signatureSize = groupSlots / 64
	pairWords     = 1 << 16 / 64 // of the set of pairs of bytes
)

type nameChunk struct {
	id     int64    // of its row; 0 where it came since
	text   []byte   // of the chunk that still grows
	packed [][]byte // of any other, some groups at a time, in the block format of package s2; nil where it is not kept in memory
	size   int      // of the text
	starts []uint32
	blocks []int64  // of the runs that begin at starts
	pairs  []uint64 // which two bytes follow each other somewhere, by their number
	groups []uint32 // where groups end
	sigs   []uint64
}

// nameBatch is names to be added.
type nameBatch struct {
	text   []byte
	starts []uint32
	blocks []int64
}

// add adds a name of a block.
func (b *nameBatch) add(block int64, name string) {
	if n := len(b.blocks); n == 0 || b.blocks[n-1] != block {
		b.starts, b.blocks = append(b.starts, uint32(len(b.text))), append(b.blocks, block)
	}
	if strings.IndexByte(name, '\n') >= 0 { // no word that is looked for has one
		name = strings.ReplaceAll(name, "\n", "\x1a")
	}
	b.text = append(append(b.text, name...), '\n')
}

// runs packs which blocks the lines are of: two numbers a run, each the difference to the one before, and a checksum over them and the
// text.
func (b *nameBatch) runs() []byte {
	var out []byte
	start, block := uint32(0), int64(0)
	for i, at := range b.starts {
		out = binary.AppendUvarint(out, uint64(at-start))
		out = binary.AppendVarint(out, b.blocks[i]-block)
		start, block = at, b.blocks[i]
	}
	sum := crc32.Update(crc32.Checksum(out, castagnoli), castagnoli, b.text)
	return binary.LittleEndian.AppendUint32(out, sum)
}

// unpackNames reads what runs packed.
func unpackNames(runs, text []byte) (b nameBatch, err error) {
	if len(runs) < 4 {
		return b, ErrDamaged
	}
	packed := runs[:len(runs)-4]
	if crc32.Update(crc32.Checksum(packed, castagnoli), castagnoli, text) != binary.LittleEndian.Uint32(runs[len(runs)-4:]) {
		return b, ErrDamaged
	}
	start, block := uint64(0), int64(0)
	for len(packed) > 0 {
		step, n := binary.Uvarint(packed)
		move, m := binary.Varint(packed[max(n, 0):])
		if n <= 0 || m <= 0 || start+step > uint64(len(text)) {
			return b, ErrDamaged
		}
		packed = packed[n+m:]
		start, block = start+step, block+move
		b.starts, b.blocks = append(b.starts, uint32(start)), append(b.blocks, block)
	}
	b.text = text
	return b, nil
}

// join appends another batch.
func (b *nameBatch) join(o *nameBatch) {
	for i, at := range o.starts {
		b.starts, b.blocks = append(b.starts, uint32(len(b.text))+at), append(b.blocks, o.blocks[i])
	}
	b.text = append(b.text, o.text...)
}

// write adds names to those that are kept: to the last chunk, where that is small.
func (t *nameText) write(ctx context.Context, w *writing, b *nameBatch) error {
	if len(b.text) == 0 {
		return nil
	}
	var id int64
	var runs, text []byte
	err := w.QueryRowContext(ctx, "SELECT id, runs, text FROM name_chunks WHERE id = (SELECT max(id) FROM name_chunks) AND length(text) < ?",
		chunkBytes-len(b.text)).
		Scan(&id, &runs, &text)
	if errors.Is(err, sql.ErrNoRows) {
		return w.exec(ctx, "INSERT INTO name_chunks (runs, text) VALUES (?, ?)", b.runs(), b.text)
	}
	if err != nil {
		return err
	}
	all, err := unpackNames(runs, text)
	if err != nil {
		return err
	}
	all.join(b)
	return w.exec(ctx, "UPDATE name_chunks SET runs = ?, text = ? WHERE id = ?", all.runs(), all.text, id)
}

// take makes names that were written searchable. It tells whether the text should be read anew, because it takes too much memory.
func (t *nameText) take(b *nameBatch, index *folderIndex) (full bool) {
	if len(b.text) == 0 {
		return false
	}
	index.mu.Lock()
	b.eachName(func(block int64, name []byte) { index.named(folderOf(block), name) })
	index.mu.Unlock()
	t.mu.Lock()
	defer t.mu.Unlock()
	n := len(t.chunks)
	if n > 0 && t.chunks[n-1].text != nil && t.chunks[n-1].size+len(b.text) < chunkBytes {
		last := t.chunks[n-1]
		all := nameBatch{slices.Clone(last.text), slices.Clone(last.starts), slices.Clone(last.blocks)}
		all.join(b)
		t.chunks[n-1] = newChunk(0, &all)
		return false
	}
	if n > 0 && t.chunks[n-1].text != nil {
		t.chunks[n-1] = t.chunks[n-1].pack()
		kept := t.chunks[n-1].kept()
		t.resident, t.fresh = t.resident+kept, t.fresh+kept
	}
	t.chunks = append(t.chunks, newChunk(0, b))
	return t.resident > maxResident && t.fresh > maxResident/3
}

// eachName goes through the lines.
func (b *nameBatch) eachName(see func(block int64, name []byte)) {
	for i, at := range b.starts {
		end := len(b.text)
		if i+1 < len(b.starts) {
			end = int(b.starts[i+1])
		}
		for lines := b.text[at:end]; len(lines) > 0; {
			n := bytes.IndexByte(lines, '\n')
			if n < 0 {
				n = len(lines) - 1
			}
			see(b.blocks[i], lines[:n])
			lines = lines[n+1:]
		}
	}
}

func newChunk(id int64, b *nameBatch) *nameChunk {
	c := &nameChunk{id: id, text: b.text, size: len(b.text), starts: b.starts, blocks: b.blocks,
		pairs: make([]uint64, pairWords)}
	for i := 0; i+2 <= len(b.text); i++ {
		pair := pairOf(b.text[i:])
		c.pairs[pair/64] |= 1 << (pair % 64)
	}
	for from := 0; from < len(b.text); {
		to := min(from+groupBytes, len(b.text))
		if to < len(b.text) {
			if n := bytes.IndexByte(b.text[to:], '\n'); n >= 0 {
				to += n + 1
			} else {
				to = len(b.text)
			}
		}
		sig := make([]uint64, signatureSize)
		group := b.text[from:to]
		for i := 0; i+3 <= len(group); i++ {
			slot := slotOf(group[i:])
			sig[slot/64] |= 1 << (slot % 64)
		}
		c.groups, c.sigs = append(c.groups, uint32(to)), append(c.sigs, sig...)
		from = to
	}
	return c
}

// pack returns the chunk for keeping.
func (c *nameChunk) pack() *nameChunk {
	packed := *c
	packed.text, packed.groups, packed.sigs = nil, slices.Clone(c.groups), slices.Clone(c.sigs)
	packed.starts, packed.blocks = slices.Clone(c.starts), slices.Clone(c.blocks)
	var buffer []byte
	for from, g := 0, 0; g < len(c.groups); g += unitGroups {
		to := int(c.groups[min(g+unitGroups, len(c.groups))-1])
		buffer = s2.Encode(buffer[:cap(buffer)], c.text[from:to])
		packed.packed = append(packed.packed, slices.Clone(buffer))
		from = to
	}
	return &packed
}

// kept is how many bytes of it are in memory for its text.
func (c *nameChunk) kept() (n int) {
	for _, unit := range c.packed {
		n += len(unit)
	}
	return n
}

// nameReading reads texts of chunks, a unit at a time.
type nameReading struct {
	q      querier
	whole  *nameChunk // that was read from its row
	text   []byte
	buffer []byte
}

// unit returns the text of a unit of a chunk.
func (r *nameReading) unit(ctx context.Context, c *nameChunk, n, from, to int) (text []byte, err error) {
	switch {
	case c.text != nil:
		return c.text[from:to], nil
	case c.packed != nil:
		r.buffer, err = s2.Decode(r.buffer[:cap(r.buffer)], c.packed[n])
		return r.buffer, err
	case r.whole != c:
		r.whole, r.text = c, nil
		if err := r.q.QueryRowContext(ctx, "SELECT text FROM name_chunks WHERE id = ?", c.id).Scan(&r.text); err != nil {
			return nil, err
		}
	}
	if to > len(r.text) {
		return nil, ErrDamaged
	}
	return r.text[from:to], nil
}

// pairOf is the number of two bytes.
func pairOf(b []byte) uint16 { return uint16(b[0]) | uint16(b[1])<<8 }

// slotOf is the slot of three bytes.
func slotOf(b []byte) uint32 {
	h := (uint32(b[0]) | uint32(b[1])<<8 | uint32(b[2])<<16) * 0x9E3779B1
	return h >> (32 - 11)
}

// load reads all names. Those of chunks beyond what is kept in memory are read for their signatures alone.
func (t *nameText) load(ctx context.Context, q querier, index *folderIndex) error {
	t.mu.Lock() // so that no names come meanwhile
	defer t.mu.Unlock()
	var chunks []*nameChunk
	resident := 0
	for after := int64(0); ; {
		var id int64
		var runs, text []byte
		err := q.QueryRowContext(ctx, "SELECT id, runs, text FROM name_chunks WHERE id > ? ORDER BY id LIMIT 1", after).
			Scan(&id, &runs, &text)
		if errors.Is(err, sql.ErrNoRows) {
			break
		}
		if err != nil {
			return err
		}
		after = id
		b, err := unpackNames(runs, text)
		if err != nil {
			return err
		}
		index.mu.Lock()
		b.eachName(func(block int64, name []byte) { index.named(folderOf(block), name) })
		index.mu.Unlock()
		c := newChunk(id, &b).pack()
		if resident+c.kept() > maxResident {
			c.packed = nil
		}
		resident += c.kept()
		chunks = append(chunks, c)
	}
	t.chunks, t.resident, t.fresh = chunks, resident, 0
	return nil
}

// forgetUnseen drops the names of blocks that are no longer there.
func (t *nameText) forgetUnseen(ctx context.Context, w *writing) error {
	for after := int64(0); ; {
		var id int64
		var runs, text []byte
		err := w.QueryRowContext(ctx, "SELECT id, runs, text FROM name_chunks WHERE id > ? ORDER BY id LIMIT 1", after).
			Scan(&id, &runs, &text)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		after = id
		all, err := unpackNames(runs, text)
		if err != nil {
			return err
		}
		var left nameBatch
		there := map[int64]bool{}
		for _, block := range all.blocks {
			if _, asked := there[block]; !asked {
				var is bool
				if err := w.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM blocks WHERE id = ?)", block).Scan(&is); err != nil {
					return err
				}
				there[block] = is
			}
		}
		all.eachName(func(block int64, name []byte) {
			if there[block] {
				left.add(block, string(name))
			}
		})
		switch {
		case len(left.text) == len(all.text):
			continue
		case len(left.text) == 0:
			err = w.exec(ctx, "DELETE FROM name_chunks WHERE id = ?", id)
		default:
			err = w.exec(ctx, "UPDATE name_chunks SET runs = ?, text = ? WHERE id = ?", left.runs(), left.text, id)
		}
		if err != nil {
			return err
		}
	}
}
