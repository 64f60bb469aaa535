package drives_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/firstaid"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/drives"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
)

var now = time.Date(2026, 11, 20, 16, 0, 0, 0, time.UTC) // a Friday

func lay(t *testing.T, files map[string]string) (string, reach.Session) {
	root := t.TempDir()
	for path, content := range files {
		at := filepath.Join(root, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		if target, link := cutLink(content); link {
			require.NoError(t, os.Symlink(target, at))
			continue
		}
		require.NoError(t, os.WriteFile(at, []byte(content), 0o644))
	}
	opened, err := reach.Ways{local.Way()}.Open(t.Context(), root)
	require.NoError(t, err)
	t.Cleanup(func() { opened.Close() })
	return root, opened
}

func cutLink(content string) (string, bool) {
	if len(content) > 3 && content[:3] == "=> " {
		return content[3:], true
	}
	return "", false
}

func TestADriveIsKnownByTheMachinesOwnFiles(t *testing.T) {
	root, files := lay(t, map[string]string{
		"/etc/fstab": "# x\n/dev/sda1 / ext4 defaults 0 1\n/dev/nvme0n1p3 /home ext4 noatime 0 2\nserver:/x /srv/far nfs " +
			"defaults 0 0\n/dev/sdc1 /media/the\\040card vfat discard 0 0\n",
		"/sys/block/nvme0n1":                        "=> ../devices/pci/nvme0n1",
		"/sys/devices/pci/nvme0n1/queue/rotational": "0\n", "/sys/block/sda/queue/rotational": "1\n",
		"/sys/block/sdc/queue/rotational":            "0\n",
		"/var/lib/systemd/timers/stamp-fstrim.timer": "", "/home/ines/plan.odt": "x", "/media/the card/x": "x",
	})
	require.NoError(
		t,
		os.Chtimes(filepath.Join(root, "/var/lib/systemd/timers/stamp-fstrim.timer"), now, time.Date(2026, 11, 16, 0, 20, 0, 0, time.UTC)),
	)
	require.NoError(t, os.Chtimes(filepath.Join(root, "/home/ines/plan.odt"), now, now.Add(-3*time.Minute)))
	require.NoError(t, os.Chtimes(filepath.Join(root, "/home/ines"), now, now.Add(-time.Hour)))
	d := drives.Of(t.Context(), files, "/home/ines/plan.odt", "/home/ines", time.UTC, now)
	assert.Equal(t, "/dev/nvme0n1p3", d.Node)
	assert.Equal(t, "/home", d.Mount)
	assert.Equal(t, firstaid.Solid, d.Medium)
	assert.Equal(t, firstaid.Periodically, d.Discard)
	assert.Equal(t, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), d.TrimNext, "weekly is Monday")
	assert.Positive(t, d.Free)
	assert.Equal(t, "/home/ines/plan.odt", d.NewestPath)

	assert.Equal(t, firstaid.Rotating, drives.Of(t.Context(), files, "/etc/x", "", time.UTC, now).Medium)
	assert.Equal(t, firstaid.Network, drives.Of(t.Context(), files, "/srv/far/x", "", time.UTC, now).Medium)
	card := drives.Of(t.Context(), files, "/media/the card/x", "", time.UTC, now)
	assert.Equal(t, "/media/the card", card.Mount)
	assert.Equal(t, firstaid.AtOnce, card.Discard)
}

func TestWhatAMachineDoesNotTellIsSaid(t *testing.T) {
	_, files := lay(t, map[string]string{"/home/ines/x": "x", "/etc/fstab": "UUID=12 / ext4 defaults 0 1\n", "/loop": "=> /loop"})
	d := drives.Of(t.Context(), files, "/home/ines/x", "", time.UTC, now)
	assert.Empty(t, d.Medium)
	require.NotEmpty(t, d.Notes)
	assert.Equal(t, remark.New("no-device", "node", "UUID=12"), d.Notes[0])
	_, bare := lay(t, map[string]string{"/x": "x"})
	assert.True(t, remark.Has(drives.Of(t.Context(), bare, "/x", "", time.UTC, now).Notes, "no-mounts"))
}
