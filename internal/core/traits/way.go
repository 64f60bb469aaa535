package traits

import "time"

// Way says of a way to a machine, as data, what decides how it is dealt with. What it can tell of an entry or offers of a file shows there.
// It is kept with each machine that was reached; the zero Way is of one that never was, of which nothing may be taken for granted.
type Way struct {
	// Owners says that it tells whose an entry is, so that who may write there can be found out.
	Owners bool `json:"owners,omitempty"`
	// RoundTrip is what asking for anything takes, roughly; 0 on the service's own host.
	RoundTrip time.Duration `json:"round_trip,omitempty"`
	// Clock is how fine the times are that it tells, however fine the file system behind it keeps them; 0: as fine as that.
	Clock time.Duration `json:"clock,omitempty"`
}

// Near tells whether the machine is the service's own host.
func (w Way) Near() bool { return w != Way{} && w.RoundTrip == 0 }
