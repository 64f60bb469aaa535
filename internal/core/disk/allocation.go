package disk

import (
	"math/bits"

	"github.com/hashicorp/golang-lru/v2/simplelru"
)

// Allocation is which units of a file system (clusters, blocks) belong to something. It is read from the drive page by page, of which 4 MiB
// are kept at the most: that of a large drive is far larger. What cannot be read counts as taken, which promises nothing.
type Allocation struct {
	units int64
	per   int64                                  // units of a page
	read  func(page int64, taken []uint64) error // sets the bits of the units of a page that are taken
	pages *simplelru.LRU[int64, []uint64]
	count map[int64]int32 // taken units, by page
}

// NewAllocation returns the allocation of so many units, numbered from 0, which is read in pages of so many, a multiple of 64.
func NewAllocation(units, per int64, read func(page int64, taken []uint64) error) *Allocation {
	pages, _ := simplelru.NewLRU[int64, []uint64](int(max(1, 4<<20*8/per)), nil) // it fails for no size alone
	return &Allocation{units: units, per: per, read: read, pages: pages, count: map[int64]int32{}}
}

func (a *Allocation) page(n int64) []uint64 {
	if p, ok := a.pages.Get(n); ok {
		return p
	}
	p := make([]uint64, a.per/64)
	if err := a.read(n, p); err != nil {
		for i := range p {
			p[i] = ^uint64(0)
		}
	}
	for u := min(a.per, a.units-n*a.per); u < a.per; u++ { // beyond the end
		p[u/64] |= 1 << (u % 64)
	}
	a.pages.Add(n, p)
	total := 0
	for _, w := range p {
		total += bits.OnesCount64(w)
	}
	a.count[n] = int32(total)
	return p
}

// Taken tells whether a unit belongs to something; one that there is not, does.
func (a *Allocation) Taken(unit int64) bool {
	if unit < 0 || unit >= a.units {
		return true
	}
	return a.page(unit / a.per)[unit%a.per/64]&(1<<(unit%64)) != 0
}

// Count counts those of some units that are taken.
func (a *Allocation) Count(from, units int64) (taken int64) {
	for end := from + units; from < end; {
		page, within := from/a.per, from%a.per
		if from < 0 || from >= a.units {
			return taken + end - from
		}
		next := min(end, (page+1)*a.per)
		if within == 0 && next-from == a.per {
			count, known := a.count[page]
			if !known {
				a.page(page)
				count = a.count[page]
			}
			taken += int64(count)
		} else {
			p := a.page(page)
			for u := within; u < next-page*a.per; {
				if u%64 == 0 && u+64 <= next-page*a.per {
					taken += int64(bits.OnesCount64(p[u/64]))
					u += 64
					continue
				}
				taken += int64(p[u/64] >> (u % 64) & 1)
				u++
			}
		}
		from = next
	}
	return taken
}

// Free calls each with units that follow one another and belong to nothing, in their order, until it fails.
func (a *Allocation) Free(each func(from, units int64) error) error {
	begun := int64(-1)
	for page := int64(0); page*a.per < a.units; page++ {
		p := a.page(page)
		for w, word := range p {
			at := page*a.per + int64(w)*64
			switch {
			case word == 0:
				if begun < 0 {
					begun = at
				}
				continue
			case word == ^uint64(0) && begun < 0:
				continue
			}
			for b := range int64(64) {
				taken := word&(1<<b) != 0
				switch {
				case !taken && begun < 0:
					begun = at + b
				case taken && begun >= 0:
					if err := each(begun, at+b-begun); err != nil {
						return err
					}
					begun = -1
				}
			}
		}
	}
	if begun >= 0 {
		return each(begun, a.units-begun)
	}
	return nil
}

// TakenOf tells how many bytes of a piece are of units that are taken; units of so many bytes begin at base.
func TakenOf(a *Allocation, r Run, base, unit int64) int64 {
	if r.At == Hole || r.Size <= 0 {
		return 0
	}
	if r.At < base {
		return r.Size
	}
	first, last := (r.At-base)/unit, (r.At+r.Size-1-base)/unit
	taken := a.Count(first, last-first+1) * unit
	if a.Taken(last) { // of which not all is of the piece
		taken -= base + (last+1)*unit - (r.At + r.Size)
	}
	if a.Taken(first) {
		taken -= r.At - (base + first*unit)
	}
	return max(0, taken)
}
