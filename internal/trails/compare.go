package trails

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/core/compare"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/site"
	"humble-rewind/internal/source"
)

// ErrNothingStands says that there is nothing at a place to compare with.
var ErrNothingStands = errors.New("nothing stands there now")

// Compare compares two open contents, each with its name.
func (r *Reader) Compare(ctx context.Context, leftName string, left source.Content,
	rightName string, right source.Content) (compare.Comparison, error) {
	switch {
	case left.File != nil && right.File != nil:
		return r.Apart.Compare(ctx, apart.Content{Name: leftName, ReaderAt: left.File, Size: left.Info.Size},
			apart.Content{Name: rightName, ReaderAt: right.File, Size: right.Info.Size})
	case left.Folder != nil && right.Folder != nil:
		a, err := list(ctx, left.Folder)
		if err != nil {
			return compare.Comparison{}, err
		}
		b, err := list(ctx, right.Folder)
		return compare.OfListings(a, b), err
	case left.Info.Type == plan.Link && right.Info.Type == plan.Link:
		if left.Target == right.Target {
			return compare.Comparison{By: compare.Nothing, Differs: -1, Summary: "Both point to the same place."}, nil
		}
		return compare.Comparison{By: compare.Bytes, Differs: -1,
			Summary: fmt.Sprintf("Links: the first points to %s, the second to %s.", place.Readable(left.Target), place.Readable(right.Target))}, nil
	}
	return compare.Comparison{By: compare.Bytes, Differs: -1, Summary: fmt.Sprintf("The first is a %s, the second a %s.", left.Info.Type, right.Info.Type)}, nil
}

// Standing opens what stands at a place now.
func (r *Reader) Standing(ctx context.Context, p place.Place) (source.Content, error) {
	files, err := r.Site.Files(ctx, p.Machine)
	if err != nil {
		return source.Content{}, err
	}
	folder, name, err := reach.Parent(ctx, files, p.Path)
	if err == nil {
		defer folder.Close()
		var c source.Content
		if c, err = source.OpenContent(folder, name); err == nil {
			return c, nil
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		return source.Content{}, &site.InputError{What: fmt.Sprintf("compare with %s", p), Err: ErrNothingStands, Next: "Peek at the copy instead, or compare it with another copy."}
	}
	return source.Content{}, err
}

// maxListed bounds how many entries of a folder are compared.
const maxListed = 20_000

// list describes everything in a folder by relative paths.
func list(ctx context.Context, folder reach.Reader) (map[string]compare.Listed, error) {
	all := map[string]compare.Listed{}
	var walk func(folder reach.Reader, dir string) error
	walk = func(folder reach.Reader, dir string) error {
		entries, err := folder.List(ctx)
		if err != nil {
			return err
		}
		for _, e := range entries {
			path := dir + e.Name
			if len(all) == maxListed {
				return nil
			}
			if e.Type != plan.Folder {
				all[path] = compare.Listed{Size: e.Size, Mark: string(e.Type) + e.Written.String()}
				continue
			}
			all[path+"/"] = compare.Listed{Mark: string(e.Type)}
			sub, err := folder.Enter(e.Name)
			if err != nil {
				continue // it is named, though what is in it cannot be
			}
			err = walk(sub, path+"/")
			sub.Close()
			if err != nil {
				return err
			}
		}
		return nil
	}
	return all, walk(folder, "")
}
