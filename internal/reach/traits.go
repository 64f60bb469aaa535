package reach

import "time"

// Traits say of a way to a machine, as data, what decides how it is dealt with. What it can tell of an entry or offers of a file shows there,
// see Info and File.
type Traits struct {
	Owners    bool          // it tells whose an entry is, so that who may write there can be found out
	RoundTrip time.Duration // that asking for anything takes, roughly; 0 on the service's own host
}
