package userdirs_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/userdirs"
)

func TestFoldersAreReadAsTheFileSays(t *testing.T) {
	text := `# This file is written by the desktop
XDG_DESKTOP_DIR="$HOME/Desktop"
  XDG_DOCUMENTS_DIR="/data/ines/My \"papers\""
XDG_MUSIC_DIR="$HOME/"
XDG_PICTURES_DIR=$HOME/Pictures
XDG_VIDEOS_DIR="$HOME/../elsewhere"
OTHER="x"
XDG__DIR="/x"
`
	assert.Equal(
		t,
		map[string]string{"DESKTOP": "/home/ines/Desktop", "DOCUMENTS": `/data/ines/My "papers"`},
		userdirs.Parse([]byte(text), "/home/ines"),
		"a folder that is the home itself is switched off; what is not quoted or climbs is not believed",
	)
	assert.Equal(t, "/home/ines/Documents", userdirs.Usual("DOCUMENTS", "/home/ines"))
	assert.Empty(t, userdirs.Usual("ATTIC", "/home/ines"))
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("XDG_DOCUMENTS_DIR=\"$HOME/Documents\"\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		for key, path := range userdirs.Parse(text, "/home/ines") {
			if clean, err := place.Clean(path); err != nil || clean != path || key == "" {
				t.Fatalf("%q is %q", key, path)
			}
		}
	})
}
