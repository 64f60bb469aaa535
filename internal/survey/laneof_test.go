package survey

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/traits"
)

// What has to be taken apart is surveyed by itself where it is on the service's own host; whatever a machine holds that may keep one waiting,
// as one of which nothing is known yet may, is that machine's turn.
func TestOnlyStoresOfTheOwnHostAreTakenApartBesideTheirMachine(t *testing.T) {
	whole, proves, plain := traits.Traits{Cost: traits.Whole}, traits.Traits{Proves: true}, traits.Traits{Cost: traits.Little}
	near, far := traits.Way{Owners: true}, traits.Way{Owners: true, RoundTrip: time.Millisecond}
	for _, c := range []struct {
		of    traits.Traits
		way   traits.Way
		apart bool
	}{{whole, near, true}, {proves, near, true}, {plain, near, false}, {whole, far, false}, {proves, far, false}, {whole, traits.Way{}, false}} {
		want := lane{machine: "loft"}
		if c.apart {
			want = lane{apart: true}
		}
		assert.Equal(t, want, laneOf(catalogue.Source{Source: copies.Source{AtMachine: "loft", Traits: c.of, Way: c.way}}), "%+v", c)
	}
}
