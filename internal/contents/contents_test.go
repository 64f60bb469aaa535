package contents_test

import (
	"crypto/sha256"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/compare"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/reach/reachtest"
	"humble-rewind/internal/reach/spool"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/say"
	"humble-rewind/internal/sitetest"
)

// thrownAway is a site with one file in its trash, as it was surveyed.
func thrownAway(t *testing.T, content string) (*sitetest.Site, *copies.Copy) {
	s := sitetest.New(t)
	s.Discard("/home/ines/Keel.txt", content)
	s.Survey(s.AddTrash(sitetest.HomeTrash))
	return s, s.Named("keel").Copy
}

const inTrash = sitetest.HomeTrash + "/files/Keel.txt"

func TestAContentThatItsStoreNamesIsReadOnce(t *testing.T) {
	s, c := thrownAway(t, "laid in oak\n")
	want := sha256.Sum256([]byte("laid in oak\n"))
	c.Mark.Content = entry.ContentID{Kind: entry.GitBlob, Value: strings.Repeat("5e", 20)}
	sum, err := s.Contents.Digest(t.Context(), c)
	require.NoError(t, err)
	assert.Equal(t, digest.Sum(want), sum)
	require.NoError(t, os.Remove(s.Path(inTrash)))
	sum, err = s.Contents.Digest(t.Context(), c)
	require.NoError(t, err, "another copy of the same content is not read")
	assert.Equal(t, digest.Sum(want), sum)
	c.Mark.Content = entry.ContentID{}
	_, err = s.Contents.Digest(t.Context(), c)
	assert.ErrorIs(t, err, problem.NotThere)
}

func TestAChecksumNamesNoContent(t *testing.T) {
	s, c := thrownAway(t, "laid in oak\n")
	c.Mark.Content = entry.ContentID{Kind: entry.CRC32Size, Value: "12345678"}
	_, err := s.Contents.Digest(t.Context(), c)
	require.NoError(t, err)
	require.NoError(t, os.Remove(s.Path(inTrash)))
	_, err = s.Contents.Digest(t.Context(), c)
	assert.ErrorIs(t, err, problem.NotThere, "another content can have the same")
}

func TestWhatIsNoLongerAsSeenIsNotDigested(t *testing.T) {
	s, c := thrownAway(t, "laid in oak\n")
	for _, now := range []struct {
		content string
		later   time.Duration
	}{{"laid in larch\n", 0}, {"laid in ash\n", time.Second}} {
		require.NoError(t, os.WriteFile(s.Path(inTrash), []byte(now.content), 0o644))
		at := c.Written.Add(now.later)
		require.NoError(t, os.Chtimes(s.Path(inTrash), at, at))
		_, err := s.Contents.Digest(t.Context(), c)
		assert.ErrorIs(t, err, contents.ErrChanged, now.content)
	}
	unread, err := s.Contents.DigestAll(t.Context(), c.Store.ID, func(int64, int64, string) {})
	require.NoError(t, err)
	assert.EqualValues(t, 1, unread)
	assert.Empty(t, s.Named("keel").SHA256)
}

func TestOnlyFilesHaveBytesAndNoMoreThanAskedFor(t *testing.T) {
	s, c := thrownAway(t, "laid in oak\n")
	b, err := s.Contents.Bytes(t.Context(), c, 4)
	require.NoError(t, err)
	assert.Equal(t, "laid", string(b))
	s.Discard("/home/ines/Moulds/", "1.txt\n")
	src, err := s.Catalogue.Sources.ByID(t.Context(), c.Store.ID)
	require.NoError(t, err)
	s.Survey(src)
	_, err = s.Contents.OpenFile(t.Context(), s.Named("moulds").Copy)
	assert.ErrorIs(t, err, contents.ErrNoContent)
}

func TestWhatStandsIsComparedByWhatItIs(t *testing.T) {
	s, c := thrownAway(t, "laid in oak\nand caulked\n")
	s.Lay(
		map[string]string{"/home/ines/Keel.txt": "laid in larch\nand caulked\n", "/home/ines/Link": "=> Keel.txt", "/home/ines/Plans/": ""},
	)
	left, err := s.Contents.OpenFile(t.Context(), c)
	require.NoError(t, err)
	defer left.Close()
	against := func(path string) compare.Comparison {
		right, err := s.Contents.Standing(t.Context(), place.Place{Machine: "loft", Path: path})
		require.NoError(t, err)
		defer right.Close()
		d, err := s.Contents.Compare(t.Context(), "Keel.txt", left, path, right)
		require.NoError(t, err)
		return d
	}
	assert.Equal(t, compare.Lines, against("/home/ines/Keel.txt").By)
	assert.Contains(t, say.Speaker{}.Remark(against("/home/ines/Plans").Summary), "The first is a file, the second a folder")
	assert.Contains(t, say.Speaker{}.Remark(against("/home/ines/Link").Summary), "the second a link")
	_, err = s.Contents.Standing(t.Context(), place.Place{Machine: "loft", Path: "/home/ines/nothing"})
	assert.ErrorIs(t, err, contents.ErrNothingStands)
}

// What can only be read from its beginning is looked into all the same, and nothing of it stays in the folder it was kept in.
func TestWhatCanOnlyBeReadFromItsBeginningIsKeptWithoutAName(t *testing.T) {
	dir := t.TempDir()
	spool.Common.In(dir)
	defer spool.Common.In("")
	s := sitetest.NewWith(t, reach.Ways{local.Way(), reachtest.PoorWay(local.Way(), 0)})
	_, err := s.AddMachine(t.Context(), registry.NewMachine{Name: "quay", At: "poor://" + s.Root, Zone: "Europe/Lisbon"})
	require.NoError(t, err)
	long := strings.Repeat("a plank of larch, a plank of oak\n", 1<<16)
	s.Lay(map[string]string{"/yard/Planks.txt": long})
	c, err := s.Contents.Standing(t.Context(), place.Place{Machine: "quay", Path: "/yard/Planks.txt"})
	require.NoError(t, err)
	defer c.Close()
	at, err := s.Contents.At(t.Context(), c)
	require.NoError(t, err)
	assert.True(t, at.Kept)
	end := make([]byte, 5)
	_, err = at.ReadAt(end, int64(len(long))-5)
	require.NoError(t, err)
	assert.Equal(t, " oak\n", string(end))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)
	require.NoError(t, at.Close())
	look, err := s.Contents.Look(t.Context(), c)
	require.NoError(t, err)
	assert.Contains(t, look.MediaType, "text/plain")
}
