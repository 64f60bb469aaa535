package restore_test

import (
	"archive/tar"
	"bytes"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/sitetest"
)

// One impossible time in a store, or on a drive, spoils nothing: all come back, and the receipt can be read and undone.
func TestImpossibleYearsSpoilNoReceipt(t *testing.T) {
	s := sitetest.New(t)
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	years := []int{-4000, 1, 1901, 2026, 9999, 10000, 12026, 60000}
	for _, year := range years {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: fmt.Sprintf("home/ines/Plans/of %d.txt", year), Size: 3, Mode: 0o644,
			ModTime: time.Date(year, 12, 31, 23, 59, 59, 0, time.UTC), Format: tar.FormatPAX}))
		_, err := w.Write([]byte("oak"))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	s.Lay(map[string]string{"/srv/papers/2026-03-04.tar": b.String(), "/srv/points/2026-03-04T1705/home/ines/far.txt": "x",
		"/srv/points/2026-03-05T1705/home/ines/far.txt": "x"})
	for _, point := range []string{"2026-03-04T1705", "2026-03-05T1705"} {
		far := time.Unix(250_000_000_000+int64(len(point)), 0) // year 9892; ext4 keeps 2446
		require.NoError(t, os.Chtimes(s.Path("/srv/points/"+point+"/home/ines/far.txt"), far, far))
	}
	for kind, at := range map[string]string{"archive": "/srv/papers", "snapshots": "/srv/points"} {
		src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: kind, At: at})
		require.NoError(t, err)
		s.Survey(src)
	}
	var all []copies.ID
	for _, c := range s.Find(catalogue.Query{Limit: 100}) {
		if c.Type == "file" {
			all = append(all, c.ID)
		}
	}
	require.Len(t, all, len(years)+1)
	r := s.BringBack(restore.Request{Copies: all})
	require.Equal(t, catalogue.ReceiptDone, r.State, r.Items)
	for _, item := range r.Items {
		_, _, err := journal.SetAside(item)
		assert.NoError(t, err)
	}
	require.NoError(t, s.Undo(r.ID))
	assert.NoDirExists(t, s.Path("/home/ines/Plans"))
}
