package archive

import (
	"context"
	"errors"
	"io"
	"strings"

	"humble-rewind/internal/core/archived"
)

// format is a format by how names of such archives end, in lower case.
type format struct {
	ends   []string
	read   func(*opened, context.Context) error
	locks  bool   // its members may be encrypted
	packed string // as which one stream, see source.Unpacker; "" of what is not
}

var formats = []format{
	{ends: []string{".zip"}, read: (*opened).readZip, locks: true},
	{ends: []string{".tar"}, read: (*opened).readTar},
	{ends: []string{".tar.gz", ".tgz"}, read: (*opened).readTar, packed: "gzip"},
	{ends: []string{".tar.bz2", ".tbz2", ".tbz"}, read: (*opened).readTar, packed: "bzip2"},
	{ends: []string{".tar.xz", ".txz"}, read: (*opened).readTar, packed: "xz"},
	{ends: []string{".tar.zst", ".tzst"}, read: (*opened).readTar, packed: "zstd"},
}

// ending is how the names of archives that are read end, for people.
const ending = ".zip, .tar, .tar.gz, .tar.bz2, .tar.xz or .tar.zst"

// formatOf returns the format of an archive by its name, and the name without what says so; nil where it is no archive that is read.
func formatOf(name string) (f *format, stem string) {
	lower := strings.ToLower(name)
	for i := range formats {
		for _, end := range formats[i].ends {
			if strings.HasSuffix(lower, end) && len(name) > len(end) {
				return &formats[i], name[:len(name)-len(end)]
			}
		}
	}
	return nil, ""
}

// start begins to read the archive, unpacked where it is packed as one stream.
func (o *opened) start(ctx context.Context) (io.ReadCloser, error) {
	s, err := o.from.Stream(ctx)
	if err != nil || o.format.packed == "" {
		return s, err
	}
	u, err := o.unpacker.Unpack(ctx, o.format.packed, s)
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return &unpacked{u, s, o.mostUnpacked()}, nil
}

// mostUnpacked is how many bytes the archive may unpack to.
func (o *opened) mostUnpacked() int64 { return o.file.size*archived.PackedBy + archived.PackedFew }

// unpacked is what comes out of a packed stream.
type unpacked struct {
	io.ReadCloser
	packed io.Closer
	left   int64 // bytes that may still come
}

func (u *unpacked) Read(p []byte) (int, error) {
	if u.left <= 0 {
		return 0, archived.ErrBomb
	}
	n, err := u.ReadCloser.Read(p)
	u.left -= int64(n)
	return n, err
}

func (u *unpacked) Close() error {
	_ = u.ReadCloser.Close() // nothing was written
	return u.packed.Close()
}
