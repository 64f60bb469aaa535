package rights

import (
	"io/fs"
	"testing"

	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/reach"
)

// Whatever a list says, nobody is granted more than its mask and the owner's own bits, and what cannot be read grants nothing.
func FuzzReadList(f *testing.F) {
	f.Add([]byte{2, 0, 0, 0, 1, 0, 7, 0, 255, 255, 255, 255, 2, 0, 7, 0, 233, 3, 0, 0, 16, 0, 5, 0, 255, 255, 255, 255, 32, 0, 0, 0, 255, 255, 255, 255})
	f.Add([]byte{2, 0, 0, 0})
	f.Fuzz(func(t *testing.T, list []byte) {
		info := reach.Info{Type: entry.Folder, Mode: entry.Is(fs.FileMode(0o750)), UID: entry.Is(int64(7)), GID: entry.Is(int64(8))}
		a := accessOf(info, list)
		for _, uid := range []int64{7, 1001, 99} {
			granted := a.grants(Who{UID: uid})
			require.LessOrEqual(t, granted, fs.FileMode(7))
			if !a.told {
				require.Zero(t, granted)
			}
		}
		if a.told {
			require.Equal(t, fs.FileMode(7), a.grants(Who{UID: 7}))
		}
	})
}
