package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/api"
)

// drive is an ext4 file system in a file whose power can be cut: what was not on the drive is lost then.
type drive struct {
	t         *testing.T
	image, at string
}

// newDrive makes and mounts one, and skips the test where that cannot be done.
func newDrive(t *testing.T) *drive {
	t.Helper()
	d := &drive{t, filepath.Join(t.TempDir(), "drive.img"), t.TempDir()}
	require.NoError(t, os.WriteFile(d.image, nil, 0o600))
	require.NoError(t, os.Truncate(d.image, 192<<20))
	if out, err := exec.Command("mkfs.ext4", "-q", "-O", "has_journal", d.image).CombinedOutput(); err != nil {
		t.Skipf("no file system can be made here: %v %s", err, out)
	}
	if out, err := d.mount(); err != nil {
		t.Skipf("no file system can be mounted here, so power cuts are not tested: %v %s", err, out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", d.at).Run() })
	return d
}

func (d *drive) mount() ([]byte, error) {
	return exec.Command("mount", "-o", "loop", d.image, d.at).CombinedOutput()
}

// cut cuts the power (EXT4_IOC_SHUTDOWN without a flush of the journal, as the kernel's ext4.h numbers it); whoever still works on
// the drive gets errors.
func (d *drive) cut() {
	const shutdown, withoutFlush = 0x8004587d, 2
	folder, err := os.Open(d.at)
	require.NoError(d.t, err)
	defer folder.Close()
	flags := uint32(withoutFlush)
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, folder.Fd(), shutdown, uintptr(unsafe.Pointer(&flags)))
	if errno != 0 {
		d.t.Skipf("the power of a file system cannot be cut here: %v", errno)
	}
}

// back mounts the drive again, as after the power came back.
func (d *drive) back() {
	require.Eventually(d.t, func() bool { return exec.Command("umount", d.at).Run() == nil }, 10*time.Second, 50*time.Millisecond,
		"the service's children end with it, a little later")
	out, err := d.mount()
	require.NoError(d.t, err, string(out))
}

// After a power cut at any moment of a bring-back the catalogue opens, every destination is the new content, or what stood there, or
// nothing, as the receipt says, and nothing is lost.
func TestThePowerIsCutWhileFilesAreBroughtBack(t *testing.T) {
	t.Parallel()
	for round := range killPoints(t, 3) {
		cutOnce(t, round%2 == 1)
	}
}

func cutOnce(t *testing.T, across bool) {
	const files = 400
	d := newDrive(t)
	store, to, data := filepath.Join(d.at, "store"), filepath.Join(d.at, "back"), filepath.Join(d.at, "data")
	if across {
		store = newDrive(t).at
	}
	fillTrash(t, store, files)
	require.NoError(t, os.Mkdir(to, 0o755))
	stood := map[string]bool{}
	for i := 0; i < files; i += 3 {
		name := fmt.Sprintf("n%d.txt", i)
		require.NoError(t, os.WriteFile(filepath.Join(to, name), []byte("stood there\n"), 0o644))
		stood[name] = true
	}
	p := start(t, data)
	p.add("host", "/", store)
	p.wait(p.beginSurvey())
	ids := []string{}
	for _, c := range p.all() {
		ids = append(ids, c.Id)
	}
	require.Len(t, ids, files)
	unix.Sync()
	rule := api.ClashRuleSetAside
	r, err := p.BringBackWithResponse(t.Context(), api.NewBringBack{Copies: &ids, Clash: &rule,
		To: &api.Destination{Machine: "host", Path: to + "/"}})
	require.NoError(t, err)
	require.NotNil(t, r.JSON202, string(r.Body))
	time.Sleep(rand.N(500 * time.Millisecond))
	d.cut()
	p.kill()
	d.back()

	p = start(t, data)
	p.wait(r.JSON202.Id)
	receipt := p.receipt(*r.JSON202.Receipt)
	require.Len(t, receipt.Items, files)
	done := settledRight(t, receipt, stood, false)
	t.Logf("cut when %d of %d had arrived; the receipt says %s", done, files, receipt.State)
	nothingLeft(t, to, store)
	check, err := p.CheckCatalogueWithResponse(t.Context())
	require.NoError(t, err)
	require.NotNil(t, check.JSON200, string(check.Body))
	assert.Empty(t, check.JSON200.Problem)
	p.kill()
}
