package contents

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"

	"golang.org/x/sync/errgroup"
)

// Examiner reads copies to find out whether they are whole, and keeps what it finds by digest, so that one content is examined once,
// wherever it turns up. It is safe for concurrent use.
type Examiner struct {
	Contents *Reader
	Now      func() time.Time
	// Patience is how long one copy may take; 0 is for as long as it takes.
	Patience time.Duration
}

// Result is what examining a copy found.
type Result struct {
	condition.Findings
	SHA256 digest.Sum // unknown where it was not read to its end
}

// ErrSlow says that a copy would have taken longer than there is patience for.
var ErrSlow = errors.New("it takes too long to examine")

// Copy examines one copy, or returns what is known of its content where it is still as it was. Errors are of reading: of
// the source, ErrChanged where it changed meanwhile, and ErrSlow.
func (e *Examiner) Copy(ctx context.Context, c *copies.Copy) (Result, error) {
	if known, ok, err := e.known(ctx, c.SHA256); err != nil {
		return known, err
	} else if ok {
		return known, e.standing(ctx, c)
	}
	limited, done := e.patient(ctx)
	defer done()
	r, err := e.read(limited, c)
	if err != nil && ctx.Err() == nil && limited.Err() != nil {
		err = fmt.Errorf("%w (more than %s)", ErrSlow, e.Patience)
	}
	return r, err
}

func (e *Examiner) known(ctx context.Context, sum digest.Sum) (Result, bool, error) {
	if !sum.Known() {
		return Result{}, false, nil
	}
	f, err := e.Contents.Site.Catalogue.Contents.Findings(ctx, sum)
	if errors.Is(err, catalogue.ErrNotFound) {
		return Result{}, false, nil
	}
	return Result{f, sum}, err == nil, err
}

// standing tells with an error whether a copy is no longer there as it was seen.
func (e *Examiner) standing(ctx context.Context, c *copies.Copy) error {
	content, err := e.Contents.Open(ctx, c)
	if err != nil {
		return err
	}
	defer content.Close()
	return asSeen(content, c)
}

// read reads a copy and keeps what was found.
func (e *Examiner) read(ctx context.Context, c *copies.Copy) (Result, error) {
	found, err := e.examined(ctx, c)
	if err != nil {
		return Result{}, err
	}
	return Result{found.Findings, found.SHA256}, e.Contents.Site.Catalogue.Contents.SetExamined(ctx, []catalogue.Examined{found}, e.Now())
}

// examined reads a copy, without keeping what it finds.
func (e *Examiner) examined(ctx context.Context, c *copies.Copy) (found catalogue.Examined, err error) {
	content, err := e.Contents.Open(ctx, c)
	if err != nil {
		return found, err
	}
	defer content.Close()
	if err := asSeen(content, c); err != nil {
		return found, err
	}
	r, err := e.Content(ctx, content)
	if err != nil {
		return found, err
	}
	return catalogue.Examined{Copy: c.ID, Name: c.Place.Name(), SHA256: r.SHA256, Findings: r.Findings}, nil
}

// Content examines what is open, without keeping what it finds: it digests the file, and examines it where its content is
// not known under the digest.
func (e *Examiner) Content(ctx context.Context, content source.Opened) (found Result, err error) {
	if content.File == nil {
		return found, fmt.Errorf("it is a %s and has no content", content.Info.Type)
	}
	if size := content.Info.Size; size >= 0 && size <= readOnce {
		return e.small(ctx, content)
	}
	d, size, err := DigestOf(ctx, content.File, content.Info.Size)
	if err != nil { // how much of it could be read says nothing then
		return found, err
	}
	if want := content.Info.Size; want >= 0 && size != want {
		return found, short(size, want)
	}
	if found, known, err := e.known(ctx, d.Value()); known || err != nil {
		return found, err
	}
	found.SHA256 = d.Value()
	err = e.Contents.named(ctx, "", content, func(c apart.Input) error {
		found.Findings, err = e.Contents.Apart.Examine(ctx, c)
		return err
	})
	if errors.Is(err, apart.ErrDemanding) {
		found.Findings, err = demanding(size), nil
	}
	if err != nil {
		return found, err
	}
	return found, stillSo(ctx, content)
}

// readOnce is how large a file may be that is kept in memory while it is digested and examined, in bytes: most documents are smaller, and
// are read once.
const readOnce = 4 << 20

// small digests and examines a file that is read once.
func (e *Examiner) small(ctx context.Context, content source.Opened) (found Result, err error) {
	whole, err := readWhole(ctx, content)
	if err != nil {
		return found, err
	}
	sum := digest.Sum(sha256.Sum256(whole))
	if found, known, err := e.known(ctx, sum); known || err != nil {
		return found, err
	}
	found.SHA256 = sum
	found.Findings, err = e.Contents.Apart.Examine(ctx, apart.Input{ReaderAt: bytes.NewReader(whole), Size: int64(len(whole))})
	if errors.Is(err, apart.ErrDemanding) {
		found.Findings, err = demanding(int64(len(whole))), nil
	}
	if err != nil {
		return found, err
	}
	return found, stillSo(ctx, content)
}

// readWhole reads a file as long as it is said to be.
func readWhole(ctx context.Context, content source.Opened) ([]byte, error) {
	s, err := reach.AtMost(ctx, content.File, content.Info.Size)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	whole := make([]byte, content.Info.Size)
	n, err := io.ReadFull(s, whole)
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return nil, short(int64(n), content.Info.Size)
	case err != nil:
		return nil, err
	}
	return whole, nil
}

// stillSo tells with ErrChanged whether an open file is no longer as it was when it was opened.
func stillSo(ctx context.Context, content source.Opened) error {
	if info, err := content.File.Info(ctx); err != nil || info.Seen().Unchanged(content.Info.Seen()) == reach.No {
		return errors.Join(err, ErrChanged)
	}
	return nil
}

func short(n, size int64) error {
	if n == size {
		return nil
	}
	return fmt.Errorf("%w: it has %d bytes, and %d could be read", ErrChanged, size, n)
}

// What All reads side by side, of how many files it asks at once, and after how many, or how long, it keeps what it found.
const (
	readers   = 2
	batch     = 300
	keepAfter = 1000
	keepEach  = time.Second
)

// All examines the files of a source that were not examined yet. progress is told after each batch. unread counts those
// that could not be read.
func (e *Examiner) All(ctx context.Context, of copies.SourceID, progress func(files, bytes int64)) (unread int64, err error) {
	records := e.Contents.Site.Catalogue
	var files, bytes int64
	var keeping errgroup.Group // what was found, while more is examined
	var pending []catalogue.Examined
	kept := time.Now()
	keep := func() error {
		if err := keeping.Wait(); err != nil {
			return err
		}
		found := pending
		pending, kept = nil, time.Now()
		keeping.Go(func() error { return records.Contents.SetExamined(context.WithoutCancel(ctx), found, e.Now()) })
		return nil
	}
	defer func() { err = errors.Join(err, keep(), keeping.Wait()) }()
	for at := (catalogue.Position{}); ; {
		some, next, err := records.Contents.UnexaminedIn(ctx, of, at, batch)
		if err != nil || len(some) == 0 {
			return unread, err
		}
		at = next
		found := e.several(ctx, some)
		if pending = append(pending, found...); len(pending) >= keepAfter || time.Since(kept) > keepEach {
			if err := keep(); err != nil {
				return unread, err
			}
		}
		if ctx.Err() != nil {
			return unread, ctx.Err()
		}
		unread += int64(len(some) - len(found))
		for _, f := range found {
			files, bytes = files+1, bytes+f.Findings.Size
		}
		progress(files, bytes)
	}
}

// Some examines copies of any sources and keeps what it finds, in one go. It returns what could be examined; what could not,
// or takes too long, is left out.
func (e *Examiner) Some(ctx context.Context, some []*copies.Copy) ([]catalogue.Examined, error) {
	all := e.several(ctx, some)
	if err := ctx.Err(); err != nil {
		return all, err
	}
	return all, e.Contents.Site.Catalogue.Contents.SetExamined(ctx, all, e.Now())
}

// patient bounds how long one copy may take.
func (e *Examiner) patient(ctx context.Context) (context.Context, context.CancelFunc) {
	if e.Patience == 0 {
		return ctx, func() {}
	}
	return context.WithTimeoutCause(ctx, e.Patience, ErrSlow)
}

// several examines copies side by side and returns what could be.
func (e *Examiner) several(ctx context.Context, some []*copies.Copy) []catalogue.Examined {
	ctx, done := source.ForContents(ctx)
	defer done()
	var mu sync.Mutex
	var all []catalogue.Examined
	var side errgroup.Group
	side.SetLimit(readers)
	for _, c := range some {
		side.Go(func() error {
			limited, done := e.patient(ctx)
			defer done()
			if found, err := e.examined(limited, c); err == nil {
				mu.Lock()
				all = append(all, found)
				mu.Unlock()
			}
			return nil
		})
	}
	_ = side.Wait() // nobody fails
	return all
}

// Background examines recent documents that stand on machines, so that damage is noticed before their people notice it. It
// returns when ctx is done. told is called after each round with how many were examined and how many of them are broken.
func (e *Examiner) Background(ctx context.Context, b Budget, told func(examined, broken int, err error)) {
	ticker := time.NewTicker(b.Every)
	defer ticker.Stop()
	failed := map[copies.ID]bool{} // not tried again before the next start
	for {
		examined, broken, err := e.Round(ctx, b, failed)
		if ctx.Err() != nil {
			return
		}
		if examined > 0 || err != nil {
			told(examined, broken, err)
		}
		select {
		case <-ticker.C:
		case <-ctx.Done():
			return
		}
	}
}

// Round examines as much as one round's budget allows. What could not be read is added to failed and passed over.
func (e *Examiner) Round(ctx context.Context, b Budget, failed map[copies.ID]bool) (examined, broken int, err error) {
	const some = 200
	all, err := e.Contents.Site.Catalogue.Contents.Unexamined(ctx, e.Now().Add(-b.Within), b.Bytes, some+len(failed))
	if err != nil {
		return 0, 0, err
	}
	left := b.Bytes
	for _, c := range all {
		if left <= 0 || ctx.Err() != nil {
			break
		}
		if failed[c.ID] {
			continue
		}
		left -= c.Size
		r, err := e.Copy(ctx, c)
		if err != nil {
			failed[c.ID] = true
			continue
		}
		examined++
		if r.For(c.Place.Name()).State == condition.Broken {
			broken++
		}
	}
	return examined, broken, nil
}
