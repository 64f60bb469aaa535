package restore_test

import (
	"archive/tar"
	"archive/zip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/sitetest"
)

// Archives and repositories carry what whoever packed them wrote: set-id bits, root as the owner, capabilities, access lists, other attributes.
// None of it arrives; a file that can be run stays one where its store can be believed of that.
func TestNothingThatGivesRightsComesOutOfAnArchive(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root could give such rights")
	}
	const capability = "\x01\x00\x00\x02\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"
	const list = "\x02\x00\x00\x00\x01\x00\x06\x00\xff\xff\xff\xff\x02\x00\x07\x00\xea\x03\x00\x00\x04\x00\x04\x00\xff\xff\xff\xff" +
		"\x10\x00\x07\x00\xff\xff\xff\xff\x20\x00\x04\x00\xff\xff\xff\xff"
	s := sitetest.New(t)
	s.Lay(map[string]string{"/home/ines/Papers/stands.txt": "oak"})
	require.NoError(t, os.Chown(s.Path("/home/ines/Papers"), 1001, 1001))
	folder := s.Path("/srv/archives")
	require.NoError(t, os.MkdirAll(folder, 0o755))

	f, err := os.Create(filepath.Join(folder, "a.tar"))
	require.NoError(t, err)
	w := tar.NewWriter(f)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "from-tar/", Typeflag: tar.TypeDir, Mode: 0o7777, Format: tar.FormatPAX}))
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "from-tar/tool", Size: 4, Mode: 0o6755, Uname: "root", Gname: "root", Format: tar.FormatPAX,
		PAXRecords: map[string]string{"SCHILY.xattr.security.capability": capability, "LIBARCHIVE.xattr.security.capability": capability,
			"SCHILY.xattr.system.posix_acl_access": list, "SCHILY.acl.access": "user::rwx,user:1002:rwx,group::r--,mask::rwx,other::r--",
			"SCHILY.xattr.user.note": "theirs", "SCHILY.xattr.trusted.overlay.opaque": "y", "SCHILY.fflags": "immutable"}}))
	_, err = w.Write([]byte("tool"))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, f.Close())

	f, err = os.Create(filepath.Join(folder, "b.zip"))
	require.NoError(t, err)
	z := zip.NewWriter(f)
	h := &zip.FileHeader{Name: "from-zip/tool", CreatorVersion: 3 << 8, ExternalAttrs: (unix.S_IFREG | 0o6777) << 16}
	member, err := z.CreateHeader(h)
	require.NoError(t, err)
	_, err = member.Write([]byte("tool"))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	require.NoError(t, f.Close())

	lines := s.Path("/srv/lines")
	require.NoError(t, os.MkdirAll(filepath.Join(lines, "from-git"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(lines, "from-git/tool"), []byte("tool"), 0o755))
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "."}, {"-c", "user.name=x", "-c", "user.email=x@y", "commit", "-qm", "x"}} {
		out, err := exec.Command("git", append([]string{"-C", lines}, args...)...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	for kind, at := range map[string]string{"archive": "/srv/archives", "history": "/srv/lines"} {
		src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: kind, At: at})
		require.NoError(t, err)
		s.Survey(src)
	}
	for _, from := range []string{"from-tar", "from-zip", "from-git"} {
		tried := 0
		for _, c := range s.Find(catalogue.Query{Words: "tool", Limit: 10}) {
			if !strings.Contains(c.Place.Path, from) {
				continue
			}
			tried++
			for _, keep := range []bool{false, true} {
				name := "/home/ines/Papers/" + from
				r := s.BringBack(restore.Request{Copies: []copies.ID{c.ID}, To: &place.Place{Machine: "loft", Path: name}, KeepOwners: keep})
				require.Equal(t, catalogue.ReceiptDone, r.State, r.Items[0].Note)
				var st unix.Stat_t
				require.NoError(t, unix.Lstat(s.Path(name), &st))
				assert.Zero(t, st.Mode&0o7022, "%s: %o", from, st.Mode)
				assert.EqualValues(t, 1001, st.Uid, from)
				names := make([]byte, 1024)
				n, err := unix.Llistxattr(s.Path(name), names)
				require.NoError(t, err)
				assert.Empty(t, string(names[:n]), from)
				require.NoError(t, s.Undo(r.ID))
			}
		}
		assert.Positive(t, tried, from)
	}
}
