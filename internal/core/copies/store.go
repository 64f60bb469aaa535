package copies

import (
	"sort"
	"strconv"
	"time"

	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/traits"
)

// SourceID numbers a source; 0 is none.
type SourceID int64

// String returns the number as it is shown, such as s3.
func (id SourceID) String() string { return "s" + strconv.FormatInt(int64(id), 10) }

// MachineID numbers a machine; 0 is none.
type MachineID int64

// Source is what copies are read from, as far as what is known of them depends on it.
type Source struct {
	ID            SourceID
	Kind          string
	Machine       string // whose files it holds
	MachineID     MachineID
	AtMachine     string // where it is
	At            string // clean absolute path there
	Drive         string // the drive that it is on; "" where that is not known
	Traits        traits.Traits
	Way           traits.Way        // to where it is, as it was when that was reached last
	Options       map[string]string // of the kind
	Named         string            // strftime pattern of its points in time; "" where it is worked out
	Exclusions    []string          // patterns of what it leaves out
	Zone          string            // "" for the machine's
	Maps          []place.Map
	ClockAhead    time.Duration // of the write times of the machine's files
	RetentionDays int           // after which it removes what was thrown away; 0: never
	Trouble       string        // why the last survey failed
	SurveyedAt    time.Time     // zero while never
}

// Expires returns when the store's policy removes what was removed at a moment; the zero Time where it never does.
func (s *Source) Expires(gone time.Time) time.Time {
	if gone.IsZero() || s.RetentionDays == 0 {
		return time.Time{}
	}
	return gone.AddDate(0, 0, s.RetentionDays)
}

// Costs tells whether opening a copy costs more than opening a file of the service's own host.
func (s *Source) Costs() bool { return s.Traits.Cost == traits.Whole || s.Way.RoundTrip > 0 }

// asRecorded turns a time that was put right back into that of the machine's own clock.
func (s *Source) asRecorded(t time.Time) time.Time {
	if t.IsZero() {
		return t
	}
	return t.Add(s.ClockAhead)
}

// LooksAfter tells whether a path is among the files that a machine's own source reads. Its location itself is none of them.
func (s *Source) LooksAfter(path string) bool {
	return s.Traits.Live() && path != s.At && place.Under(path, s.At) && exclude.Within(s.Exclusions, path, s.At) == "" && !exclude.InTrash(path, s.At)
}

// Store is a source with its captures, as of one look at the records.
type Store struct {
	Source
	Captures   []time.Time   // at which it was read completely, oldest first
	Held       []time.Time   // those of them that can still be read
	Names      []string      // of those held
	Resolution time.Duration // of its write times
	Step       time.Duration // that is usual from one capture to the next, also those not kept any more; 0: that of those that are
}

// Latest returns the latest capture; the zero Time where there is none.
func (s *Store) Latest() time.Time {
	if len(s.Captures) == 0 {
		return time.Time{}
	}
	return s.Captures[len(s.Captures)-1]
}

// HeldIn returns the latest of the points in time from one moment to another, in nanoseconds since 1970, that the store still holds.
func (s *Store) HeldIn(first, last int64) (i int, ok bool) {
	i = sort.Search(len(s.Held), func(i int) bool { return s.Held[i].UnixNano() > last }) - 1
	return i, i >= 0 && s.Held[i].UnixNano() >= first
}

// After returns the first capture after a moment, if there is one.
func (s *Store) After(t time.Time) (time.Time, bool) {
	i := sort.Search(len(s.Captures), func(i int) bool { return s.Captures[i].After(t) })
	if i == len(s.Captures) {
		return time.Time{}, false
	}
	return s.Captures[i], true
}

// Before returns the last capture before a moment, or at it where at is set.
func (s *Store) Before(t time.Time, at bool) (time.Time, bool) {
	i := sort.Search(len(s.Captures), func(i int) bool { return s.Captures[i].After(t) || !at && s.Captures[i].Equal(t) })
	if i == 0 {
		return time.Time{}, false
	}
	return s.Captures[i-1], true
}
