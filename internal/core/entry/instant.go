package entry

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

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

// Bounded returns a time as it may be written everywhere, and the zero Time for one that RFC 3339 has no year for, in any zone: nobody
// saved anything then, and files, archives and commits can say any.
func Bounded(t time.Time) time.Time {
	if year := t.UTC().Year(); year < 1 || year > 9998 {
		return time.Time{}
	}
	return t
}

// countable are the years in which times can be counted in nanoseconds since 1970 by 64 bits.
const firstCountable, lastCountable = 1678, 2262

// Countable tells whether a time can be kept as nanoseconds since 1970; the zero Time, which is unknown, cannot.
func Countable(t time.Time) bool {
	year := t.UTC().Year()
	return firstCountable <= year && year < lastCountable
}

// MarshalText writes the seconds and nanoseconds, such as "1793723400.000000007"; "" where unknown.
func (i Instant) MarshalText() ([]byte, error) {
	if !i.Known {
		return []byte{}, nil
	}
	return fmt.Appendf(nil, "%d.%09d", i.Sec, i.Nano), nil
}

// UnmarshalText reads what MarshalText wrote, and times as RFC 3339 writes them.
func (i *Instant) UnmarshalText(text []byte) error {
	*i = Instant{}
	if len(text) == 0 {
		return nil
	}
	if t, err := time.Parse(time.RFC3339Nano, string(text)); err == nil {
		*i = At(t)
		return nil
	}
	sec, nano, _ := strings.Cut(string(text), ".")
	s, err := strconv.ParseInt(sec, 10, 64)
	if err != nil {
		return fmt.Errorf("read the instant %q: %w", text, err)
	}
	n, err := strconv.ParseInt(nano, 10, 32)
	if err != nil || n < 0 || n > 999_999_999 {
		return fmt.Errorf("read the instant %q: its nanoseconds are none", text)
	}
	*i = Instant{true, s, int32(n)}
	return nil
}
