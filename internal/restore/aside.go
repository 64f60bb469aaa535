package restore

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/safekeeping"
)

// aside is what was set aside: its contents and its description are in safekeeping.
type aside struct {
	Manifest string     `json:"manifest"` // the digest of the description, a kept
	Was      identity   `json:"was"`
	Type     entry.Type `json:"type"`
	Size     int64      `json:"size"`
	SHA256   string     `json:"sha256,omitempty"` // of a file, in hex
}

// kept describes an entry in safekeeping, as JSON. Names and targets are bytes.
type kept struct {
	Name    []byte     `json:"name"`
	Kind    entry.Type `json:"type"`
	About   reach.Meta `json:"meta"`
	Link    []byte     `json:"target,omitempty"`
	Digest  string     `json:"sha256,omitempty"`
	Size    int64      `json:"size"`
	Entries []kept     `json:"entries,omitempty"`
}

// keep puts an entry with everything in it into safekeeping. It is still in its place afterwards.
func (r *Restorer) keep(ctx context.Context, folder reach.Tree, name string) (aside, error) {
	s, err := standingAt(ctx, folder, name)
	if err != nil {
		return aside{}, err
	}
	if why := obstacle(ctx, folder, name); why != "" {
		return aside{}, errors.New(why)
	}
	was, err := identityAt(ctx, folder, name)
	if err != nil {
		return aside{}, err
	}
	k, err := r.keepEntry(ctx, s, name)
	if err != nil {
		return aside{}, fmt.Errorf("set %s aside: %w", place.Quote(name), err)
	}
	encoded, err := json.Marshal(k)
	if err != nil {
		return aside{}, err
	}
	manifest, _, err := r.Safe.Put(ctx, bytes.NewReader(encoded))
	return aside{Manifest: manifest, Was: was, Type: k.Kind, Size: k.Size, SHA256: k.Digest}, err
}

func (r *Restorer) keepEntry(ctx context.Context, o original, name string) (kept, error) {
	meta, err := o.Meta()
	if err != nil {
		return kept{}, err
	}
	k := kept{Name: []byte(name), Kind: o.Type(), About: meta}
	switch o.Type() {
	case entry.File:
		content, err := o.Content()
		if err != nil {
			return k, err
		}
		defer content.Close()
		k.Digest, k.Size, err = r.Safe.Put(ctx, content)
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
			e, err := r.keepEntry(ctx, child.original, child.name)
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

// kept returns what was set aside.
func (r *Restorer) kept(a aside) (original, error) {
	k, err := r.described(a)
	if err != nil {
		return nil, err
	}
	return keptOriginal{k, r.Safe}, nil
}

// described reads the description of what was set aside.
func (r *Restorer) described(a aside) (k kept, err error) {
	f, err := r.Safe.Get(a.Manifest)
	if err != nil {
		return k, err
	}
	defer f.Close()
	encoded, err := io.ReadAll(f)
	if err != nil {
		return k, err
	}
	return k, json.Unmarshal(encoded, &k)
}

// stands tells whether what stands somewhere has the same bytes or target, a folder just the same entries.
func (k kept) stands(now standing) (bool, error) {
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
		if same, err := e.stands(standing{now.ctx, folder, info}); err != nil || !same {
			return false, err
		}
	}
	return true, nil
}

type keptOriginal struct {
	k    kept
	safe *safekeeping.Store
}

func (o keptOriginal) Type() entry.Type                { return o.k.Kind }
func (o keptOriginal) Size() int64                     { return o.k.Size }
func (o keptOriginal) Meta() (reach.Meta, error)       { return o.k.About, nil }
func (o keptOriginal) Target() string                  { return string(o.k.Link) }
func (o keptOriginal) Content() (io.ReadCloser, error) { return o.safe.Get(o.k.Digest) }

func (o keptOriginal) Children() ([]named, func(), error) {
	children := make([]named, len(o.k.Entries))
	for n, e := range o.k.Entries {
		children[n] = named{string(e.Name), keptOriginal{e, o.safe}}
	}
	return children, func() {}, nil
}
