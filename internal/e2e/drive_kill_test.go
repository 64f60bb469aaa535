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

// Killed while a folder comes back to a drive, the receipt says what lies there: all of it, a part, or nothing; and an undo leaves nothing.
func TestKilledWhileAFolderComesBackToADrive(t *testing.T) {
	const files = 60
	yard := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(yard, "archive"), 0o755))
	out, err := os.Create(filepath.Join(yard, "archive/plans-2026-03-04.zip"))
	require.NoError(t, err)
	w := zip.NewWriter(out)
	for n := range files {
		f, err := w.Create(fmt.Sprintf("Plans/%02d/n%d.txt", n%7, n))
		require.NoError(t, err)
		_, err = f.Write([]byte(content(n)))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, out.Close())
	partly := 0
	for range killPoints(t, 6) {
		drive, err := clouddrive.Open(t.Context(), t.TempDir())
		require.NoError(t, err)
		require.NoError(t, drive.Admit(t.Context(), "ines", "oak", time.Time{}))
		server := httptest.NewTLSServer(drive.Handler())
		dir := t.TempDir()
		data := filepath.Join(dir, "data")
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
		where := "/archive"
		s, err := p.AddSourceWithResponse(t.Context(), api.NewSource{Machine: "yard", Kind: "archive", At: &where})
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
		r, err := p.BringBackWithResponse(t.Context(), api.NewBringBack{Copies: &ids, To: &api.Destination{Machine: "drive", Path: "/"}})
		require.NoError(t, err)
		require.NotNil(t, r.JSON202, string(r.Body))
		for deadline := time.Now().Add(20 * time.Second); lying(t, drive) == 0 && time.Now().Before(deadline); {
			time.Sleep(time.Millisecond)
		}
		time.Sleep(rand.N(300 * time.Millisecond))
		p.kill()

		there := lying(t, drive)
		p = start(t, data)
		p.wait(r.JSON202.Id)
		receipt := p.receipt(*r.JSON202.Receipt)
		require.Len(t, receipt.Items, 1)
		item := receipt.Items[0]
		t.Logf("killed when %d of %d files lay there; the receipt says %s, of the folder %s", there, files, receipt.State, item.Outcome)
		switch item.Outcome {
		case api.OutcomeDone:
			assert.EqualValues(t, files, lying(t, drive))
		case api.OutcomePartly:
			partly++
			assert.Contains(t, item.Note, fmt.Sprintf("%d files", lying(t, drive)))
			assert.Equal(t, api.ReceiptStatePart, receipt.State)
		default:
			assert.Zero(t, lying(t, drive), "%s: %s", item.Outcome, item.Note)
		}
		if item.Outcome == api.OutcomeDone || item.Outcome == api.OutcomePartly {
			undo, err := p.UndoReceiptWithResponse(t.Context(), receipt.Id)
			require.NoError(t, err)
			require.NotNil(t, undo.JSON202, string(undo.Body))
			assert.Equal(t, api.JobStateDone, p.wait(undo.JSON202.Id).State)
		}
		left, err := os.ReadDir(drive.FilesDir())
		require.NoError(t, err)
		assert.Empty(t, left)
		p.kill()
		server.Close()
		require.NoError(t, drive.Close())
	}
	assert.Positive(t, partly, "a kill in the middle is what this is about")
}

// lying counts the files on a drive.
func lying(t *testing.T, drive *clouddrive.Drive) (n int) {
	require.NoError(t, filepath.WalkDir(drive.FilesDir(), func(_ string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !strings.HasPrefix(d.Name(), ".") {
			n++
		}
		return nil
	}))
	return n
}
