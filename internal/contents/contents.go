// Package contents is where the bytes of copies are opened, digested, compared and examined. Nothing else in the program does, but
// what writes: it digests as it goes.
//
// What a copy holds is hostile: whatever parses, decodes or compares it runs in a child process, see package apart. A copy is opened
// through its store, which is kept open between copies; one whose store cannot be read at any offset is read once into a file that
// has no name, see [Reader.At].
package contents

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/site"
	"humble-rewind/internal/source"
)

// Reader reads the contents of a site's copies. It is safe for concurrent use.
type Reader struct {
	Site  *site.Site
	Apart *apart.Pool // looks into contents

	once    sync.Once
	digests *lru.Cache[entry.ContentID, digest.Sum] // of contents that their stores name
}

// ErrChanged says that a file is no longer as the survey saw it.
const ErrChanged = problem.ChangedSinceSurvey

// ErrNoContent says that a copy is nothing that could be read.
var ErrNoContent = errors.New("it cannot be read")

// ErrNothingStands says that there is nothing at a place to compare with.
var ErrNothingStands = errors.New("nothing is there now")

// Open opens a copy. Close it.
func (r *Reader) Open(ctx context.Context, c *copies.Copy) (source.Opened, error) {
	return r.Site.OpenCopy(ctx, c.Store.Source, c.Ref())
}

// OpenFile is Open for what must be a file; else the error is ErrNoContent.
func (r *Reader) OpenFile(ctx context.Context, c *copies.Copy) (source.Opened, error) {
	content, err := r.Open(ctx, c)
	if err == nil && content.File == nil {
		content.Close()
		err = ErrNoContent
	}
	return content, err
}

// asSeen tells with ErrChanged whether what is open is no longer as the survey saw it, as far as the clock of its store tells.
func asSeen(content source.Opened, c *copies.Copy) error {
	if content.Info.Type != entry.File || c.Size >= 0 && content.Info.Size >= 0 && content.Info.Size != c.Size ||
		copies.Apart(content.Info.Written, c.Recorded(), c.Store.Resolution) {
		return ErrChanged
	}
	return nil
}

// Standing opens what stands at a place now.
func (r *Reader) Standing(ctx context.Context, p place.Place) (source.Opened, error) {
	files, err := r.Site.Files(ctx, p.Machine)
	if err != nil {
		return source.Opened{}, err
	}
	folder, err := files.Tree(ctx, place.Folder(p.Path))
	if err == nil {
		defer folder.Close()
		var c source.Opened
		if c, err = source.OpenEntry(ctx, folder, p.Name()); err == nil {
			return c, nil
		}
	}
	if errors.Is(err, problem.NotThere) {
		return source.Opened{}, &problem.Input{
			What: fmt.Sprintf("compare with %s", p),
			Err:  ErrNothingStands,
			Next: "Peek at the copy instead, or compare it with another copy.",
		}
	}
	return source.Opened{}, err
}

// Budget says how much is read unasked.
type Budget struct {
	Every  time.Duration // between two rounds
	Bytes  int64         // of one round
	Within time.Duration // only what was written so lately
}

// What reading unasked may cost.
var (
	// DefaultBudget is for examining in the background: about a megabyte a second at the most.
	DefaultBudget = Budget{Every: 10 * time.Second, Bytes: 10 << 20, Within: 45 * 24 * time.Hour}
)

// What reading for the digests that one answer needs may cost.
const (
	DigestFile  = 64 << 20  // bytes of one file
	DigestBytes = 256 << 20 // of all
)
