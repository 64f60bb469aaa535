package copies

import "time"

// Apart tells whether two times are surely two, told by clocks of which the coarser ticks as often as tick says; 0: each nanosecond.
func Apart(a, b time.Time, tick time.Duration) bool {
	return a.Sub(b).Abs() >= max(tick, time.Nanosecond)
}

// WrittenWith tells whether a copy may have been written at the moment at which another was, as far as the coarser of their stores' clocks
// tells. Of a time in whole seconds nobody knows whether it was cut off on its way. What is not known is no one's.
func (c *Copy) WrittenWith(o *Copy) bool {
	if c.Written.IsZero() || o.Written.IsZero() {
		return false
	}
	return !Apart(c.Written, o.Written, Tick(c.Written, c.Store.Resolution, o.Written, o.Store.Resolution))
}

// Tick is how finely two times can be told apart that are told as finely as it says beside each.
func Tick(a time.Time, ofA time.Duration, b time.Time, ofB time.Duration) time.Duration {
	if a.Nanosecond() == 0 || b.Nanosecond() == 0 {
		return max(ofA, ofB, time.Second)
	}
	return max(ofA, ofB)
}
