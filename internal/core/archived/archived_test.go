package archived_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/archived"
)

var written = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

func aZip(t testing.TB) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, name := range []string{"Plans/", "Plans/Keel.txt", "Mast.txt"} {
		m, err := w.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: written})
		require.NoError(t, err)
		if !strings.HasSuffix(name, "/") {
			_, err = m.Write([]byte("oak " + name))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func aTar(t testing.TB) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range []tar.Header{{Name: "Plans/", Typeflag: tar.TypeDir}, {Name: "Plans/Keel.txt", Typeflag: tar.TypeReg, Size: 3},
		{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "Plans/Keel.txt"}, {Name: "p", Typeflag: tar.TypeFifo}, {Name: "h", Typeflag: tar.TypeLink, Linkname: "l"}} {
		h.ModTime, h.Mode = written, 0o644
		require.NoError(t, w.WriteHeader(&h))
		_, err := w.Write([]byte("oak")[:h.Size])
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func told(read func(func(archived.Head) error) (archived.Told, error)) (all []archived.Head, told archived.Told, err error) {
	told, err = read(func(h archived.Head) error {
		all = append(all, h)
		return nil
	})
	return all, told, err
}

func zipped(t *testing.T, b []byte) ([]archived.Head, archived.Told, error) {
	return told(func(each func(archived.Head) error) (archived.Told, error) {
		return archived.Zip(t.Context(), bytes.NewReader(b), int64(len(b)), each)
	})
}

func TestWhatAZipSaysOfItsMembers(t *testing.T) {
	b := aZip(t)
	heads, said, err := zipped(t, b)
	require.NoError(t, err)
	assert.Zero(t, said)
	require.Len(t, heads, 3)
	assert.Equal(t, archived.Folder, heads[0].Kind)
	assert.Equal(t, "Plans/Keel.txt", heads[1].Name)
	assert.True(t, heads[1].Zoned && heads[1].Written.Time().Equal(written))
	assert.EqualValues(t, 0x04034b50, binary.LittleEndian.Uint32(b[heads[1].At:]), "there its own head stands")

	lost, said, err := zipped(t, b[:bytes.LastIndex(b, []byte("PK\x01\x02"))-60])
	require.NoError(t, err)
	assert.True(t, said.Lost)
	require.Len(t, lost, 3)
	assert.Equal(t, heads[2].CRC32, lost[2].CRC32)
	_, _, err = zipped(t, []byte("nothing of the kind, at some length, so that a directory could be in it"))
	assert.ErrorIs(t, err, archived.ErrDamaged)
}

func TestWhatATarSaysOfItsMembers(t *testing.T) {
	b := aTar(t)
	heads, said, err := told(func(each func(archived.Head) error) (archived.Told, error) {
		return archived.Tar(t.Context(), bytes.NewReader(b), each)
	})
	require.NoError(t, err)
	assert.Empty(t, said.Why)
	var kinds []archived.Kind
	for _, h := range heads {
		kinds = append(kinds, h.Kind)
	}
	assert.Equal(t, []archived.Kind{archived.Folder, archived.File, archived.Link, archived.Device, archived.Second}, kinds)
	assert.Equal(t, "oak", string(b[heads[1].At:heads[1].At+3]))
	cut, said, err := told(func(each func(archived.Head) error) (archived.Told, error) {
		return archived.Tar(t.Context(), bytes.NewReader(b[:1800]), each)
	})
	require.NoError(t, err)
	assert.NotEmpty(t, said.Why)
	assert.Len(t, cut, 2)
	stop := errors.New("enough")
	_, err = archived.Tar(t.Context(), bytes.NewReader(b), func(archived.Head) error { return stop })
	assert.ErrorIs(t, err, stop)
}

func FuzzZip(f *testing.F) {
	f.Add(aZip(f))
	f.Add([]byte("PK\x05\x06"))
	f.Fuzz(func(t *testing.T, b []byte) {
		n := 0
		_, _ = archived.Zip(t.Context(), bytes.NewReader(b), int64(len(b)), func(archived.Head) error {
			if n++; n > archived.MaxMembers {
				t.Fatal("more members than are read of any")
			}
			return nil
		})
	})
}

func FuzzTar(f *testing.F) {
	f.Add(aTar(f))
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _ = archived.Tar(t.Context(), bytes.NewReader(b), func(h archived.Head) error {
			if h.Size < 0 && h.Kind == archived.File {
				t.Fatal("a file of a negative size")
			}
			return nil
		})
	})
}
