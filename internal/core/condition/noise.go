package condition

import "math"

// noise tells whether bytes are spread as evenly as random ones would be. It looks at three stretches, and all must be.
func (e *examination) noise() bool {
	const stretch = 64 << 10
	if e.Size < 64 {
		return false
	}
	for _, at := range []int64{0, (e.Size - stretch) / 2, e.Size - stretch} {
		at = max(0, at)
		b := make([]byte, min(stretch, e.Size-at))
		n, _ := e.r.ReadAt(b, at)
		if !even(b[:n]) {
			return false
		}
	}
	return true
}

// even holds the entropy of some bytes against what as many random bytes have: 8 bits less 255/(2 n ln 2), the bias that a
// sample of n has (Miller 1955), with room for chance.
func even(b []byte) bool {
	if len(b) == 0 {
		return false
	}
	var counts [256]int
	for _, c := range b {
		counts[c]++
	}
	n := float64(len(b))
	entropy := 0.0
	for _, k := range counts {
		if k > 0 {
			p := float64(k) / n
			entropy -= p * math.Log2(p)
		}
	}
	expected := 8 - 255/(2*n*math.Ln2)
	if n < 1024 { // the bias is no longer that; of few bytes nearly all are different
		expected = 0.93 * math.Min(8, math.Log2(n))
		return entropy >= expected
	}
	return entropy >= expected-0.02-8/n
}
