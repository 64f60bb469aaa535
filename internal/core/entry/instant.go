package entry

import "time"

// Instant is a time as a file system keeps it, to the nanosecond and over the whole range that file systems have. The zero
// Instant is unknown, which is different from any time.
type Instant struct {
	Known bool
	Sec   int64 // since 1970 in UTC
	Nano  int32 // 0 to 999,999,999
}

// At returns a time as an Instant; the zero Time is unknown.
func At(t time.Time) Instant {
	if t.IsZero() {
		return Instant{}
	}
	return Instant{true, t.Unix(), int32(t.Nanosecond())}
}

// Time returns the Instant as a Time in UTC, the zero Time where it is unknown.
func (i Instant) Time() time.Time {
	if !i.Known {
		return time.Time{}
	}
	return time.Unix(i.Sec, int64(i.Nano)).UTC()
}
