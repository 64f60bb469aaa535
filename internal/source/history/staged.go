package history

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"humble-rewind/internal/core/refs"
	"io"
	"slices"
	"strings"
	"time"
)

// takeIndex copies the index, in which git keeps what is to be committed next: as it comes, and only where it may hold as many entries as
// it says.
func (r *survey) takeIndex(ctx context.Context) (time.Time, error) {
	const (
		maxIndex  = 64 << 20
		head      = 12 // a mark, a version, and how many entries there are, gitformat-index(5)
		leastEach = 62 // bytes of an entry
	)
	if r.repository.tree == "" {
		return time.Time{}, nil
	}
	folder, err := r.repository.files.Tree(ctx, r.repository.own)
	if err != nil {
		return time.Time{}, ctx.Err()
	}
	defer folder.Close()
	f, err := folder.Open(ctx, "index")
	if err != nil {
		return time.Time{}, ctx.Err()
	}
	defer f.Close()
	info, err := f.Info(ctx)
	if err != nil || info.Size < head || info.Size > maxIndex {
		return time.Time{}, ctx.Err()
	}
	s, err := f.Stream(ctx)
	if err != nil {
		return time.Time{}, ctx.Err()
	}
	defer s.Close()
	begin := make([]byte, head)
	if _, err := io.ReadFull(s, begin); err != nil || string(begin[:4]) != "DIRC" ||
		int64(binary.BigEndian.Uint32(begin[8:]))*leastEach > info.Size || binary.BigEndian.Uint32(begin[8:]) > maxEntries {
		return time.Time{}, ctx.Err()
	}
	_, err = r.mirror.write("index", io.LimitReader(io.MultiReader(bytes.NewReader(begin), s), info.Size))
	return info.Written, err
}

// staged lists what was staged and is in none of the commits that were read, as far as keep says. An index that cannot be read holds nothing.
func (r *survey) staged(ctx context.Context, keep func(version) bool) (all []version, err error) {
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
			line, err := field(out, 0)
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return err
			}
			meta, path, ok := strings.Cut(string(line), "\t")
			f := strings.Fields(meta)
			if !ok || len(f) != 3 || !refs.IsObject(f[1]) || f[0] == "160000" || f[0] == "120000" || len(all) > maxNameless {
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
