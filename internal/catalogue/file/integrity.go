package file

import (
	"context"
	"io"
	"io/fs"
	"time"

	"modernc.org/sqlite/vfs"
)

// CheckDatabase runs SQLite's own integrity check on size bytes of a database that is not the catalogue's, without a file of its
// own, a journal, or more than some memory. The verdict is "ok" or the first thing that is wrong, which may be that it is no
// database at all, or one that takes too much to be checked.
func CheckDatabase(ctx context.Context, content io.ReaderAt, size int64) (verdict string, err error) {
	name, files, err := vfs.New(oneFile{content, size})
	if err != nil {
		return "", err
	}
	db, err := openWith(
		"file:" + onlyName + "?vfs=" + name +
			"&mode=ro&immutable=1&_pragma=trusted_schema(0)&_pragma=temp_store(MEMORY)&_pragma=cache_size(-2000)" +
			"&_pragma=hard_heap_limit(25165824)&_pragma=cell_size_check(1)",
	)
	if err != nil {
		return "", err
	}
	db.SetMaxOpenConns(1)
	if err := db.QueryRowContext(ctx, "PRAGMA integrity_check(1)").Scan(&verdict); err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		verdict = err.Error()
	}
	if err := db.Close(); err != nil {
		return verdict, err
	}
	return verdict, files.Close()
}

// onlyName is what the database is called in a file system of which it is the only file.
const onlyName = "database"

// oneFile is such a file system.
type oneFile struct {
	content io.ReaderAt
	size    int64
}

func (f oneFile) Open(name string) (fs.File, error) {
	if name != onlyName {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return openFile{io.NewSectionReader(f.content, 0, f.size), f}, nil
}

type openFile struct {
	*io.SectionReader
	of oneFile
}

func (f openFile) Close() error               { return nil }
func (f openFile) Stat() (fs.FileInfo, error) { return f, nil }
func (f openFile) Name() string               { return onlyName }
func (f openFile) Mode() fs.FileMode          { return 0o400 }
func (f openFile) ModTime() time.Time         { return time.Time{} }
func (f openFile) IsDir() bool                { return false }
func (f openFile) Sys() any                   { return nil }
