package catalogue

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"runtime"
	"slices"
	"sort"
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

// What is common is not looked for in all of the text.
const (
	sampled = 8 // chunks that are looked through first
	common  = 8 // one block in so many, from which on the others are looked for only as they are needed
)

// nameRun is a run of names of a block.
type nameRun struct {
	block int64
	chunk *nameChunk
	run   int
}

// foundNames are the blocks that a search by words leads to.
type foundNames struct {
	look   wordsLook
	blocks []int64   // each once, in their order
	unsure []nameRun // of blocks in which they have not been looked for, by block
}

// search looks for the blocks in which some name has all words, which are folded. Where what is sought is common it does not look for it
// everywhere, unless it has to be sure.
func (t *nameText) search(ctx context.Context, q querier, words []string, surely bool) (f foundNames, err error) {
	words = slices.Clone(words)
	sort.SliceStable(words, func(i, j int) bool { return len(words[i]) > len(words[j]) })
	for _, word := range words {
		f.look.add([]byte(word))
	}
	t.mu.RLock()
	chunks := slices.DeleteFunc(slices.Clone(t.chunks), func(c *nameChunk) bool { return !c.hasPairs(f.look.pairs) })
	t.mu.RUnlock()
	if !surely && len(chunks) > 4*sampled {
		var some, rest []*nameChunk
		runs := 0
		for i, c := range chunks {
			if i*sampled%len(chunks) < sampled {
				some, runs = append(some, c), runs+len(c.blocks)
			} else {
				rest = append(rest, c)
			}
		}
		if f.blocks, err = searchAll(ctx, q, some, &f.look); err != nil {
			return f, err
		}
		chunks = rest
		surely = len(f.blocks)*common < runs
	} else {
		surely = true
	}
	if surely {
		more, err := searchAll(ctx, q, chunks, &f.look)
		if err != nil {
			return f, err
		}
		f.blocks = append(f.blocks, more...)
	} else {
		runs := 0
		for _, c := range chunks {
			runs += len(c.blocks)
		}
		f.blocks, f.unsure = slices.Grow(f.blocks, runs), make([]nameRun, 0, runs)
		for _, c := range chunks {
			f.blocks = append(f.blocks, c.blocks...)
			for run, block := range c.blocks {
				f.unsure = append(f.unsure, nameRun{block, c, run})
			}
		}
		sure := slices.Compact(slices.Sorted(slices.Values(f.blocks[:len(f.blocks)-len(f.unsure)])))
		f.unsure = slices.DeleteFunc(f.unsure, func(r nameRun) bool {
			_, found := slices.BinarySearch(sure, r.block)
			return found
		})
		slices.SortFunc(f.unsure, func(a, b nameRun) int { return cmp.Compare(a.block, b.block) })
	}
	slices.Sort(f.blocks)
	f.blocks = slices.Compact(f.blocks)
	return f, nil
}

// has tells whether a block that was found has such a name, looking for it where that was not done.
func (f *foundNames) has(ctx context.Context, r *nameReading, block int64) (bool, error) {
	at, unsure := slices.BinarySearchFunc(f.unsure, block, func(r nameRun, block int64) int { return cmp.Compare(r.block, block) })
	if !unsure {
		return true, nil
	}
	for ; at < len(f.unsure) && f.unsure[at].block == block; at++ {
		if has, err := f.unsure[at].has(ctx, r, &f.look); has || err != nil {
			return has, err
		}
	}
	return false, nil
}

func (n nameRun) has(ctx context.Context, r *nameReading, look *wordsLook) (bool, error) {
	c := n.chunk
	from, to := int(c.starts[n.run]), c.size
	if n.run+1 < len(c.starts) {
		to = int(c.starts[n.run+1])
	}
	first := sort.Search(len(c.groups), func(g int) bool { return int(c.groups[g]) > from }) / unitGroups * unitGroups
	for ; first < len(c.groups); first += unitGroups {
		start := 0
		if first > 0 {
			start = int(c.groups[first-1])
		}
		if start >= to {
			break
		}
		end := int(c.groups[min(first+unitGroups, len(c.groups))-1])
		text, err := r.unit(ctx, c, first/unitGroups, start, end)
		if err != nil {
			return false, err
		}
		if look.in(text, max(from, start)-start, min(to, end)-start) >= 0 {
			return true, nil
		}
	}
	return false, nil
}

// searchAll searches chunks side by side.
func searchAll(ctx context.Context, q querier, chunks []*nameChunk, look *wordsLook) (blocks []int64, err error) {
	workers := min(runtime.GOMAXPROCS(0), len(chunks))
	found, failed := make([][]int64, workers), make([]error, workers)
	var all sync.WaitGroup
	for w := range workers {
		all.Go(func() {
			r := nameReading{q: q}
			for i := w; i < len(chunks) && failed[w] == nil; i += workers {
				found[w], failed[w] = chunks[i].search(ctx, &r, look, found[w])
			}
		})
	}
	all.Wait()
	for _, f := range found {
		blocks = append(blocks, f...)
	}
	return blocks, errors.Join(failed...)
}

// wordsLook is what is looked for: words, the longest first, and which bytes follow each other in them.
type wordsLook struct {
	words [][]byte
	pairs []uint16
	slots []uint32 // of three bytes
}

func (l *wordsLook) add(word []byte) {
	l.words = append(l.words, word)
	for i := 0; i+2 <= len(word); i++ {
		l.pairs = append(l.pairs, pairOf(word[i:]))
	}
	for i := 0; i+3 <= len(word); i++ {
		l.slots = append(l.slots, slotOf(word[i:]))
	}
}

// hasPairs tells whether each pair of bytes is somewhere in the text.
func (c *nameChunk) hasPairs(pairs []uint16) bool {
	return !slices.ContainsFunc(pairs, func(p uint16) bool { return c.pairs[p/64]&(1<<(p%64)) == 0 })
}

// search adds the blocks of the runs that have a line with all words.
func (c *nameChunk) search(ctx context.Context, r *nameReading, look *wordsLook, into []int64) ([]int64, error) {
	if err := ctx.Err(); err != nil {
		return into, err
	}
	run := 0
	next := 0 // all before it is of runs that were hit
	for first, start := 0, 0; first < len(c.groups); first += unitGroups {
		last := min(first+unitGroups, len(c.groups))
		end := int(c.groups[last-1])
		var text []byte
		for g, from := first, start; g < last; g++ {
			to := int(c.groups[g])
			if to > next && c.may(g, look.slots) {
				if text == nil {
					var err error
					if text, err = r.unit(ctx, c, first/unitGroups, start, end); err != nil {
						return into, err
					}
				}
				for at := max(from, next); at < to; {
					hit := look.in(text, at-start, to-start)
					if hit < 0 {
						break
					}
					for run+1 < len(c.starts) && int(c.starts[run+1]) <= start+hit {
						run++
					}
					into = append(into, c.blocks[run])
					if at = c.size; run+1 < len(c.starts) {
						at = int(c.starts[run+1])
					}
					next = at
				}
			}
			from = to
		}
		start = end
	}
	return into, nil
}

// in returns where the longest word is in a line that has all of them, between two places in a text; -1 where there is none.
func (l *wordsLook) in(text []byte, from, to int) int {
	for from < to {
		n := bytes.Index(text[from:to], l.words[0])
		if n < 0 {
			break
		}
		if lineHas(text, from+n, l.words[1:]) {
			return from + n
		}
		from += n + 1
	}
	return -1
}

// may tells by its signature whether a group can have all of some three bytes.
func (c *nameChunk) may(group int, slots []uint32) bool {
	sig := c.sigs[group*signatureSize : (group+1)*signatureSize]
	for _, s := range slots {
		if sig[s/64]&(1<<(s%64)) == 0 {
			return false
		}
	}
	return true
}

// lineHas tells whether the line around a position has all words.
func lineHas(text []byte, at int, words [][]byte) bool {
	if len(words) == 0 {
		return true
	}
	from := bytes.LastIndexByte(text[:at], '\n') + 1
	to := bytes.IndexByte(text[at:], '\n')
	if to < 0 {
		to = len(text) - at
	}
	line := text[from : at+to]
	for _, w := range words {
		if !bytes.Contains(line, w) {
			return false
		}
	}
	return true
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
