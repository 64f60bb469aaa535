package catalogue

import (
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
