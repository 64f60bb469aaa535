package clouddrive

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

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

// What is in the trash takes room too, and no more is written than there is room for.
func TestTheQuotaCountsTheTrashAndHoldsWhileWriting(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	d, err := Open(ctx, dir)
	require.NoError(t, err)
	defer d.Close()
	d.Quota = 1000
	endless := &counted{}
	_, _, err = d.Put(ctx, "/endless", endless, "ines", "", "")
	assert.ErrorIs(t, err, errFull)
	assert.Less(t, endless.n, 100_000, "it is not read to its end")
	_, _, err = d.Put(ctx, "/a", strings.NewReader(strings.Repeat("x", 900)), "ines", "", "")
	require.NoError(t, err)
	require.NoError(t, d.Remove(ctx, "/a", "ines", "", false))
	_, _, err = d.Put(ctx, "/b", strings.NewReader(strings.Repeat("x", 900)), "ines", "", "")
	assert.ErrorIs(t, err, errFull, "it can be put back out of the trash")
}

// counted is a body without an end.
type counted struct{ n int }

func (c *counted) Read(p []byte) (int, error) {
	if c.n += len(p); c.n > 1<<30 {
		return 0, io.EOF
	}
	return len(p), nil
}

// A client cannot make the drive copy without an end, guess passwords without a pause, nor lead it out of its folder by a link.
func TestAClientIsHeldToTheDrive(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	d, err := Open(ctx, dir)
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, d.Admit(ctx, "ines", "oak", time.Time{}))
	server := httptest.NewServer(d.Handler())
	defer server.Close()
	ask := func(method, path, password string, header ...string) int {
		r, err := http.NewRequestWithContext(ctx, method, server.URL+path, nil)
		require.NoError(t, err)
		r.SetBasicAuth("ines", password)
		for i := 0; i < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer.StatusCode
	}
	require.NoError(t, d.Mkdir(ctx, "/Plans"))
	for _, c := range [][2]string{{"/files/", "/files/inside"}, {"/files", "/files/inside"}, {"/files/Plans", "/files/Plans/again"}} {
		assert.GreaterOrEqual(t, ask("COPY", c[0], "oak", "Destination", server.URL+c[1]), 400, c)
	}
	assert.NoDirExists(t, filepath.Join(d.FilesDir(), "inside"))

	outside := filepath.Join(dir, "outside")
	require.NoError(t, os.WriteFile(outside, []byte("not the drive's"), 0o600))
	require.NoError(t, os.Symlink(outside, filepath.Join(d.FilesDir(), "link")))
	require.NoError(t, os.Symlink(dir, filepath.Join(d.FilesDir(), "folder")))
	for _, path := range []string{"/files/link", "/files/folder/outside", "/files/folder/"} {
		assert.Equal(t, http.StatusNotFound, ask("GET", path, "oak"), path)
	}
	assert.Equal(t, http.StatusNotFound, ask("COPY", "/files/link", "oak", "Destination", server.URL+"/files/copy"))

	refused := 0
	for n := range 40 {
		if ask("GET", "/files/", fmt.Sprintf("guess %d", n)) == http.StatusTooManyRequests {
			refused++
		}
	}
	assert.Greater(t, refused, 30, "guesses are slowed down")
	assert.NotEqual(t, http.StatusTooManyRequests, ask("PROPFIND", "/files/", "oak", "Depth", "0"), "whoever is signed in works on")
}
