package contents

import (
	"context"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/core/compare"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// Compare compares two open contents, each with its name.
func (r *Reader) Compare(ctx context.Context, leftName string, left source.Opened,
	rightName string, right source.Opened) (compare.Comparison, error) {
	switch {
	case left.File != nil && right.File != nil:
		var c compare.Comparison
		err := r.named(ctx, leftName, left, func(left apart.Input) error {
			return r.named(ctx, rightName, right, func(right apart.Input) (err error) {
				c, err = r.Apart.Compare(ctx, left, right)
				return err
			})
		})
		return c, err
	case left.Folder != nil && right.Folder != nil:
		a, err := list(ctx, left.Folder)
		if err != nil {
			return compare.Comparison{}, err
		}
		b, err := list(ctx, right.Folder)
		return compare.OfListings(a, b), err
	case left.Info.Type == entry.Link && right.Info.Type == entry.Link:
		if left.Target == right.Target {
			return compare.Comparison{By: compare.Nothing, Differs: -1, Summary: remark.New("same-target")}, nil
		}
		return compare.Comparison{By: compare.Bytes, Differs: -1,
			Summary: remark.New("other-target", "first", place.Readable(left.Target), "second", place.Readable(right.Target))}, nil
	}
	return compare.Comparison{
		By:      compare.Bytes,
		Differs: -1,
		Summary: remark.New("other-entry", "first", left.Info.Type, "second", right.Info.Type),
	}, nil
}

// maxListed bounds how many entries of a folder are compared.
const maxListed = 20_000

// list describes everything in a folder by relative paths.
func list(ctx context.Context, folder reach.Tree) (map[string]compare.Listed, error) {
	all := map[string]compare.Listed{}
	var walk func(folder reach.Tree, dir string) error
	walk = func(folder reach.Tree, dir string) error {
		entries, err := folder.List(ctx)
		if err != nil {
			return err
		}
		for _, e := range entries {
			path := dir + e.Name
			if len(all) == maxListed {
				return nil
			}
			if e.Type != entry.Folder {
				all[path] = compare.Listed{Size: e.Size, Mark: string(e.Type) + e.Written.String()}
				continue
			}
			all[path+"/"] = compare.Listed{Mark: string(e.Type)}
			sub, err := folder.Enter(ctx, e.Name)
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
