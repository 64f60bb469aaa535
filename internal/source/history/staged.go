package history

import (
	"bufio"
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
)

// takeIndex copies the index, in which git keeps what is to be committed next.
func (r *reading) takeIndex(ctx context.Context) (time.Time, error) {
	const maxIndex = 256 << 20
	info, err := reach.Look(ctx, r.repository.files, place.Join(r.repository.own, "index"))
	if err != nil || info.Size > maxIndex || r.repository.tree == "" {
		return time.Time{}, ctx.Err()
	}
	content, err := r.repository.read(ctx, "index", maxIndex)
	if err != nil {
		return time.Time{}, ctx.Err()
	}
	return info.Written, r.mirror.write("index", content)
}

// staged lists what was staged and is in none of the commits that were read, as far as keep says. An index that cannot be read holds nothing.
func (r *reading) staged(ctx context.Context, keep func(version) bool) (all []version, err error) {
	if r.index.IsZero() {
		return nil, nil
	}
	committed := map[recorded]bool{}
	for _, c := range r.commits {
		for _, ch := range c.changes {
			committed[recorded{ch.path, ch.blob}] = true
		}
	}
	var blobs []string
	err = r.mirror.run(ctx, nil, func(out *bufio.Reader) error {
		for {
			field, err := out.ReadString(0)
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return err
			}
			meta, path, ok := strings.Cut(strings.TrimSuffix(field, "\x00"), "\t")
			f := strings.Fields(meta)
			if !ok || len(f) != 3 || !isObject(f[1]) || f[0] == "160000" || f[0] == "120000" || len(all) > maxChanges {
				continue
			}
			if v := (version{path: path, blob: f[1]}); !committed[recorded{v.path, v.blob}] && keep(v) {
				all = append(all, v)
				blobs = append(blobs, v.blob)
			}
		}
	}, "ls-files", "--stage", "-z")
	var broken *gitError
	if errors.As(err, &broken) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	known, err := r.look(ctx, blobs)
	return slices.DeleteFunc(all, func(v version) bool { _, there := known[v.blob]; return !there }), err
}
