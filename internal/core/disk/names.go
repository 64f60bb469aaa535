package disk

import "strings"

// MostPath is how long the path of a folder may be, in bytes: whoever wrote it could make it as long as he liked.
const MostPath = 4096

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
