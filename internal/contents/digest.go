package contents

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"sync"
	"sync/atomic"

	lru "github.com/hashicorp/golang-lru/v2"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// remembered is how many digests of contents that stores name are kept in memory.
const remembered = 10_000

// DigestOf reads the first size bytes of a file, all where size is negative, and returns their digest and how many there were.
// What a file has grown by since it was looked at is not read.
func DigestOf(ctx context.Context, f reach.File, size int64) (digest.Digest, int64, error) {
	if size < 0 {
		size = math.MaxInt64
	}
	s, err := reach.AtMost(ctx, f, size)
	if err != nil {
		return digest.Digest{}, 0, err
	}
	defer s.Close()
	return digest.Of(s)
}

// DigestAt reads a file of a folder, as long as it is when it is opened, and returns its digest.
func DigestAt(ctx context.Context, folder reach.Tree, name string) (digest.Sum, error) {
	f, err := folder.Open(ctx, name)
	if err != nil {
		return digest.Sum{}, err
	}
	defer f.Close()
	info, err := f.Info(ctx)
	if err != nil {
		return digest.Sum{}, err
	}
	d, _, err := DigestOf(ctx, f, info.Size)
	if err != nil {
		return digest.Sum{}, fmt.Errorf("read it for its digest: %w", err)
	}
	return d.Value(), nil
}

// Digest returns the SHA-256 of a copy's file. One whose store names its content by what names it everywhere is read once, however
// many copies there are of it. Nothing is kept in the catalogue.
func (r *Reader) Digest(ctx context.Context, c *copies.Copy) (digest.Sum, error) {
	return r.digest(ctx, c, func() (source.Opened, error) { return r.Open(ctx, c) })
}

// DigestKept is the digest of a copy's file: the one that is known, else read now and kept in the catalogue.
func (r *Reader) DigestKept(ctx context.Context, c *copies.Copy) (digest.Sum, error) {
	if c.SHA256.Known() {
		return c.SHA256, nil
	}
	sum, err := r.Digest(ctx, c)
	if err != nil {
		return digest.Sum{}, err
	}
	return sum, r.Site.Catalogue.Contents.SetDigest(ctx, c.ID, sum)
}

func (r *Reader) digest(ctx context.Context, c *copies.Copy, open func() (source.Opened, error)) (digest.Sum, error) {
	names := c.Mark.Content.Kind.Names() && !c.Store.Traits.Unproved
	if names {
		if known, err := r.known(ctx, c.Mark.Content); err != nil || known.Known() {
			return known, err
		}
	}
	content, err := open()
	if err != nil {
		return digest.Sum{}, err
	}
	defer content.Close()
	sum, err := r.DigestAsSeen(ctx, c, content)
	if err == nil && names {
		r.cache().Add(c.Mark.Content, sum)
	}
	return sum, err
}

// DigestAsSeen digests an open copy, where it still is as the survey saw it; else the error is ErrChanged.
func (r *Reader) DigestAsSeen(ctx context.Context, c *copies.Copy, content source.Opened) (digest.Sum, error) {
	if content.File == nil {
		return digest.Sum{}, ErrChanged
	}
	if err := asSeen(content, c); err != nil {
		return digest.Sum{}, err
	}
	want := content.Info.Size
	if want < 0 {
		want = c.Size
	}
	d, n, err := DigestOf(ctx, content.File, want)
	switch {
	case err != nil:
		return digest.Sum{}, err
	case n != want && want >= 0:
		return digest.Sum{}, ErrChanged
	}
	return d.Value(), nil
}

func (r *Reader) cache() *lru.Cache[entry.ContentID, digest.Sum] {
	r.once.Do(func() { r.digests, _ = lru.New[entry.ContentID, digest.Sum](remembered) }) // which refuses sizes below 1 alone
	return r.digests
}

// known returns the digest of a content that a store names, where one of its copies was read; unknown where none was.
func (r *Reader) known(ctx context.Context, id entry.ContentID) (digest.Sum, error) {
	if sum, ok := r.cache().Get(id); ok {
		return sum, nil
	}
	sum, err := r.Site.Catalogue.Contents.DigestOf(ctx, id)
	if err == nil && sum.Known() {
		r.cache().Add(id, sum)
	}
	return sum, err
}

// DigestAll reads the files of a source whose digests are not known, several side by side, and keeps them, a batch at a time. progress is
// told of each.
func (r *Reader) DigestAll(ctx context.Context, of copies.SourceID, progress func(files, bytes int64, path string)) (unread int64, err error) {
	const batch = 1000
	ctx, done := source.ForContents(ctx)
	defer done()
	d := digesting{r: r, progress: progress, sums: map[copies.ID]digest.Sum{}, wanted: make(chan wanted, batch)}
	for range readers {
		d.side.Go(func() { d.readEach(ctx) })
	}
	for at := (catalogue.Position{}); ; {
		some, next, err := r.Site.Catalogue.Contents.Undigested(ctx, of, at, batch)
		if err != nil || len(some) == 0 {
			return d.end(ctx, err)
		}
		at = next
		slices.SortStableFunc(some, func(a, b *copies.Copy) int { return cmp.Compare(b.Size/long, a.Size/long) })
		if err := d.want(ctx, some); err != nil {
			return d.end(ctx, err)
		}
		if err := d.keep(ctx, batch); err != nil {
			return d.end(ctx, err)
		}
	}
}

// long is the size from which files are begun with, largest first, so that none is left for one reader alone at the end.
const long = 64 << 20

// digesting is the work of DigestAll. A large file keeps one reader busy while the others go on.
type digesting struct {
	r        *Reader
	progress func(files, bytes int64, path string)
	wanted   chan wanted
	side     sync.WaitGroup // the readers

	mu                   sync.Mutex
	sums                 map[copies.ID]digest.Sum // that are not kept yet
	files, bytes, unread int64
}

// wanted is a copy to be read, with its store, which is asked for once a batch: over a long time its machine may have to be reached anew.
type wanted struct {
	*copies.Copy
	store source.Store
	done  func()
}

// want hands the copies of one source to the readers.
func (d *digesting) want(ctx context.Context, some []*copies.Copy) error {
	if len(some) == 0 {
		return nil
	}
	store, err := d.r.Site.Store(ctx, some[0].Store.Source)
	if err != nil {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.unread += int64(len(some))
		return ctx.Err()
	}
	var left atomic.Int64
	left.Store(1)
	done := func() {
		if left.Add(-1) == 0 {
			_ = store.Close() // which only gives it back
		}
	}
	defer done()
	for _, c := range some {
		left.Add(1)
		select {
		case d.wanted <- wanted{c, store, done}:
		case <-ctx.Done():
			done()
			return ctx.Err()
		}
	}
	return nil
}

func (d *digesting) readEach(ctx context.Context) {
	for c := range d.wanted {
		sum, err := d.r.digest(ctx, c.Copy, func() (source.Opened, error) { return c.store.Open(ctx, c.Ref()) })
		c.done()
		d.take(c.Copy, sum, err)
	}
}

func (d *digesting) take(c *copies.Copy, sum digest.Sum, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if err != nil {
		d.unread++
		return
	}
	d.sums[c.ID] = sum
	d.files, d.bytes = d.files+1, d.bytes+c.Size
	d.progress(d.files, d.bytes, c.Place.Path)
}

// keep keeps the digests that are known, once there are enough.
func (d *digesting) keep(ctx context.Context, enough int) error {
	d.mu.Lock()
	sums := d.sums
	if len(sums) < enough {
		d.mu.Unlock()
		return nil
	}
	d.sums = map[copies.ID]digest.Sum{}
	d.mu.Unlock()
	return d.r.Site.Catalogue.Contents.SetDigests(context.WithoutCancel(ctx), sums)
}

// end waits for what is still being read, keeps it too, and returns how many files could not be read.
func (d *digesting) end(ctx context.Context, err error) (int64, error) {
	close(d.wanted)
	d.side.Wait()
	return d.unread, errors.Join(err, d.keep(ctx, 1))
}
