package spans

import (
	"context"
	"sync"

	"humble-rewind/internal/core/digest"
)

// examinedSet tells of most contents that were never examined that they were not, without asking the records for each: it has a bit for
// each beginning of a digest that was met. The zero examinedSet reads the records when it is asked first.
type examinedSet struct {
	mu   sync.Mutex
	read bool
	bits []uint64 // nil: too many were examined for it to tell anything soon
}

// Bounds of an examinedSet: how many digests are read for it at most, and how many bits of each it keeps (2 MiB in all).
const (
	maxInSet = 100_000
	setBits  = 24
)

// may tells whether a content may have been examined.
func (s *examinedSet) may(ctx context.Context, c *room, sha256 digest.Sum) (bool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.read {
		if err := s.fill(ctx, c); err != nil {
			return true, err
		}
		s.read = true
	}
	at := bitOf(sha256)
	return s.bits == nil || s.bits[at/64]>>(at%64)&1 == 1, nil
}

func (s *examinedSet) fill(ctx context.Context, c *room) error {
	rows, err := c.f.Reads.QueryContext(ctx, "SELECT sha256 FROM examined LIMIT ?", maxInSet+1)
	if err != nil {
		return err
	}
	defer rows.Close()
	bits, n := make([]uint64, 1<<setBits/64), 0
	for ; rows.Next(); n++ {
		var sum []byte
		if err := rows.Scan(&sum); err != nil {
			return err
		}
		set(bits, digest.From(sum))
	}
	if n <= maxInSet {
		s.bits = bits
	}
	return rows.Err()
}

// add takes up what was examined.
func (s *examinedSet) add(all []Examined) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, e := range all {
		if s.bits != nil {
			set(s.bits, e.SHA256)
		}
	}
}

func set(bits []uint64, sha256 digest.Sum) {
	at := bitOf(sha256)
	bits[at/64] |= 1 << (at % 64)
}

// bitOf takes the first bits of a digest.
func bitOf(sha256 digest.Sum) uint32 {
	return uint32(sha256[0])<<16 | uint32(sha256[1])<<8 | uint32(sha256[2])
}
