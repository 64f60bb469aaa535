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
	"golang.org/x/sys/unix"

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

// ways are the ways that a folder comes back.
var ways = map[string]struct{ kind, at, machine string }{
	"from an archive to a drive":     {"archive", "/archive", "drive"},
	"from a repository to a drive":   {"history", "/srv/lines", "drive"},
	"from an archive to a machine":   {"archive", "/archive", "shelf"},
	"from a repository to a machine": {"history", "/srv/lines", "shelf"},
}

// Killed while a folder comes back, the receipt says what lies there: all of it, a part, or nothing; and an undo leaves nothing.
func TestKilledWhileAFolderComesBack(t *testing.T) {
	yard := layFolder(t)
	for name, way := range ways {
		t.Run(name, func(t *testing.T) {
			partly := 0
			for range killPoints(t, 3) {
				if endFolderOnItsWay(t, yard, way.kind, way.at, way.machine, t.TempDir(), (*process).kill) {
					partly++
				}
			}
			if way.machine == "drive" {
				assert.Positive(t, partly, "a kill in the middle is what this is about")
			}
		})
	}
}

// The same where the power of the drive is cut that the service's records lie on, and what comes back to the machine.
func TestThePowerIsCutWhileAFolderComesBack(t *testing.T) {
	t.Parallel()
	yard := layFolder(t)
	for name, way := range ways {
		t.Run(name, func(t *testing.T) {
			for range killPoints(t, 2) {
				d := newDrive(t)
				endFolderOnItsWay(t, yard, way.kind, way.at, way.machine, d.at, func(p *process) {
					d.cut()
					p.kill()
					d.back()
				})
			}
		})
	}
}

// journey is a folder that is about to come back.
type journey struct {
	*process
	t      *testing.T
	data   string // the service's records
	drive  *clouddrive.Drive
	tops   map[string]string // where machines lie that it may come to
	folder string            // its copy
}

// newJourney lays everything out, with the service's records and the machine shelf below folders.
func newJourney(t *testing.T, yard, kind, where, data, shelf string) *journey {
	j := &journey{t: t, data: filepath.Join(data, "data")}
	var err error
	j.drive, err = clouddrive.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { j.drive.Close() })
	require.NoError(t, j.drive.Admit(t.Context(), "ines", "oak", time.Time{}))
	server := httptest.NewTLSServer(j.drive.Handler())
	t.Cleanup(server.Close)
	j.tops = map[string]string{"drive": j.drive.FilesDir(), "shelf": filepath.Join(shelf, "shelf")}
	for _, dir := range []string{j.data, j.tops["shelf"]} {
		require.NoError(t, os.RemoveAll(dir))
	}
	require.NoError(t, os.Mkdir(j.tops["shelf"], 0o755))
	p := start(t, j.data)
	j.process = p
	secret := filepath.Join(j.data, "secrets", "office")
	require.NoError(t, os.MkdirAll(filepath.Dir(secret), 0o700))
	require.NoError(t, os.WriteFile(secret, []byte("oak\n"), 0o600))
	at := fmt.Sprintf("davs://ines@%s/files?secret-file=%s&certificate=sha256:%x", server.Listener.Addr(), secret,
		sha256.Sum256(server.Certificate().Raw))
	for name, at := range map[string]string{"yard": yard, "drive": at, "shelf": j.tops["shelf"]} {
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
	j.folder = ids[0]
	return j
}

// begin brings the folder back to a machine.
func (j *journey) begin(to string) *api.BringBackResponse {
	r, err := j.BringBackWithResponse(j.t.Context(), api.NewBringBack{Copies: &[]string{j.folder}, To: &api.Destination{Machine: to, Path: "/"}})
	require.NoError(j.t, err)
	return r
}

// settled waits until a receipt is settled, and checks that it says what lies there, and that undoing it leaves nothing.
func (j *journey) settled(to, job, id string) api.Outcome {
	j.wait(job)
	var receipt api.Receipt
	require.Eventually(j.t, func() bool { // what could not be recorded is settled by itself
		receipt = j.receipt(id)
		return receipt.State != api.ReceiptStateOpen
	}, time.Minute, 100*time.Millisecond)
	top := j.tops[to]
	require.Len(j.t, receipt.Items, 1)
	item := receipt.Items[0]
	j.t.Logf("%d of %d files lie there; the receipt says %s, of the folder %s: %s", lying(j.t, top), folderFiles, receipt.State, item.Outcome, item.Note)
	switch item.Outcome {
	case api.OutcomeDone:
		assert.Equal(j.t, folderFiles, lying(j.t, top))
	case api.OutcomePartly:
		assert.Contains(j.t, item.Note, fmt.Sprintf("%d files", lying(j.t, top)))
		assert.Equal(j.t, api.ReceiptStatePart, receipt.State)
	default:
		assert.Zero(j.t, lying(j.t, top), "%s: %s", item.Outcome, item.Note)
	}
	if item.Outcome == api.OutcomeDone || item.Outcome == api.OutcomePartly {
		undo, err := j.UndoReceiptWithResponse(j.t.Context(), receipt.Id)
		require.NoError(j.t, err)
		require.NotNil(j.t, undo.JSON202, string(undo.Body))
		if undone := j.wait(undo.JSON202.Id); !assert.Equal(j.t, api.JobStateDone, undone.State) {
			j.t.Logf("%+v", j.receipt(id).Items)
		}
	}
	left, err := os.ReadDir(top)
	require.NoError(j.t, err)
	assert.Empty(j.t, left)
	return item.Outcome
}

// endFolderOnItsWay brings a folder back with the service's records and the machine shelf below a folder, and has that end somewhere on the
// way.
func endFolderOnItsWay(t *testing.T, yard, kind, where, to, below string, end func(*process)) (partly bool) {
	j := newJourney(t, yard, kind, where, below, below)
	unix.Sync()
	r := j.begin(to)
	require.NotNil(t, r.JSON202, string(r.Body))
	if to == "drive" {
		for deadline := time.Now().Add(20 * time.Second); lying(t, j.tops[to]) == 0 && time.Now().Before(deadline); {
			time.Sleep(time.Millisecond)
		}
	}
	time.Sleep(rand.N(map[string]time.Duration{"drive": 120 * time.Millisecond, "shelf": 600 * time.Millisecond}[to]))
	end(j.process)
	j.process = start(t, j.data)
	defer j.kill()
	return j.settled(to, r.JSON202.Id, *r.JSON202.Receipt) == api.OutcomePartly
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
