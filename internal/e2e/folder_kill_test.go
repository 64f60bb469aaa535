package e2e

import (
	"archive/zip"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
	"humble-rewind/internal/clouddrive"
)

// folderFiles is how many files the folder has that is brought back while the service is killed.
const folderFiles = 60

// layFolder lays an archive and a repository that both hold a folder.
func layFolder(t *testing.T) (yard string) {
	yard = t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(yard, "archive"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(yard, "home/ines"), 0o755))
	out, err := os.Create(filepath.Join(yard, "archive/plans-2026-03-04.zip"))
	require.NoError(t, err)
	w := zip.NewWriter(out)
	lines := filepath.Join(yard, "srv/lines")
	for n := range folderFiles {
		name := fmt.Sprintf("Plans/%02d/n%d.txt", n%7, n)
		f, err := w.Create(name)
		require.NoError(t, err)
		_, err = f.Write([]byte(content(n)))
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(lines, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(lines, name), []byte(content(n)), 0o644))
	}
	require.NoError(t, w.Close())
	require.NoError(t, out.Close())
	git(t, lines, nil, "init", "-q", "-b", "main", ".")
	git(t, lines, nil, "add", ".")
	git(t, lines, nil, "-c", "user.name=x", "-c", "user.email=x@y", "commit", "-q", "-m", "x")
	return yard
}

// Killed while a folder comes back, the receipt says what lies there: all of it, a part, or nothing; and an undo leaves nothing.
func TestKilledWhileAFolderComesBack(t *testing.T) {
	yard := layFolder(t)
	for name, c := range map[string]struct {
		kind, at, machine string
	}{
		"from an archive to a drive":     {"archive", "/archive", "drive"},
		"from a repository to a drive":   {"history", "/srv/lines", "drive"},
		"from an archive to a machine":   {"archive", "/archive", "yard"},
		"from a repository to a machine": {"history", "/srv/lines", "yard"},
	} {
		t.Run(name, func(t *testing.T) {
			partly := 0
			for range killPoints(t, 3) {
				if killFolderOnItsWay(t, yard, c.kind, c.at, c.machine) {
					partly++
				}
			}
			if c.machine == "drive" {
				assert.Positive(t, partly, "a kill in the middle is what this is about")
			}
		})
	}
}

func killFolderOnItsWay(t *testing.T, yard, kind, where, to string) (partly bool) {
	drive, err := clouddrive.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer drive.Close()
	require.NoError(t, drive.Admit(t.Context(), "ines", "oak", time.Time{}))
	server := httptest.NewTLSServer(drive.Handler())
	defer server.Close()
	data := filepath.Join(t.TempDir(), "data")
	p := start(t, data)
	secret := filepath.Join(data, "secrets", "office")
	require.NoError(t, os.MkdirAll(filepath.Dir(secret), 0o700))
	require.NoError(t, os.WriteFile(secret, []byte("oak\n"), 0o600))
	at := fmt.Sprintf("davs://ines@%s/files?secret-file=%s&certificate=sha256:%x", server.Listener.Addr(), secret,
		sha256.Sum256(server.Certificate().Raw))
	for name, at := range map[string]string{"yard": yard, "drive": at} {
		m, err := p.AddMachineWithResponse(t.Context(), api.NewMachine{Name: name, At: at})
		require.NoError(t, err)
		require.NotNil(t, m.JSON201, string(m.Body))
	}
	s, err := p.AddSourceWithResponse(t.Context(), api.NewSource{Machine: "yard", Kind: kind, At: &where})
	require.NoError(t, err)
	require.NotNil(t, s.JSON201, string(s.Body))
	p.wait(p.beginSurvey())
	var ids []string
	for _, c := range p.all() {
		if c.Type == "folder" && strings.HasSuffix(c.Place.Path, "Plans") {
			ids = append(ids, c.Id)
		}
	}
	require.Len(t, ids, 1)
	top, path := drive.FilesDir(), "/"
	if to == "yard" {
		top, path = filepath.Join(yard, "back"), "/back/"
		require.NoError(t, os.RemoveAll(top))
		require.NoError(t, os.Mkdir(top, 0o755))
	}
	r, err := p.BringBackWithResponse(t.Context(), api.NewBringBack{Copies: &ids, To: &api.Destination{Machine: to, Path: path}})
	require.NoError(t, err)
	require.NotNil(t, r.JSON202, string(r.Body))
	if to == "drive" {
		for deadline := time.Now().Add(20 * time.Second); lying(t, top) == 0 && time.Now().Before(deadline); {
			time.Sleep(time.Millisecond)
		}
	}
	time.Sleep(rand.N(map[string]time.Duration{"drive": 120 * time.Millisecond, "yard": 600 * time.Millisecond}[to]))
	p.kill()

	there := lying(t, top)
	p = start(t, data)
	p.wait(r.JSON202.Id)
	receipt := p.receipt(*r.JSON202.Receipt)
	require.Len(t, receipt.Items, 1)
	item := receipt.Items[0]
	t.Logf("killed when %d of %d files lay there; the receipt says %s, of the folder %s", there, folderFiles, receipt.State, item.Outcome)
	switch item.Outcome {
	case api.OutcomeDone:
		assert.Equal(t, folderFiles, lying(t, top))
	case api.OutcomePartly:
		partly = true
		assert.Contains(t, item.Note, fmt.Sprintf("%d files", lying(t, top)))
		assert.Equal(t, api.ReceiptStatePart, receipt.State)
	default:
		assert.Zero(t, lying(t, top), "%s: %s", item.Outcome, item.Note)
	}
	if item.Outcome == api.OutcomeDone || partly {
		undo, err := p.UndoReceiptWithResponse(t.Context(), receipt.Id)
		require.NoError(t, err)
		require.NotNil(t, undo.JSON202, string(undo.Body))
		assert.Equal(t, api.JobStateDone, p.wait(undo.JSON202.Id).State)
	}
	left, err := os.ReadDir(top)
	require.NoError(t, err)
	assert.Empty(t, left)
	p.kill()
	return partly
}

// lying counts the files below a folder, but for those in working folders.
func lying(t *testing.T, top string) (n int) {
	require.NoError(t, filepath.WalkDir(top, func(_ string, d fs.DirEntry, err error) error {
		switch {
		case err == nil && d.IsDir() && strings.HasPrefix(d.Name(), ".humble-rewind"):
			return fs.SkipDir
		case err == nil && !d.IsDir() && !strings.HasPrefix(d.Name(), "."):
			n++
		}
		return nil
	}))
	return n
}
