// Package clouddrive is a small cloud drive for a single folder of files: WebDAV (RFC 4918, by golang.org/x/net/webdav) with versions
// (the version-tree report of RFC 3253), changes since a token (RFC 6578), quotas (RFC 4331), and a trash of its own that is shown by the
// extension described in docs/drive-trash.md. It stands in for outside clouds in the demo and in tests, and can be used by itself.
//
// What it holds lies on disk and survives a restart:
//
//	files/         the files as they are now
//	kept/          former contents, and what is in the trash, by number
//	drive.sqlite   versions, trash, changes, and who may sign in
//
// Writing a file keeps the content before as a version. Every change is one step under one lock: this is a drive for an office.
package clouddrive

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"
)

// Drive is a cloud drive in a folder. It is safe for concurrent use.
type Drive struct {
	// Now is the clock; nil: time.Now.
	Now func() time.Time
	// Quota is how many bytes the files may take; 0: any number.
	Quota int64
	// TrashDays is how long the trash keeps what was removed; 0: for ever.
	TrashDays int

	dir string
	db  *sql.DB
	mu  sync.Mutex

	guesses  guesses
	admitted sync.Map // of what was found right lately, when to look again
}

// admission is a sign-in that was found right.
type admission struct {
	who   string
	until time.Time
}

const schema = `
CREATE TABLE IF NOT EXISTS users (name TEXT NOT NULL, salt BLOB NOT NULL, hash BLOB NOT NULL, expires INTEGER, UNIQUE (name, hash));
CREATE TABLE IF NOT EXISTS versions (id INTEGER PRIMARY KEY, path TEXT NOT NULL, n INTEGER NOT NULL, at INTEGER NOT NULL,
	size INTEGER NOT NULL, author TEXT NOT NULL, comment TEXT NOT NULL, kept INTEGER, UNIQUE (path, n));
CREATE TABLE IF NOT EXISTS usage (bytes INTEGER NOT NULL); -- all versions, so that no change has to add them up
INSERT INTO usage SELECT (SELECT coalesce(sum(size), 0) FROM versions) WHERE NOT EXISTS (SELECT 1 FROM usage);
CREATE TRIGGER IF NOT EXISTS more AFTER INSERT ON versions BEGIN UPDATE usage SET bytes = bytes + new.size; END;
CREATE TRIGGER IF NOT EXISTS less AFTER DELETE ON versions BEGIN UPDATE usage SET bytes = bytes - old.size; END;
CREATE TABLE IF NOT EXISTS trash (id INTEGER PRIMARY KEY, path TEXT NOT NULL, at INTEGER NOT NULL, by TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS binned (id INTEGER PRIMARY KEY, size INTEGER NOT NULL); -- bytes of what is in the trash
CREATE TABLE IF NOT EXISTS changes (seq INTEGER PRIMARY KEY AUTOINCREMENT, path TEXT NOT NULL UNIQUE, gone INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS identity (token TEXT NOT NULL);
`

// Open opens the drive in a folder, which is made where it is not there.
func Open(ctx context.Context, dir string) (*Drive, error) {
	for _, sub := range []string{"files", "kept"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
			return nil, err
		}
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "drive.sqlite")+
		"?_pragma=journal_mode(WAL)&_pragma=busy_timeout(10000)&_pragma=synchronous(NORMAL)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	d := &Drive{dir: dir, db: db, TrashDays: 30}
	if _, err := db.ExecContext(ctx, schema); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	var known int
	err = db.QueryRowContext(ctx, "SELECT count(*) FROM identity").Scan(&known)
	if err == nil && known == 0 {
		_, err = db.ExecContext(ctx, "INSERT INTO identity VALUES (?)", random())
	}
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return d, nil
}

// Close closes the records.
func (d *Drive) Close() error { return d.db.Close() }

func (d *Drive) now() time.Time {
	if d.Now == nil {
		return time.Now()
	}
	return d.Now()
}

func random() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // which never fails
	return hex.EncodeToString(b[:])
}

// file is where a path's present content lies on disk.
func (d *Drive) file(name string) string {
	return filepath.Join(d.dir, "files", filepath.FromSlash(clean(name)))
}

func (d *Drive) kept(id int64) string { return filepath.Join(d.dir, "kept", strconv.FormatInt(id, 10)) }

func clean(name string) string { return path.Clean("/" + name) }

// plain tells whether no link stands on the way to a path: one that somebody put into the drive's folder leads nowhere.
func (d *Drive) plain(name string) bool {
	at := filepath.Join(d.dir, "files")
	for part := range strings.SplitSeq(strings.Trim(clean(name), "/"), "/") {
		at = filepath.Join(at, part)
		if info, err := os.Lstat(at); err == nil && info.Mode()&fs.ModeSymlink != 0 {
			return false
		}
	}
	return true
}

// version is a row of the versions; kept is 0 of the one that stands.
type version struct {
	id, n, size int64
	at          time.Time
	author      string
	comment     string
	kept        int64
}

// tag is its entity tag.
func (v version) tag() string { return fmt.Sprintf(`"v%d-%d"`, v.id, v.size) }

// Errors of what is asked for.
var (
	errPrecondition = errors.New("what is there is something else")
	errNotFound     = errors.New("it is not there")
	errNoParent     = errors.New("the folder that it is to lie in is not there")
	errTaken        = errors.New("something stands there")
	errFull         = errors.New("the quota is used up")
)

// versions lists those of a path, oldest first.
func (d *Drive) versions(ctx context.Context, name string) (all []version, err error) {
	rows, err := d.db.QueryContext(ctx, "SELECT id, n, at, size, author, comment, coalesce(kept, 0) FROM versions WHERE path = ? ORDER BY n",
		clean(name))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var v version
		var at int64
		if err := rows.Scan(&v.id, &v.n, &at, &v.size, &v.author, &v.comment, &v.kept); err != nil {
			return nil, err
		}
		v.at = time.Unix(0, at).UTC()
		all = append(all, v)
	}
	return all, rows.Err()
}

// current is the version that stands; false where none does.
func (d *Drive) current(ctx context.Context, name string) (version, bool, error) {
	all, err := d.versions(ctx, name)
	if err != nil || len(all) == 0 || all[len(all)-1].kept != 0 {
		return version{}, false, err
	}
	return all[len(all)-1], true, nil
}

// Put writes a file as a new version; match is the tag of what must stand there: "" of anything, "*" of nothing.
func (d *Drive) Put(ctx context.Context, name string, content io.Reader, by, comment, match string) (tag string, created bool, err error) {
	name = clean(name)
	part, err := os.CreateTemp(filepath.Join(d.dir, "kept"), ".part-")
	if err != nil {
		return "", false, err
	}
	defer os.Remove(part.Name())
	if d.Quota > 0 { // no more is taken than there is room for
		used, err := d.used(ctx)
		if err != nil || used >= d.Quota {
			return "", false, errors.Join(err, errFull, part.Close())
		}
		content = io.LimitReader(content, d.Quota-used+1)
	}
	size, err := io.Copy(part, content)
	if err = errors.Join(err, part.Close()); err != nil {
		return "", false, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if info, err := os.Stat(filepath.Dir(d.file(name))); err != nil || !info.IsDir() {
		return "", false, errNoParent
	}
	if info, err := os.Stat(d.file(name)); err == nil && info.IsDir() {
		return "", false, errTaken
	}
	old, stands, err := d.current(ctx, name)
	if err != nil {
		return "", false, err
	}
	if match == "*" && stands || match != "" && match != "*" && (!stands || match != old.tag()) {
		return "", false, errPrecondition
	}
	if used, err := d.used(ctx); err != nil || d.Quota > 0 && used+size > d.Quota {
		return "", false, errors.Join(err, errFull)
	}
	at := d.now()
	if err := d.retire(ctx, name, old, stands); err != nil {
		return "", false, err
	}
	if err := os.Rename(part.Name(), d.file(name)); err != nil {
		return "", false, err
	}
	_ = os.Chtimes(d.file(name), at, at)
	id, err := d.record(ctx, name, at, size, by, comment)
	return version{id: id, size: size}.tag(), !stands, err
}

// retire keeps what stands as a former version. mu is held.
func (d *Drive) retire(ctx context.Context, name string, old version, stands bool) error {
	if !stands {
		return nil
	}
	if err := os.Rename(d.file(name), d.kept(old.id)); err != nil {
		return err
	}
	_, err := d.db.ExecContext(ctx, "UPDATE versions SET kept = id WHERE id = ?", old.id)
	return err
}

// record notes a new version. mu is held.
func (d *Drive) record(ctx context.Context, name string, at time.Time, size int64, by, comment string) (int64, error) {
	row, err := d.db.ExecContext(ctx, `INSERT INTO versions (path, n, at, size, author, comment)
		SELECT ?1, coalesce(max(n), 0) + 1, ?2, ?3, ?4, ?5 FROM versions WHERE path = ?1`, name, at.UnixNano(), size, by, comment)
	if err != nil {
		return 0, err
	}
	id, err := row.LastInsertId()
	return id, errors.Join(err, d.changed(ctx, name, false))
}

// changed notes that a path changed. mu is held.
func (d *Drive) changed(ctx context.Context, name string, gone bool) error {
	_, err := d.db.ExecContext(ctx, "INSERT OR REPLACE INTO changes (path, gone) VALUES (?, ?)", clean(name), gone)
	return err
}

// used is how many bytes all versions of all files have, and what is in the trash.
func (d *Drive) used(ctx context.Context) (n int64, err error) {
	since := int64(0)
	if d.TrashDays > 0 {
		since = d.now().AddDate(0, 0, -d.TrashDays).UnixNano()
	}
	err = d.db.QueryRowContext(ctx, "SELECT (SELECT bytes FROM usage) + coalesce((SELECT sum(size) FROM binned JOIN trash USING (id) "+
		"WHERE at > ?), 0)", since).Scan(&n)
	return n, err
}

// Mkdir makes a folder.
func (d *Drive) Mkdir(ctx context.Context, name string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	err := os.Mkdir(d.file(name), 0o700)
	switch {
	case errors.Is(err, fs.ErrExist):
		return errTaken
	case err != nil:
		return errNoParent
	}
	return d.changed(ctx, name, false)
}

// Remove moves a file or folder into the drive's trash, or does away with it.
func (d *Drive) Remove(ctx context.Context, name, by, match string, forGood bool) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.remove(ctx, clean(name), by, match, forGood)
}

// remove is Remove. mu is held.
func (d *Drive) remove(ctx context.Context, name, by, match string, forGood bool) error {
	info, err := os.Stat(d.file(name))
	if err != nil || name == "/" {
		return errNotFound
	}
	if match != "" && match != "*" {
		if v, stands, err := d.current(ctx, name); err != nil || !stands || v.tag() != match {
			return errors.Join(err, errPrecondition)
		}
	}
	if forGood {
		if err := os.RemoveAll(d.file(name)); err != nil {
			return err
		}
		_, err := d.db.ExecContext(ctx, "DELETE FROM versions WHERE kept IS NULL AND (path = ?1 OR substr(path, 1, length(?1) + 1) = ?1 || '/')", name)
		return errors.Join(err, d.changed(ctx, name, true))
	}
	row, err := d.db.ExecContext(ctx, "INSERT INTO trash (path, at, by) VALUES (?, ?, ?)", name, d.now().UnixNano(), by)
	if err != nil {
		return err
	}
	id, err := row.LastInsertId()
	if err != nil {
		return err
	}
	if err := os.Rename(d.file(name), d.binned(id)); err != nil {
		return err
	}
	_ = os.Chtimes(d.binned(id), info.ModTime(), info.ModTime())
	_, err = d.db.ExecContext(ctx, `INSERT INTO binned SELECT ?2, coalesce(sum(size), 0) FROM versions WHERE kept IS NULL AND
		(path = ?1 OR substr(path, 1, length(?1) + 1) = ?1 || '/')`, name, id)
	if err != nil {
		return err
	}
	// What stood is a former version now; its bytes are in the trash.
	_, err = d.db.ExecContext(ctx, "DELETE FROM versions WHERE kept IS NULL AND (path = ?1 OR substr(path, 1, length(?1) + 1) = ?1 || '/')", name)
	return errors.Join(err, d.changed(ctx, name, true))
}

// binned is where something in the trash lies on disk.
func (d *Drive) binned(id int64) string {
	return filepath.Join(d.dir, "kept", fmt.Sprintf("trash-%d", id))
}

// item is something in the trash.
type item struct {
	id   int64
	path string
	at   time.Time
	by   string
}

func (d *Drive) trash(ctx context.Context) (all []item, err error) {
	rows, err := d.db.QueryContext(ctx, "SELECT id, path, at, by FROM trash ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var i item
		var at int64
		if err := rows.Scan(&i.id, &i.path, &at, &i.by); err != nil {
			return nil, err
		}
		i.at = time.Unix(0, at).UTC()
		if exp := d.expires(i); exp.IsZero() || exp.After(d.now()) {
			all = append(all, i)
		}
	}
	return all, rows.Err()
}

func (d *Drive) expires(i item) time.Time {
	if d.TrashDays == 0 {
		return time.Time{}
	}
	return i.at.AddDate(0, 0, d.TrashDays)
}

// putBack moves something out of the trash to a path where nothing stands.
func (d *Drive) putBack(ctx context.Context, id int64, name, by string) error {
	name = clean(name)
	d.mu.Lock()
	defer d.mu.Unlock()
	if _, err := os.Lstat(d.file(name)); err == nil {
		return errPrecondition
	}
	if _, err := os.Lstat(d.binned(id)); err != nil {
		return errNotFound
	}
	if err := os.Rename(d.binned(id), d.file(name)); err != nil {
		return errNoParent
	}
	if _, err := d.db.ExecContext(ctx, "DELETE FROM trash WHERE id = ?", id); err != nil {
		return err
	}
	return d.adopt(ctx, name, by, "taken out of the trash")
}

// adopt notes what came to stand at a path, and below it, as versions. mu is held.
func (d *Drive) adopt(ctx context.Context, name, by, comment string) error {
	return filepath.WalkDir(d.file(name), func(at string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(filepath.Join(d.dir, "files"), at)
		if err != nil {
			return err
		}
		name := clean(filepath.ToSlash(rel))
		if e.IsDir() {
			return d.changed(ctx, name, false)
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		_, err = d.record(ctx, name, d.now(), info.Size(), by, comment)
		return err
	})
}

// Move moves a file or folder. What stands at the new place becomes a former version of that, where over allows it. A file takes the
// versions of its old path along where the new one has none.
func (d *Drive) Move(ctx context.Context, from, to, by string, over bool) (created bool, err error) {
	from, to = clean(from), clean(to)
	d.mu.Lock()
	defer d.mu.Unlock()
	info, err := os.Stat(d.file(from))
	if err != nil || from == "/" {
		return false, errNotFound
	}
	if strings.HasPrefix(to, from+"/") || to == from {
		return false, errTaken
	}
	if there, err := os.Stat(d.file(to)); err == nil {
		if !over {
			return false, errPrecondition
		}
		if there.IsDir() || info.IsDir() { // what is there cannot become a version
			if err := d.remove(ctx, to, by, "", false); err != nil {
				return false, err
			}
			defer func() { created = false }()
		}
	}
	if parent, err := os.Stat(filepath.Dir(d.file(to))); err != nil || !parent.IsDir() {
		return false, errNoParent
	}
	old, stands, err := d.current(ctx, to)
	if err == nil {
		err = d.retire(ctx, to, old, stands)
	}
	if err == nil {
		err = os.Rename(d.file(from), d.file(to))
	}
	if err != nil {
		return false, err
	}
	if info.IsDir() {
		_, err = d.db.ExecContext(ctx, `UPDATE versions SET path = ?2 || substr(path, length(?1) + 1) WHERE substr(path, 1, length(?1) + 1) =
			?1 || '/' AND NOT EXISTS (SELECT 1 FROM versions o WHERE o.path = ?2 || substr(versions.path, length(?1) + 1))`, from, to)
		if err == nil {
			err = filepath.WalkDir(d.file(to), func(at string, e fs.DirEntry, err error) error {
				rel, relErr := filepath.Rel(filepath.Join(d.dir, "files"), at)
				if err = errors.Join(err, relErr); err != nil {
					return err
				}
				return d.changed(ctx, filepath.ToSlash(rel), false)
			})
		}
		return !stands, errors.Join(err, d.changed(ctx, from, true))
	}
	var had int
	if err := d.db.QueryRowContext(ctx, "SELECT count(*) FROM versions WHERE path = ?", to).Scan(&had); err != nil {
		return false, err
	}
	if had == 0 {
		_, err = d.db.ExecContext(ctx, "UPDATE versions SET path = ? WHERE path = ?", to, from)
	} else {
		_, err = d.db.ExecContext(ctx, "DELETE FROM versions WHERE path = ? AND kept IS NULL", from)
		if err == nil {
			_, err = d.record(ctx, to, d.now(), info.Size(), by, "")
		}
	}
	return !stands, errors.Join(err, d.changed(ctx, from, true), d.changed(ctx, to, false))
}

// FilesDir is where the files lie on disk.
func (d *Drive) FilesDir() string { return d.file("/") }

// Forget makes all tokens that were given out worthless, as a server does whose records were made anew.
func (d *Drive) Forget(ctx context.Context) error {
	_, err := d.db.ExecContext(ctx, "UPDATE identity SET token = ?", random())
	return err
}
