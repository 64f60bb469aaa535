package history

import (
	"context"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
)

// maxVouch is how many folders and files of a repository are asked about; of one with more nothing is believed.
const maxVouch = 5000

// Vouches names all that says what was when in the repository: whoever may write an object can have one found, whoever may write a name
// can move the line.
func (s *store) Vouches(ctx context.Context, _ sighting.Locator) []string {
	s.vouching.Lock()
	defer s.vouching.Unlock()
	if s.vouch != nil {
		return s.vouch
	}
	r, err := find(ctx, s.Setup)
	if err != nil {
		return []string{place.Join(s.At, ".git"), s.At} // the first may not be there; then nothing is believed
	}
	defer r.Close()
	all, ok := r.vouches(ctx)
	if !ok {
		return []string{place.Join(r.path, "objects/"+noObject)} // which is not there
	}
	s.vouch = all
	return all
}

func (r *repository) vouches(ctx context.Context) ([]string, bool) {
	all := append([]string{}, r.vouch...)
	var below func(path string, depth int) bool
	below = func(path string, depth int) bool {
		info, err := reach.Look(ctx, r.files, path)
		if err != nil {
			return true // not there
		}
		if all = append(all, path); info.Type != entry.Folder || depth == 0 {
			return len(all) < maxVouch
		}
		folder, err := r.files.Tree(ctx, path)
		if err != nil {
			return false
		}
		entries, err := folder.List(ctx)
		folder.Close()
		if err != nil {
			return false
		}
		for _, e := range entries {
			if in := place.Join(path, e.Name); e.Type == entry.Folder && !below(in, depth-1) ||
				e.Type == entry.File && depth > 1 && !take(&all, in) {
				return false
			}
		}
		return true
	}
	for _, in := range []string{r.own, r.path} {
		for _, name := range [...]string{"HEAD", "index", "packed-refs", "logs", "shallow"} {
			if !below(place.Join(in, name), 0) {
				return nil, false
			}
		}
		if !below(place.Join(in, "objects"), 1) || !below(place.Join(in, "refs"), maxRefDepth) {
			return nil, false
		}
	}
	return all, true
}

func take(all *[]string, path string) bool {
	*all = append(*all, path)
	return len(*all) < maxVouch
}

// maxRefDepth is how deep names of commits lie in folders.
const maxRefDepth = 20

// noObject is the name of no object.
const noObject = "0000000000000000000000000000000000000000"
