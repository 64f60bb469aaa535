package registry

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/reach/local"
)

// lay makes a machine's root with the given files; content that begins with "=> " is a link.
func lay(t *testing.T, files map[string]string) string {
	root := t.TempDir()
	for path, content := range files {
		at := filepath.Join(root, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		if target, link := strings.CutPrefix(content, "=> "); link {
			require.NoError(t, os.Symlink(target, at))
		} else {
			require.NoError(t, os.WriteFile(at, []byte(content), 0o644))
		}
	}
	return root
}

func TestPeopleAreThoseWithHomes(t *testing.T) {
	files, err := local.Open(lay(t, map[string]string{
		"etc/passwd": "root:x:0:0::/root:/bin/sh\nines:x:1001:1001:Inês Falk,desk " +
			"2:/home/ines:/bin/sh\noda:x:1002:1002:Oda:/home/oda:/bin/sh\nbroken\nbad:x:many:1:::\nup:x:7:7::/home/../etc:/\n",
		"home/ines/.profile":  "",
		"home/guest/.profile": "",
		"home/lost+found/x":   "",
		"home/a file":         "",
		"data/users/tomas/x":  "",
	}))
	require.NoError(t, err)
	defer files.Close()
	people, notes, err := readPeople(t.Context(), files, "")
	require.NoError(t, err)
	assert.Empty(t, notes)
	require.Len(t, people, 2)
	assert.Equal(t, "guest", people[0].Name, "a home without an account is named after its folder")
	assert.Equal(t, "Inês Falk", people[1].FullName)
	assert.EqualValues(t, 1001, people[1].UID)
	people, _, err = readPeople(t.Context(), files, "/data/*/*")
	require.NoError(t, err)
	assert.Equal(t, "/data/users/tomas", people[0].Home)
	_, notes, err = readPeople(t.Context(), files, "/nowhere/*")
	require.NoError(t, err)
	assert.NotEmpty(t, notes)
	for _, pattern := range []string{"home/*", "/home/["} {
		_, _, err = readPeople(t.Context(), files, pattern)
		assert.Error(t, err, pattern)
	}
}

func TestTheZoneComesFromTheMachinesOwnFiles(t *testing.T) {
	for want, laid := range map[string]map[string]string{
		"Europe/Lisbon":  {"etc/localtime": "=> /usr/share/zoneinfo/Europe/Lisbon", "etc/timezone": "Asia/Tokyo\n"},
		"Asia/Tokyo":     {"etc/localtime": "a copy, not a link", "etc/timezone": "Asia/Tokyo\n"},
		"Atlantic/Faroe": {"etc/localtime": "=> ../usr/share/zoneinfo/No/Such", "etc/timezone": "Atlantic/Faroe"},
		"UTC":            {"etc/timezone": "nonsense\n"},
	} {
		files, err := local.Open(lay(t, laid))
		require.NoError(t, err)
		zone, note := readZone(t.Context(), files)
		assert.Equal(t, want, zone)
		assert.Equal(t, want == "UTC", note != "", "an assumed zone is said to be assumed")
		files.Close()
	}
}

func FuzzPasswd(f *testing.F) {
	f.Add([]byte("ines:x:1001:1001:Inês Falk,,,:/home/ines:/bin/sh\n"))
	f.Add([]byte("::::::\n:x:0:0::/:\r\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, p := range parsePasswd(data) {
			if p.Name == "" || !strings.HasPrefix(p.Home, "/") || p.UID < 0 {
				t.Errorf("%q makes %+v", data, p)
			}
		}
	})
}
