package past

import (
	"context"
	"fmt"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sealed"
)

// How far above a file, and at how many of a folder's names, is looked for what makes a folder one that only makes sense whole.
const (
	maxAbove    = 8
	maxNeighbor = 400
)

// SealedAbove finds the folder above a place that only makes sense whole, and says why; "" where there is none.
func (r *Reader) SealedAbove(ctx context.Context, p place.Place) (folder, why string, err error) {
	above := foldersAbove(p.Path)
	if folder, why, err = r.marked(ctx, p.Machine, above); why != "" || err != nil || len(above) == 0 || !sealed.Meaningless(p.Name()) {
		return folder, why, err
	}
	if why, err = r.nameless(ctx, place.Place{Machine: p.Machine, Path: above[0]}); why == "" {
		return "", "", err
	}
	return above[0], why, err
}

// foldersAbove are the folders in which a path lies, the innermost first.
func foldersAbove(path string) (above []string) {
	for dir := place.Folder(path); dir != "/" && len(above) < maxAbove; dir = place.Folder(dir) {
		above = append(above, dir)
	}
	return above
}

// SealedWith is SealedAbove for a folder, which may be the sealed one itself.
func (r *Reader) SealedWith(ctx context.Context, p place.Place) (folder, why string, err error) {
	if folder, why, err = r.marked(ctx, p.Machine, append([]string{p.Path}, foldersAbove(p.Path)...)); why != "" || err != nil {
		return folder, why, err
	}
	if why, err = r.nameless(ctx, p); why == "" {
		return "", "", err
	}
	return p.Path, why, err
}

// SealedAt says why a folder only makes sense whole; "" where nothing says that it does.
func (r *Reader) SealedAt(ctx context.Context, p place.Place) (string, error) {
	_, why, err := r.marked(ctx, p.Machine, []string{p.Path})
	if why != "" || err != nil {
		return why, err
	}
	return r.nameless(ctx, p)
}

// marked finds the first of some folders in which the programs that write sealed folders have left their marks.
func (r *Reader) marked(ctx context.Context, machine string, folders []string) (folder, why string, err error) {
	found, err := r.View.Copies.NamedIn(ctx, machine, folders, sealed.Marks())
	if err != nil {
		return "", "", err
	}
	top := map[string]map[string]bool{}
	for _, f := range found {
		dir := place.Folder(f)
		if top[dir] == nil {
			top[dir] = map[string]bool{}
		}
		top[dir][place.Name(f)] = true
	}
	for _, dir := range folders {
		if why := sealed.Marked(top[dir]); why != "" {
			return dir, why, nil
		}
	}
	return "", "", nil
}

// nameless tells a folder by the names of what is directly in it.
func (r *Reader) nameless(ctx context.Context, p place.Place) (string, error) {
	met := map[string]bool{}
	var names []string
	for one, err := range r.View.Copies.In(ctx, p, "") {
		if err != nil {
			return "", err
		}
		if name := one.Place.Name(); !met[name] {
			met[name] = true
			if names = append(names, name); len(names) == maxNeighbor {
				break
			}
		}
	}
	return sealed.Of(names), nil
}

// ErrSealed says that something only makes sense with all that is in its folder.
type ErrSealed struct {
	Folder place.Place
	Why    string
}

func (e *ErrSealed) Error() string {
	return fmt.Sprintf("it lies in %s, which is %s; a single file of it does not fit what stands beside it. Bring the folder back "+
		"whole, as of a moment", e.Folder, e.Why)
}
