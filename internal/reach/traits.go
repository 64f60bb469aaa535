package reach

import (
	"os"
	"time"
)

// Traits say of a way to a machine, as data, what decides how it is dealt with. What it can tell of an entry or offers of a file shows there,
// see Info and File.
type Traits struct {
	Owners    bool          // it tells whose an entry is, so that who may write there can be found out
	RoundTrip time.Duration // that asking for anything takes, roughly; 0 on the service's own host
}

// Self is the number that the service's own user has on a machine; negative where nobody can tell: one over the network numbers its users
// by itself.
func (t Traits) Self() int64 {
	if t.RoundTrip > 0 {
		return -1
	}
	return int64(os.Geteuid())
}
