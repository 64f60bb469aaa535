package names

import (
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"

	"bytes"
	"cmp"
	"context"
	"errors"
	"runtime"
	"slices"
	"sort"
	"sync"
)

// What is common is not looked for in all of the text.
const (
	sampled = 8 // chunks that are looked through first
	common  = 8 // one block in so many, from which on the others are looked for only as they are needed
)

// stretch is a run of names of a block.
type stretch struct {
	block int64
	chunk *chunk
	n     int
}

// Found are the blocks that a search by words leads to.
type Found struct {
	look   look
	Blocks []int64   // each once, in their order
	unsure []stretch // of blocks in which they have not been looked for, by block
}

// Search looks for the blocks of some sources in which some name has all words, which are folded. Where what is sought is common it does not
// look for it everywhere, unless it has to be sure.
func (t *Text) Search(ctx context.Context, q file.Querier, meant func(copies.SourceID) bool, words []string, surely bool) (f Found, err error) {
	words = slices.Clone(words)
	sort.SliceStable(words, func(i, j int) bool { return len(words[i]) > len(words[j]) })
	for _, word := range words {
		f.look.add([]byte(word))
	}
	t.mu.RLock()
	chunks := slices.DeleteFunc(slices.Clone(t.chunks), func(c *chunk) bool { return !meant(c.source) || !c.hasPairs(f.look.pairs) })
	t.mu.RUnlock()
	if !surely && len(chunks) > 4*sampled {
		var some, rest []*chunk
		runs := 0
		for i, c := range chunks {
			if i*sampled%len(chunks) < sampled {
				some, runs = append(some, c), runs+len(c.blocks)
			} else {
				rest = append(rest, c)
			}
		}
		if f.Blocks, err = searchAll(ctx, q, some, &f.look); err != nil {
			return f, err
		}
		chunks = rest
		surely = len(f.Blocks)*common < runs
	} else {
		surely = true
	}
	if surely {
		more, err := searchAll(ctx, q, chunks, &f.look)
		if err != nil {
			return f, err
		}
		f.Blocks = append(f.Blocks, more...)
	} else {
		runs := 0
		for _, c := range chunks {
			runs += len(c.blocks)
		}
		f.Blocks, f.unsure = slices.Grow(f.Blocks, runs), make([]stretch, 0, runs)
		for _, c := range chunks {
			f.Blocks = append(f.Blocks, c.blocks...)
			for run, block := range c.blocks {
				f.unsure = append(f.unsure, stretch{block, c, run})
			}
		}
		sure := slices.Compact(slices.Sorted(slices.Values(f.Blocks[:len(f.Blocks)-len(f.unsure)])))
		f.unsure = slices.DeleteFunc(f.unsure, func(r stretch) bool {
			_, found := slices.BinarySearch(sure, r.block)
			return found
		})
		slices.SortFunc(f.unsure, func(a, b stretch) int { return cmp.Compare(a.block, b.block) })
	}
	slices.Sort(f.Blocks)
	f.Blocks = slices.Compact(f.Blocks)
	return f, nil
}

// Unsure tells whether there are blocks in which the words were not looked for yet.
func (f *Found) Unsure() bool { return len(f.unsure) > 0 }

// Has tells whether a block that was found has such a name, looking for it where that was not done.
func (f *Found) Has(ctx context.Context, r *Texts, block int64) (bool, error) {
	at, unsure := slices.BinarySearchFunc(f.unsure, block, func(r stretch, block int64) int { return cmp.Compare(r.block, block) })
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

func (n stretch) has(ctx context.Context, r *Texts, look *look) (bool, error) {
	c := n.chunk
	from, to := int(c.starts[n.n]), c.size
	if n.n+1 < len(c.starts) {
		to = int(c.starts[n.n+1])
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
func searchAll(ctx context.Context, q file.Querier, chunks []*chunk, look *look) (blocks []int64, err error) {
	workers := min(runtime.GOMAXPROCS(0), len(chunks))
	found, failed := make([][]int64, workers), make([]error, workers)
	var all sync.WaitGroup
	for w := range workers {
		all.Go(func() {
			r := Texts{Q: q}
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

// look is what is looked for: words, the longest first, and which bytes follow each other in them.
type look struct {
	words [][]byte
	pairs []uint16
	slots []uint32 // of three bytes
}

func (l *look) add(word []byte) {
	l.words = append(l.words, word)
	for i := 0; i+2 <= len(word); i++ {
		l.pairs = append(l.pairs, pairOf(word[i:]))
	}
	for i := 0; i+3 <= len(word); i++ {
		l.slots = append(l.slots, slotOf(word[i:]))
	}
}

// hasPairs tells whether each pair of bytes is somewhere in the text.
func (c *chunk) hasPairs(pairs []uint16) bool {
	return !slices.ContainsFunc(pairs, func(p uint16) bool { return c.pairs[p/64]&(1<<(p%64)) == 0 })
}

// search adds the blocks of the runs that have a line with all words.
func (c *chunk) search(ctx context.Context, r *Texts, look *look, into []int64) ([]int64, error) {
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
func (l *look) in(text []byte, from, to int) int {
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
func (c *chunk) may(group int, slots []uint32) bool {
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
