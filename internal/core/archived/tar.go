package archived

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"

	"humble-rewind/internal/core/entry"
)

// Tar tells the members of a tar. Where it can be sought in, contents are passed over. One that ends in the middle is read as far as it goes.
func Tar(ctx context.Context, from io.Reader, each func(Head) error) (told Told, err error) {
	counted := &counting{r: from}
	var of io.Reader = counted
	seeker, seeks := from.(io.Seeker)
	if seeks {
		of = from
	}
	r := tar.NewReader(of)
	for members := 0; ; members++ {
		if ctx.Err() != nil {
			return told, ctx.Err()
		}
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil && !errors.Is(err, tar.ErrInsecurePath) {
			if ctx.Err() != nil {
				return told, ctx.Err()
			}
			if members == 0 {
				return told, fmt.Errorf("%w (%w)", ErrDamaged, err)
			}
			told.Why = err.Error()
			break
		}
		at := counted.n
		if seeks {
			at, _ = seeker.Seek(0, io.SeekCurrent) // which asks for nothing
		}
		if err := each(headOf(h, at)); err != nil {
			return told, err
		}
	}
	told.Length = counted.n
	return told, nil
}

func headOf(h *tar.Header, at int64) Head {
	m := Head{Name: h.Name, Size: h.Size, Written: entry.At(h.ModTime), Zoned: true, At: at}
	switch h.Typeflag {
	case tar.TypeReg, '\x00':
		m.Kind = File
		if h.PAXRecords["GNU.sparse.major"] != "" || h.PAXRecords["GNU.sparse.map"] != "" || h.PAXRecords["GNU.sparse.numblocks"] != "" {
			m.Kind = Holes
		}
	case tar.TypeDir:
		m.Kind, m.Size = Folder, 0
	case tar.TypeSymlink:
		m.Kind, m.Size, m.Target = Link, 0, h.Linkname
	case tar.TypeLink:
		m.Kind = Second
	case tar.TypeXGlobalHeader:
		m.Kind = None
	case tar.TypeGNUSparse:
		m.Kind, m.Size = Holes, -1
	default:
		m.Kind = Device
	}
	return m
}

// counting counts what was read.
type counting struct {
	r io.Reader
	n int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}
