// Package kinds is where the ways to machines and the kinds of stores are registered: for the program, for the tests and for the
// corpus. A new one is its own package and one line here.
package kinds

import (
	"fmt"
	"path/filepath"

	"humble-rewind/internal/core/stray"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/dav"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/source"
	"humble-rewind/internal/source/archive"
	"humble-rewind/internal/source/cloud"
	"humble-rewind/internal/source/history"
	"humble-rewind/internal/source/image"
	"humble-rewind/internal/source/live"
	"humble-rewind/internal/source/snapshots"
	"humble-rewind/internal/source/strays"
	"humble-rewind/internal/source/trash"
)

// Ways are the ways to machines. What drives answer is read by answers. The private directories are the service's own data, which is nobody's files.
func Ways(answers dav.Answers, private ...string) reach.Ways {
	return append(reach.Ways{
		local.Way(private...),
	}, dav.Ways(nil, answers)...)
}

// SecretsFolder is the folder in the service's data in which addresses may name files.
const SecretsFolder = "secrets"

// Serving are the ways of a service with its data folder: an address may name files only in the folder for secrets there, in
// /etc/humble-rewind, and in those that root names besides.
func Serving(answers dav.Answers, dir string, secrets ...string) (reach.Ways, error) {
	files := dav.Files{filepath.Join(dir, SecretsFolder), "/etc/humble-rewind"}
	for _, folder := range append([]string{dir}, secrets...) {
		if !filepath.IsAbs(folder) {
			return nil, fmt.Errorf("the folder %q is not given by its absolute path", folder)
		}
	}
	files = append(files, secrets...)
	return append(reach.Ways{local.Way(dir)}, dav.Ways(files, answers)...), nil
}

// All are the kinds of stores, in the order in which technicians look for copies.
func All(rules stray.Rules) source.Kinds {
	return source.Kinds{
		live.Kind,
		trash.Kind,
		snapshots.Kind,
		history.Kind,
		cloud.Kind,
		archive.Kind,
		image.Standing,
		strays.Kind(rules),
		image.Erased,
	}
}

// Leftovers are the rules that tell leftovers of programs which come with the program, and their text, to be extended.
func Leftovers() (stray.Rules, string) { return strays.Default, strays.DefaultText }
