package rows_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
)

// A session lasts as long as it was given, and not for years because the clock was ahead when it began.
func TestSessionsLastAsLongAsTheyMay(t *testing.T) {
	c, err := catalogue.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.Technicians.Set(t.Context(), "oda", []byte("token")))
	const lifetime = 12 * time.Hour
	now := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	require.NoError(t, c.Technicians.AddSession(t.Context(), "oda", []byte("right"), now, now.Add(lifetime)))
	require.NoError(t, c.Technicians.AddSession(t.Context(), "oda", []byte("ahead"), now, now.AddDate(10, 0, 0).Add(lifetime)))
	for hash, ends := range map[string]map[time.Duration]bool{
		"right":   {0: true, lifetime - time.Second: true, lifetime: false},
		"ahead":   {0: false, lifetime: false},
		"nobodys": {0: false},
	} {
		for after, good := range ends {
			name, err := c.Technicians.BySession(t.Context(), []byte(hash), now.Add(after), lifetime)
			if !good {
				assert.ErrorIs(t, err, catalogue.ErrNotFound, "%s after %s", hash, after)
				continue
			}
			require.NoError(t, err)
			assert.Equal(t, "oda", name.Name)
		}
	}
}
