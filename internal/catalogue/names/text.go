// Package names is the room of the catalogue in which places are found by words in their names. It keeps names by source, knows in which
// block each is, and nothing else of blocks.
package names

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
	"github.com/pressly/goose/v3"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/problem"
)

// Text is what a search by words reads: the names of all places as they are searched, a line each, in runs of one block, packed. Beside
// each chunk of text stands which two bytes follow each other in it, and for every group of its lines a signature of which three do, so that
// what is rare or is nowhere is looked for in little of it. A hit is confirmed by looking into the block.
type Text struct {
	mu       sync.RWMutex
	chunks   []*chunk
	resident int // bytes of texts in memory, as they are packed there
	fresh    int // of them of chunks that came since the text was read
}

// ChunkBytes is how much text a chunk has, from which on another is begun.
const ChunkBytes = 256 << 10

// How names are kept.
const (
	chunkBytes    = ChunkBytes
	groupBytes    = 2 << 10
	unitGroups    = 8        // that are packed together
	groupSlots    = 2048     // bits of a signature
	maxResident   = 64 << 20 // bytes of packed text kept in memory; what is more is read when it is searched
	signatureSize = groupSlots / 64
	pairWords     = 1 << 16 / 64 // of the set of pairs of bytes
)

type chunk struct {
	id     int64 // of its row; 0 where it came since
	source copies.SourceID
	text   []byte   // of the chunk that still grows
	packed [][]byte // of any other, some groups at a time, in the block format of package s2; nil where it is not kept in memory
	size   int      // of the text
	starts []uint32
	blocks []int64  // of the runs that begin at starts
	pairs  []uint64 // which two bytes follow each other somewhere, by their number
	groups []uint32 // where groups end
	sigs   []uint64
}

// Batch is names of one source to be added.
type Batch struct {
	text   []byte
	starts []uint32
	blocks []int64
}

// Len is how many bytes of text there are.
func (b *Batch) Len() int { return len(b.text) }

// Add adds a name of a block, as it is searched.
func (b *Batch) Add(block int64, name string) {
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
func (b *Batch) runs() []byte {
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
func unpackNames(runs, text []byte) (b Batch, err error) {
	if len(runs) < 4 {
		return b, problem.Damaged
	}
	packed := runs[:len(runs)-4]
	if crc32.Update(crc32.Checksum(packed, castagnoli), castagnoli, text) != binary.LittleEndian.Uint32(runs[len(runs)-4:]) {
		return b, problem.Damaged
	}
	start, block := uint64(0), int64(0)
	for len(packed) > 0 {
		step, n := binary.Uvarint(packed)
		move, m := binary.Varint(packed[max(n, 0):])
		if n <= 0 || m <= 0 || start+step > uint64(len(text)) {
			return b, problem.Damaged
		}
		packed = packed[n+m:]
		start, block = start+step, block+move
		b.starts, b.blocks = append(b.starts, uint32(start)), append(b.blocks, block)
	}
	b.text = text
	return b, nil
}

// join appends another batch.
func (b *Batch) join(o *Batch) {
	for i, at := range o.starts {
		b.starts, b.blocks = append(b.starts, uint32(len(b.text))+at), append(b.blocks, o.blocks[i])
	}
	b.text = append(b.text, o.text...)
}

// Write adds names to those that are kept of a source: to the last chunk, where that is small.
func (t *Text) Write(ctx context.Context, w *file.Writing, source copies.SourceID, b *Batch) error {
	if len(b.text) == 0 {
		return nil
	}
	var id int64
	var runs, text []byte
	err := w.QueryRowContext(ctx, "SELECT id, runs, text FROM name_chunks WHERE id = (SELECT max(id) FROM name_chunks WHERE source_id = ?) AND "+
		"length(text) < ?", source, chunkBytes-len(b.text)).Scan(&id, &runs, &text)
	if errors.Is(err, sql.ErrNoRows) {
		return w.Exec(ctx, "INSERT INTO name_chunks (source_id, runs, text) VALUES (?, ?, ?)", source, b.runs(), b.text)
	}
	if err != nil {
		return err
	}
	all, err := unpackNames(runs, text)
	if err != nil {
		return err
	}
	all.join(b)
	return w.Exec(ctx, "UPDATE name_chunks SET runs = ?, text = ? WHERE id = ?", all.runs(), all.text, id)
}

// Take makes names that were written searchable. It tells whether the text should be read anew, because it takes too much memory.
func (t *Text) Take(source copies.SourceID, b *Batch) (full bool) {
	if len(b.text) == 0 {
		return false
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	last := t.growing(source)
	if last >= 0 && t.chunks[last].size+len(b.text) < chunkBytes {
		grown := t.chunks[last]
		all := Batch{slices.Clone(grown.text), slices.Clone(grown.starts), slices.Clone(grown.blocks)}
		all.join(b)
		t.chunks[last] = newChunk(0, source, &all)
		return false
	}
	if last >= 0 {
		t.chunks[last] = t.chunks[last].pack()
		kept := t.chunks[last].kept()
		t.resident, t.fresh = t.resident+kept, t.fresh+kept
	}
	t.chunks = append(t.chunks, newChunk(0, source, b))
	return t.resident > maxResident && t.fresh > maxResident/3
}

// growing is the chunk of a source that is not packed yet; -1 where there is none. mu is held.
func (t *Text) growing(source copies.SourceID) int {
	for i := len(t.chunks) - 1; i >= 0; i-- {
		if t.chunks[i].source == source && t.chunks[i].text != nil {
			return i
		}
	}
	return -1
}

// Each calls see with each name.
func (b *Batch) Each(see func(block int64, name []byte)) {
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

func newChunk(id int64, source copies.SourceID, b *Batch) *chunk {
	c := &chunk{id: id, source: source, text: b.text, size: len(b.text), starts: b.starts, blocks: b.blocks,
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
func (c *chunk) pack() *chunk {
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
func (c *chunk) kept() (n int) {
	for _, unit := range c.packed {
		n += len(unit)
	}
	return n
}

// Texts reads the texts of chunks, a unit at a time.
type Texts struct {
	Q      file.Querier
	whole  *chunk // that was read from its row
	text   []byte
	buffer []byte
}

// unit returns the text of a unit of a chunk.
func (r *Texts) unit(ctx context.Context, c *chunk, n, from, to int) (text []byte, err error) {
	switch {
	case c.text != nil:
		return c.text[from:to], nil
	case c.packed != nil:
		r.buffer, err = s2.Decode(r.buffer[:cap(r.buffer)], c.packed[n])
		return r.buffer, err
	case r.whole != c:
		r.whole, r.text = c, nil
		if err := r.Q.QueryRowContext(ctx, "SELECT text FROM name_chunks WHERE id = ?", c.id).Scan(&r.text); err != nil {
			return nil, err
		}
	}
	if to > len(r.text) {
		return nil, problem.Damaged
	}
	return r.text[from:to], nil
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// pairOf is the number of two bytes.
func pairOf(b []byte) uint16 { return uint16(b[0]) | uint16(b[1])<<8 }

// slotOf is the slot of three bytes.
func slotOf(b []byte) uint32 {
	h := (uint32(b[0]) | uint32(b[1])<<8 | uint32(b[2])<<16) * 0x9E3779B1
	return h >> (32 - 11)
}

// Load reads all names, and calls see with each. Those of chunks beyond what is kept in memory are read for their signatures alone. What is
// not as it was written is problem.Damaged.
func (t *Text) Load(ctx context.Context, q file.Querier, see func(block int64, name []byte)) error {
	t.mu.Lock() // so that no names come meanwhile
	defer t.mu.Unlock()
	var chunks []*chunk
	resident := 0
	for after := int64(0); ; {
		var id int64
		var source copies.SourceID
		var runs, text []byte
		err := q.QueryRowContext(ctx, "SELECT id, source_id, runs, text FROM name_chunks WHERE id > ? ORDER BY id LIMIT 1", after).
			Scan(&id, &source, &runs, &text)
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
		b.Each(see)
		c := newChunk(id, source, &b).pack()
		if resident+c.kept() > maxResident {
			c.packed = nil
		}
		resident += c.kept()
		chunks = append(chunks, c)
	}
	t.chunks, t.resident, t.fresh = chunks, resident, 0
	return nil
}

// Forget drops the names of sources that are no longer among the rows. Load follows.
func Forget(ctx context.Context, w *file.Writing) error {
	return w.Exec(ctx, "DELETE FROM name_chunks WHERE source_id NOT IN (SELECT id FROM sources)")
}

// Drop drops all names, so that they are written anew.
func Drop(ctx context.Context, w *file.Writing) error { return w.Exec(ctx, "DELETE FROM name_chunks") }

// BySource is the migration that parts the names by source: sourceOf tells of which one a block is. What is damaged is left so that whoever
// loads it notices.
func BySource(sourceOf func(ctx context.Context, q file.Querier, block int64) (copies.SourceID, error)) *goose.Migration {
	return goose.NewGoMigration(14, &goose.GoFunc{RunTx: func(ctx context.Context, tx *sql.Tx) error {
		w := file.NewWriting(tx)
		for _, step := range []string{
			"ALTER TABLE name_chunks RENAME TO name_chunks_before",
			`CREATE TABLE name_chunks (id INTEGER PRIMARY KEY, source_id INTEGER NOT NULL, runs BLOB NOT NULL, text BLOB NOT NULL)`,
			"CREATE INDEX name_chunks_by_source ON name_chunks (source_id)",
		} {
			if _, err := w.ExecContext(ctx, step); err != nil {
				return err
			}
		}
		if err := part(ctx, w, sourceOf); err != nil {
			return err
		}
		_, err := w.ExecContext(ctx, "DROP TABLE name_chunks_before")
		return err
	}}, nil)
}

// part writes the names from before, each among those of its source.
func part(ctx context.Context, w *file.Writing, sourceOf func(context.Context, file.Querier, int64) (copies.SourceID, error)) error {
	const damaged = "INSERT INTO name_chunks (source_id, runs, text) VALUES (0, x'', x'')"
	var t Text
	for after, any := int64(0), false; ; any = true {
		var runs, text []byte
		err := w.QueryRowContext(ctx, "SELECT id, runs, text FROM name_chunks_before WHERE id > ? ORDER BY id LIMIT 1", after).
			Scan(&after, &runs, &text)
		if errors.Is(err, sql.ErrNoRows) {
			if !any { // blocks that came by an earlier migration have none yet
				return w.Exec(ctx, damaged)
			}
			return nil
		}
		if err != nil {
			return err
		}
		all, err := unpackNames(runs, text)
		if err != nil {
			return w.Exec(ctx, damaged)
		}
		of, parts := map[int64]copies.SourceID{}, map[copies.SourceID]*Batch{}
		var failed error
		all.Each(func(block int64, name []byte) {
			source, known := of[block]
			if !known {
				if source, err = sourceOf(ctx, w, block); err != nil {
					failed = err
					return
				}
				of[block] = source
			}
			if parts[source] == nil {
				parts[source] = &Batch{}
			}
			parts[source].Add(block, string(name))
		})
		if failed != nil {
			return failed
		}
		for source, b := range parts {
			if source == 0 { // what it was of is gone
				continue
			}
			if err := t.Write(ctx, w, source, b); err != nil {
				return err
			}
		}
	}
}
