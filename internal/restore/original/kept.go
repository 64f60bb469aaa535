package original

import (
	"context"
	"fmt"
	"io"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
)

// Safe keeps contents by their digests.
type Safe interface {
	// Put keeps what is read, and returns its digest in hex and how many bytes it has.
	Put(ctx context.Context, content io.Reader) (digest string, size int64, err error)
	// Get opens what has a digest; it wraps fs.ErrNotExist where nothing has.
	Get(digest string) (io.ReadCloser, error)
}

// Kept describes an entry in safekeeping, as JSON. Names and targets are bytes.
type Kept struct {
	Name    []byte     `json:"name"`
	Kind    entry.Type `json:"type"`
	About   reach.Meta `json:"meta"`
	Link    []byte     `json:"target,omitempty"`
	Digest  string     `json:"sha256,omitempty"`
	Size    int64      `json:"size"`
	Entries []Kept     `json:"entries,omitempty"`
}

// Keep puts an original with everything in it into safekeeping.
func Keep(ctx context.Context, safe Safe, o Original, name string) (Kept, error) {
	meta, err := o.Meta()
	if err != nil {
		return Kept{}, err
	}
	k := Kept{Name: []byte(name), Kind: o.Type(), About: meta}
	switch o.Type() {
	case entry.File:
		content, err := o.Content()
		if err != nil {
			return k, err
		}
		defer content.Close()
		k.Digest, k.Size, err = safe.Put(ctx, content)
		return k, err
	case entry.Link:
		k.Link = []byte(o.Target())
	case entry.Folder:
		children, done, err := o.Children()
		if err != nil {
			return k, err
		}
		defer done()
		for _, child := range children {
			e, err := Keep(ctx, safe, child.Original, child.Name)
			if err != nil {
				return k, err
			}
			k.Entries, k.Size = append(k.Entries, e), k.Size+e.Size
		}
	default:
		return k, fmt.Errorf("%s is a device, pipe or socket, which cannot be kept", place.Quote(name))
	}
	return k, nil
}

// Stands tells whether what stands somewhere has the same bytes or target, a folder just the same entries.
func (k Kept) Stands(now Standing) (bool, error) {
	if now.Type() != k.Kind {
		return false, nil
	}
	switch k.Kind {
	case entry.File:
		if now.Size() != k.Size {
			return false, nil
		}
		sum, err := contents.DigestAt(now.ctx, now.folder, now.info.Name)
		return sum.Hex() == k.Digest, err
	case entry.Link:
		return now.Target() == string(k.Link), nil
	}
	folder, err := now.folder.Enter(now.ctx, now.info.Name)
	if err != nil {
		return false, err
	}
	defer folder.Close()
	list, err := folder.List(now.ctx)
	if err != nil || len(list) != len(k.Entries) {
		return false, err
	}
	infos := make(map[string]reach.Info, len(list))
	for _, info := range list {
		infos[info.Name] = info
	}
	for _, e := range k.Entries {
		info, there := infos[string(e.Name)]
		if !there {
			return false, nil
		}
		if same, err := e.Stands(Standing{now.ctx, folder, info}); err != nil || !same {
			return false, err
		}
	}
	return true, nil
}

// From is what was kept, to be written again.
func (k Kept) From(safe Safe) Original { return keptOriginal{k, safe} }

type keptOriginal struct {
	k    Kept
	safe Safe
}

func (o keptOriginal) Type() entry.Type                { return o.k.Kind }
func (o keptOriginal) Size() int64                     { return o.k.Size }
func (o keptOriginal) Meta() (reach.Meta, error)       { return o.k.About, nil }
func (o keptOriginal) Target() string                  { return string(o.k.Link) }
func (o keptOriginal) Content() (io.ReadCloser, error) { return o.safe.Get(o.k.Digest) }

func (o keptOriginal) Children() ([]Named, func(), error) {
	children := make([]Named, len(o.k.Entries))
	for n, e := range o.k.Entries {
		children[n] = Named{string(e.Name), keptOriginal{e, o.safe}}
	}
	return children, func() {}, nil
}
