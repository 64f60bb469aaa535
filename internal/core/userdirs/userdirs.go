// Package userdirs reads the file user-dirs.dirs, in which desktops keep where a person's usual folders are: lines of
// the form XDG_NAME_DIR="$HOME/path" or XDG_NAME_DIR="/path", as its own head describes it. Other lines are passed over.
package userdirs

import (
	"strings"

	"humble-rewind/internal/core/place"
)

// Parse returns the folders by their keys, such as DOCUMENTS, as clean absolute paths.
func Parse(text []byte, home string) map[string]string {
	dirs := map[string]string{}
	for line := range strings.Lines(string(text)) {
		name, value, ok := strings.Cut(strings.TrimSpace(line), "=")
		key, isDir := strings.CutSuffix(name, "_DIR")
		key, isXDG := strings.CutPrefix(key, "XDG_")
		value, quoted := unquote(value)
		if !ok || !isDir || !isXDG || !quoted || key == "" {
			continue
		}
		if rest, inHome := strings.CutPrefix(value, "$HOME"); inHome {
			value = home + rest
		}
		if path, err := place.Clean(value); err == nil && path != home {
			dirs[key] = path
		}
	}
	return dirs
}

// unquote takes off double quotes and the backslashes that a shell would.
func unquote(text string) (string, bool) {
	if len(text) < 2 || text[0] != '"' || text[len(text)-1] != '"' {
		return "", false
	}
	var b strings.Builder
	escaped := false
	for _, c := range []byte(text[1 : len(text)-1]) {
		if c == '\\' && !escaped {
			escaped = true
			continue
		}
		b.WriteByte(c)
		escaped = false
	}
	return b.String(), true
}

var usual = map[string]string{
	"DESKTOP":     "Desktop",
	"DOCUMENTS":   "Documents",
	"DOWNLOAD":    "Downloads",
	"MUSIC":       "Music",
	"PICTURES":    "Pictures",
	"PUBLICSHARE": "Public",
	"TEMPLATES":   "Templates",
	"VIDEOS":      "Videos",
}

// Usual returns where a folder is unless the file says otherwise; "" for a key that has no such place.
func Usual(key, home string) string {
	if usual[key] == "" {
		return ""
	}
	return place.Join(home, usual[key])
}
