package clouddrive

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The quota counts every version, also after a restart, and not what was done away with.
func TestTheQuotaCountsAllVersions(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	d, err := Open(ctx, dir)
	require.NoError(t, err)
	put := func(name string, bytes int) error {
		_, _, err := d.Put(ctx, name, strings.NewReader(strings.Repeat("x", bytes)), "ines", "", "")
		return err
	}
	require.NoError(t, put("/Prices.ods", 100))
	require.NoError(t, put("/Prices.ods", 200))
	require.NoError(t, put("/Orders.ods", 300))
	require.NoError(t, d.Close())

	d, err = Open(ctx, dir)
	require.NoError(t, err)
	defer d.Close()
	used, err := d.used(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 600, used)
	d.Quota = 700
	require.NoError(t, put("/Prices.ods", 100))
	require.ErrorIs(t, put("/Prices.ods", 1), errFull)
	require.NoError(t, d.Remove(ctx, "/Orders.ods", "ines", "", true))
	require.NoError(t, put("/Prices.ods", 1))
}
