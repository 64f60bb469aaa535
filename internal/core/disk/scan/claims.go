package scan

import (
	"cmp"
	"slices"
	"time"

	"humble-rewind/internal/core/disk"
)

// claims tells which blocks of what was erased were given to something that came later and was erased too: then the file system calls them
// free, and they hold the later one. What is of the same time, so that nobody can tell which came later, has none of what both claim.
type claims struct {
	base int64
	unit int64 // bytes
	all  []claim
	runs []disk.Run // of all of them
	work int64
	many bool // there are more than are held against one another: any content may be one of those
}

// claim is what an entry claims: so many pieces, from one on. Most drives have few, and some a million.
type claim struct {
	at   int64 // where the entry is told of
	when int64
	from uint32
	runs uint32
	lost int64 // bytes, to later ones
}

// mostWork is how many blocks are looked at in all: entries may claim far more than there is. Of what is left then nothing is promised.
const mostWork = 100_000_000

// mostClaimed is how many pieces are held against one another. Where there are more, nothing is promised of any.
const mostClaimed = 250_000

func newClaims(v Volume, of disk.Volume) *claims {
	unit := of.Unit()
	for v.Size/unit > 1<<28 { // so that a bit for each takes 32 MiB at the most
		unit *= 2
	}
	return &claims{base: of.Base(), unit: unit}
}

// when something came: what was written at a time came then, or was copied later.
func when(e *disk.Entry) int64 {
	at := e.Written
	if e.Made.After(at) {
		at = e.Made
	}
	if at.IsZero() {
		return 0
	}
	return at.Truncate(2 * time.Second).Unix()
}

func (c *claims) add(e disk.Entry) error {
	if !e.Erased || e.Folder || len(e.Runs) == 0 {
		return nil
	}
	if c.many = c.many || len(c.runs)+len(e.Runs) > mostClaimed; c.many {
		c.all, c.runs = nil, nil
		return nil
	}
	c.all = append(c.all, claim{at: e.At, when: when(&e), from: uint32(len(c.runs)), runs: uint32(len(e.Runs))})
	c.runs = append(c.runs, e.Runs...)
	return nil
}

// units calls each with the units of a claim. It is false where that is too much work.
func (c *claims) units(runs []disk.Run, each func(u int64)) bool {
	for _, r := range runs {
		if r.At < c.base || r.Size <= 0 {
			continue
		}
		from, to := (r.At-c.base)/c.unit, (r.At+r.Size-1-c.base)/c.unit+1
		if c.work += to - from; c.work > mostWork {
			return false
		}
		for u := from; u < to; u++ {
			each(u)
		}
	}
	return true
}

// pieces are those of a claim.
func (c *claims) pieces(one *claim) []disk.Run { return c.runs[one.from : one.from+one.runs] }

// settle works it out, from the latest back.
func (c *claims) settle() {
	slices.SortFunc(c.all, func(a, b claim) int {
		first, other := c.runs[a.from], c.runs[b.from]
		return cmp.Or(cmp.Compare(b.when, a.when), cmp.Compare(first.At, other.At), cmp.Compare(first.Size, other.Size), cmp.Compare(a.at, b.at))
	})
	held, twice := bitmap{}, bitmap{}
	for n := 0; n < len(c.all); {
		end := n + 1
		for end < len(c.all) && c.all[end].when == c.all[n].when {
			end++
		}
		group := c.all[n:end]
		now := bitmap{}
		for i := range group {
			if i > 0 && slices.Equal(c.pieces(&group[i]), c.pieces(&group[i-1])) {
				continue // the same, told of twice
			}
			c.units(c.pieces(&group[i]), func(u int64) {
				if now.has(u) {
					twice.set(u)
				}
				now.set(u)
			})
		}
		for i := range group {
			lost := int64(0)
			told := c.units(c.pieces(&group[i]), func(u int64) {
				if held.has(u) || twice.has(u) {
					lost++
				}
			})
			if group[i].lost = lost * c.unit; !told {
				group[i].lost = disk.Sum(c.pieces(&group[i]))
			}
		}
		held.join(now)
		clear(twice)
		n = end
	}
	c.runs = nil
	slices.SortFunc(c.all, func(a, b claim) int { return cmp.Compare(a.at, b.at) })
}

// taken is how many bytes of an entry somebody else has, by the file system or by a later claim.
func (c *claims) taken(e *disk.Entry) int64 {
	taken := max(e.Taken, 0)
	i, known := slices.BinarySearchFunc(c.all, e.At, func(one claim, at int64) int { return cmp.Compare(one.at, at) })
	if known {
		taken += c.all[i].lost
	}
	return min(taken, max(e.Size, 0))
}

// bitmap is a set of units, of which those that lie far apart take no more room than those beside one another.
type bitmap map[int64]*[128]uint64

func (b bitmap) has(u int64) bool {
	page := b[u>>13]
	return page != nil && page[u>>6&127]&(1<<(u&63)) != 0
}

func (b bitmap) set(u int64) {
	page := b[u>>13]
	if page == nil {
		page = new([128]uint64)
		b[u>>13] = page
	}
	page[u>>6&127] |= 1 << (u & 63)
}

func (b bitmap) join(other bitmap) {
	for n, page := range other {
		if b[n] == nil {
			b[n] = page
			continue
		}
		for i := range page {
			b[n][i] |= page[i]
		}
	}
}
