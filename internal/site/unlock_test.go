package site_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
)

// However many wrong passwords are tried, none opens anything or takes the right one's place, and what is read meanwhile with that is read.
func TestManyWrongPasswords(t *testing.T) {
	s := sitetest.New(t)
	folder := s.Path("/srv/archives")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	papers := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(papers, "Keel.txt"), []byte("larch and oak"), 0o644))
	for _, how := range []string{"zipcrypt", "aes256"} {
		out, err := exec.Command("bsdtar", "-C", papers, "--format", "zip", "--options", "zip:encryption="+how, "--passphrase", "larch", "-cf",
			filepath.Join(folder, how+".zip"), "Keel.txt").CombinedOutput()
		require.NoError(t, err, string(out))
	}
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "archive", At: "/srv/archives"})
	require.NoError(t, err)
	s.Survey(src)
	opened, locked, err := s.Unlock(t.Context(), src.Source, []byte("larch"))
	require.NoError(t, err)
	assert.Equal(t, []int{2, 0}, []int{opened, locked})
	found := s.Find(catalogue.Query{Words: "Keel", Limit: 10})
	require.Len(t, found, 2)
	var guessing sync.WaitGroup
	for guesser := range 2 {
		guessing.Go(func() {
			for n := range 300 { // of which the classic way takes one or two for right, until the checksum
				_, _, err := s.Unlock(t.Context(), src.Source, fmt.Appendf(nil, "larch %d %d", guesser, n))
				assert.ErrorContains(t, err, "opens nothing in it")
			}
		})
	}
	done := make(chan struct{})
	go func() { guessing.Wait(); close(done) }()
	for read := 0; ; read++ {
		for _, c := range found {
			content, err := s.Contents.Bytes(t.Context(), c.Copy, 100)
			require.NoError(t, err)
			assert.Equal(t, "larch and oak", string(content))
		}
		select {
		case <-done:
			assert.Greater(t, read, 10)
			return
		default:
		}
	}
}
