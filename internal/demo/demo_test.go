package demo_test

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"encoding/xml"
	"errors"
	"image"
	_ "image/jpeg"
	_ "image/png"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/demo"
)

var start = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

// files reads a whole world, links by their targets.
func files(t *testing.T, w demo.World) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(w.Dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, _ := filepath.Rel(w.Dir, path)
		if d.Type()&fs.ModeSymlink != 0 {
			all[rel], err = os.Readlink(path)
			return err
		}
		content, err := os.ReadFile(path)
		info, statErr := d.Info()
		// What must differ: the drive's secrets, its certificate and salts, and what git notes of files on this file system.
		if random := strings.HasPrefix(rel, "drive/") || strings.HasSuffix(rel, "/.git/index"); rel != "alder-quay.json" && !random {
			all[rel] = info.ModTime().UTC().String() + "\n" + string(content)
		}
		return errors.Join(err, statErr)
	}))
	return all
}

func TestTheSameMomentGivesTheSameWorld(t *testing.T) {
	one, err := demo.Build(filepath.Join(t.TempDir(), "one"), start, false)
	require.NoError(t, err)
	two, err := demo.Build(filepath.Join(t.TempDir(), "two"), start, false)
	require.NoError(t, err)
	first, second := files(t, one), files(t, two)
	assert.Greater(t, len(first), 300)
	for path := range first {
		assert.True(t, first[path] == second[path], path)
	}
	assert.Len(t, second, len(first))
}

func TestAWorldIsKeptUnlessAFreshOneIsWanted(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "world")
	w, err := demo.Build(dir, start, false)
	require.NoError(t, err)
	left := filepath.Join(w.Machines[0].At, "home/ines/left.txt")
	require.NoError(t, os.WriteFile(left, nil, 0o644))
	kept, err := demo.Build(dir, start.Add(time.Hour), false)
	require.NoError(t, err)
	assert.FileExists(t, left)
	assert.True(t, kept.Built.Equal(start))
	_, err = demo.Build(dir, start, true)
	require.NoError(t, err)
	assert.NoFileExists(t, left)
	other := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(other, "thesis.odt"), nil, 0o644))
	_, err = demo.Build(other, start, true)
	assert.ErrorContains(t, err, "holds something else")
	assert.FileExists(t, filepath.Join(other, "thesis.odt"))
}

func TestFilesAreValidInTheirFormats(t *testing.T) {
	w, err := demo.Build(filepath.Join(t.TempDir(), "world"), start, false)
	require.NoError(t, err)
	seen := map[string]int{}
	for path, content := range files(t, w) {
		if strings.Contains(path, "/srv/snapshots/") { // links to what stands elsewhere, or stood there
			continue
		}
		ext := filepath.Ext(path)
		_, content, _ = strings.Cut(content, "\n")
		seen[ext]++
		if filepath.Base(path) == "Ledger 09.ods" || strings.Contains(path, "/Rigging/") ||
			strings.HasSuffix(content, "\n") && strings.Count(content, "\n") == 1 {
			continue // broken on purpose, or empty
		}
		switch ext {
		case ".jpg", ".png":
			_, _, err := image.Decode(strings.NewReader(content))
			assert.NoError(t, err, path)
		case ".svg":
			assert.NoError(t, wellFormed(strings.NewReader(content)), path)
		case ".csv":
			rows, err := csv.NewReader(strings.NewReader(content)).ReadAll()
			assert.NoError(t, err, path)
			assert.Greater(t, len(rows), 1, path)
		case ".odt", ".ods":
			archive, err := zip.NewReader(bytes.NewReader([]byte(content)), int64(len(content)))
			require.NoError(t, err, path)
			assert.Equal(t, "mimetype", archive.File[0].Name, path)
			assert.Equal(t, zip.Store, archive.File[0].Method, path)
			for _, member := range archive.File[1:] {
				r, err := member.Open()
				require.NoError(t, err)
				assert.NoError(t, wellFormed(r), path)
			}
		case ".vcf", ".ics":
			assert.Equal(t, strings.Count("\n"+content, "\nBEGIN:"), strings.Count(content, "\nEND:"), path)
			assert.Equal(t, strings.Count(content, "\n"), strings.Count(content, "\r\n"), path)
		}
	}
	for _, ext := range []string{".jpg", ".png", ".svg", ".csv", ".odt", ".ods", ".vcf", ".ics", ".txt", ".trashinfo"} {
		assert.Positive(t, seen[ext], ext)
	}
}

func wellFormed(r io.Reader) error {
	d := xml.NewDecoder(r)
	for {
		if _, err := d.Token(); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
	}
}
