package e2e

import (
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
)

// fill leaves so many bytes free on a drive; the function frees the rest again.
func (d *drive) fill(left int64) (free func()) {
	filler := filepath.Join(d.at, "filler")
	f, err := os.Create(filler)
	require.NoError(d.t, err)
	defer f.Close()
	total := int64(0)
	for {
		n, err := io.Copy(f, endless{})
		require.ErrorContains(d.t, err, "no space")
		require.NoError(d.t, f.Sync()) // after which it may be known that there is a little more
		if total += n; n == 0 {
			break
		}
	}
	require.NoError(d.t, f.Truncate(total-left))
	require.NoError(d.t, f.Sync())
	return func() { require.NoError(d.t, os.RemoveAll(filler)) }
}

type endless struct{}

func (endless) Read(p []byte) (int, error) { return len(p), nil }

// Where there is no room for all of a folder, at its destination or for the service's records, the receipt says what lies there, nothing is
// lost, and with room it comes back.
func TestAFullDriveWhileAFolderComesBack(t *testing.T) {
	t.Parallel()
	yard := layFolder(t)
	for name, way := range ways {
		for what, left := range map[string]int64{"the destination": 25 << 10, "the service's records": 8 << 10, "soon the service's records": 28 << 10,
			"in a moment the service's records": 70 << 10} {
			t.Run(what+" is full, "+name, func(t *testing.T) {
				d := newDrive(t)
				data, shelf := d.at, t.TempDir()
				if what == "the destination" {
					data, shelf = shelf, data
				}
				j := newJourney(t, yard, way.kind, way.at, data, shelf)
				free := func() { j.drive.Quota = 0 }
				if what != "the destination" || way.machine == "shelf" {
					free = d.fill(left)
				} else {
					j.drive.Quota = 12 << 10
				}
				r := j.begin(way.machine)
				if r.JSON202 == nil {
					assert.Contains(t, string(r.Body), "catalogue-full", "it was not even begun")
					assert.Zero(t, lying(t, j.tops[way.machine]))
				} else {
					if what == "the destination" {
						j.wait(r.JSON202.Id)
					} else {
						time.Sleep(time.Second)
					}
					free() // what cannot be recorded is settled once it can
					outcome := j.settled(way.machine, r.JSON202.Id, *r.JSON202.Receipt)
					if what == "the destination" {
						assert.NotEqual(t, api.OutcomeDone, outcome)
					}
				}
				free()
				r = j.begin(way.machine)
				require.NotNil(t, r.JSON202, string(r.Body))
				assert.Equal(t, api.OutcomeDone, j.settled(way.machine, r.JSON202.Id, *r.JSON202.Receipt))
			})
		}
	}
}
