package disk

import "strings"

// A folder that a file system tells of may lie as deep, and be called as long, as whoever wrote it liked.
const (
	MostPath    = 4096      // bytes of the path of a folder
	MostFolders = 1_000_000 // that are walked
)

// Clean makes a name one that can be a file's: what no name may hold is "_".
func Clean(name string) string {
	name = strings.Map(func(r rune) rune {
		if r == '/' || r == 0 {
			return '_'
		}
		return r
	}, name)
	if name == "." || name == ".." {
		return strings.ReplaceAll(name, ".", "_")
	}
	return name
}

// Join is the path of a folder in another.
func Join(dir, name string) string {
	if dir == "/" {
		return "/" + name
	}
	return dir + "/" + name
}
