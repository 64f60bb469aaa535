package dav

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// Files are folders of the service's host in which addresses may name files: passwords, and whom to believe. An address is given by a
// technician and its password goes to the server that it names, so no other file of the host may be named. Nil allows any, for tests.
type Files []string

// maxFile is how large such a file may be, in bytes.
const maxFile = 1 << 20

// read reads a file in one of the folders. No link leads out of them.
func (f Files) read(name string, mode fs.FileMode) ([]byte, error) {
	fail := func(err error) ([]byte, error) { return nil, fmt.Errorf("the file %s: %w", place.Quote(name), err) }
	clean := filepath.Clean(name)
	if !filepath.IsAbs(clean) {
		return fail(fmt.Errorf("give its absolute path: %w", problem.BadName))
	}
	in, rel := filepath.Split(clean)
	if f != nil {
		in = ""
		for _, folder := range f {
			if below, ok := strings.CutPrefix(clean, strings.TrimSuffix(folder, "/")+"/"); ok {
				in, rel = folder, below
				break
			}
		}
		if in == "" {
			return fail(fmt.Errorf("it lies in none of the folders that the service may take such files from (%s); move it there, or name its "+
				"folder with serve --secrets: %w", strings.Join(f, ", "), problem.Refused))
		}
	}
	root, err := os.OpenRoot(in)
	if err != nil {
		return fail(err)
	}
	defer root.Close()
	info, err := root.Lstat(rel)
	if err == nil && !info.Mode().IsRegular() {
		err = problem.NotFile
	}
	if err != nil {
		return fail(err)
	}
	file, err := root.Open(rel)
	if err != nil {
		return fail(err)
	}
	defer file.Close()
	if info, err = file.Stat(); err == nil && (!info.Mode().IsRegular() || info.Mode().Perm()&^mode != 0) {
		err = fmt.Errorf("others can read it, or write it (chmod %o): %w", mode, problem.Refused)
	}
	if err != nil {
		return fail(err)
	}
	text, err := io.ReadAll(io.LimitReader(file, maxFile+1))
	if err == nil && len(text) > maxFile {
		err = problem.TooLarge
	}
	return text, errors.Join(err)
}
