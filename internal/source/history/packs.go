package history

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"strings"

	"humble-rewind/internal/reach"
)

// The form of packs and their indexes, gitformat-pack(5): a pack begins with its mark, version and count and ends with a checksum; an index
// of version 2 begins with its mark, version and 256 counts, of which the last is that of all, and ends with the pack's checksum and its
// own.
const (
	packHead   = 12
	indexHead  = 8 + 256*4
	indexMark  = "\xfftOc\x00\x00\x00\x02"
	perIndexed = 24 // bytes, at the least, for each object: its name and checksum beside the count
)

// soundPacks leaves out packs whose head, end and index do not belong together, before anything of them is copied, and counts the objects
// that the others hold against the budget.
func soundPacks(ctx context.Context, from reach.Tree, names []string, have map[string]bool, left *budget) ([]string, error) {
	var sound []string
	for _, name := range names {
		stem, isPack := strings.CutSuffix(name, ".pack")
		if !isPack {
			continue
		}
		objects, ok, err := soundPack(ctx, from, stem)
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		if left.objects -= objects; left.objects < 0 {
			return nil, errTooMany
		}
		sound = append(sound, stem+".idx", name)
	}
	return sound, nil
}

// soundPack tells how many objects a pack says that it holds, and whether its index says the same. Where the way cannot read at any offset
// only the heads are looked at.
func soundPack(ctx context.Context, from reach.Tree, stem string) (objects int64, ok bool, err error) {
	index, indexSize, indexEnd, err := ends(ctx, from, stem+".idx", indexHead)
	if err != nil || len(index) < indexHead {
		return 0, false, gone(err)
	}
	pack, _, packEnd, err := ends(ctx, from, stem+".pack", packHead)
	if err != nil || len(pack) < packHead {
		return 0, false, gone(err)
	}
	if string(pack[:4]) != "PACK" || string(index[:8]) != indexMark {
		// An index of version 1 has no mark: 256 counts come first.
		if string(pack[:4]) != "PACK" || bytes.HasPrefix(index, []byte(indexMark[:4])) {
			return 0, false, nil
		}
		index = append([]byte(indexMark), index...)
	}
	objects = int64(binary.BigEndian.Uint32(index[indexHead-4:]))
	if objects != int64(binary.BigEndian.Uint32(pack[8:])) || indexSize >= 0 && indexSize < objects*perIndexed {
		return 0, false, nil
	}
	if packEnd == nil || indexEnd == nil {
		return objects, true, nil
	}
	const sum = 20
	return objects, bytes.Equal(packEnd[len(packEnd)-sum:], indexEnd[len(indexEnd)-2*sum:len(indexEnd)-sum]) ||
		bytes.Equal(packEnd, indexEnd[:len(packEnd)]), nil
}

// ends reads the head of a file and, where the way can, its last bytes: two checksums of an index, one of a pack.
func ends(ctx context.Context, from reach.Tree, name string, head int64) (begin []byte, size int64, end []byte, err error) {
	f, err := from.Open(ctx, name)
	if err != nil {
		return nil, 0, nil, err
	}
	defer f.Close()
	info, err := f.Info(ctx)
	if err != nil {
		return nil, 0, nil, err
	}
	s, err := f.Stream(ctx)
	if err != nil {
		return nil, 0, nil, err
	}
	begin, err = io.ReadAll(io.LimitReader(s, head))
	if err = errors.Join(err, s.Close()); err != nil {
		return nil, 0, nil, err
	}
	if at, ok := f.(io.ReaderAt); ok && info.Size >= head+64 {
		end = make([]byte, 64)
		if _, err := at.ReadAt(end, info.Size-64); err != nil {
			return nil, 0, nil, err
		}
		if strings.HasSuffix(name, ".pack") {
			end = end[32:] // of either length: the last 32 bytes, of which 20 may be the checksum
		}
	}
	return begin, info.Size, end, nil
}

// gone is the error for what vanished meanwhile, and none for what cannot be read: that pack is left out.
func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
