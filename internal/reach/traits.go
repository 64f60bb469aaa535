package reach

import (
	"os"

	"humble-rewind/internal/core/traits"
)

// Traits are those of the way to a machine.
type Traits = traits.Way

// Self is the number that the service's own user has on a machine; negative where nobody can tell: one over the network numbers its users
// by itself.
func Self(way Traits) int64 {
	if way.RoundTrip > 0 {
		return -1
	}
	return int64(os.Geteuid())
}
