// Package spans is the room of the catalogue that knows what stores held when. It writes what a survey finds, and reads copies.
//
// What a survey sees is kept as spans: a version of a place in a source is one entry from the capture that first showed it to the one that
// last did, however many captures there were between. The spans of a folder of a store lie packed in blocks, see package block. Nothing
// that a survey saw is ever deleted when it vanishes from its store; only its span ends.
package spans

import (
	"context"
	"sync"
	"time"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/catalogue/names"
	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/core/copies"
)

// Spans are the doors of the room.
type Spans struct {
	Contents Contents
	Surveys  Surveys
	room     *room
}

// Copies reads copies by their numbers and their places.
type Copies struct{ scoped }

// Search finds copies by what they are like.
type Search struct{ scoped }

// Contents keeps what is known of contents: digests, and what examining them found.
type Contents struct{ *room }

// Surveys writes: what a survey saw, and what becomes of copies besides.
type Surveys struct{ *room }

// room is what the doors share.
type room struct {
	f        *file.File
	sources  sources
	receipts receipts
	counters counters
	rewrites rewrites
	index    folderIndex
	text     names.Text
	indexed  chan struct{} // closed once names and folders have been read for searches
	indexing error         // why they could not be
	examined examinedSet

	stop    context.CancelFunc
	stopped sync.WaitGroup

	mu     sync.Mutex
	stores map[copies.SourceID]*copies.Store // as they were read last; nil where all may have changed since
	stale  []copies.SourceID                 // those of them that may have
}

// sources are the rows of sources.
type sources interface {
	ByID(ctx context.Context, id copies.SourceID) (rows.Source, error)
	Of(ctx context.Context, machine string) ([]rows.Source, error)
}

// receipts name copies that must still be found after a store was read anew.
type receipts interface {
	EachItem(ctx context.Context, do func(receipt int64, i rows.ReceiptItem) error) error
}

// Make makes the room before its file is open; Open opens its doors.
func Make() *Spans {
	r := &room{indexed: make(chan struct{})}
	return &Spans{Contents{r}, Surveys{r}, r}
}

// Load reads the numbers that were given out last. It is done before anything else.
func (s *Spans) Load(f *file.File) error {
	return s.room.counters.load(context.Background(), f.Write)
}

// Open begins to read names and folders for searches.
func (s *Spans) Open(ctx context.Context, f *file.File, sources *rows.Sources, receipts *rows.Receipts) {
	r := s.room
	r.f, r.sources, r.receipts = f, sources, receipts
	f.AfterEach(r.rewrites.settle)
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	r.stop = stop
	r.stopped.Go(func() {
		r.indexing = r.readIndex(running)
		close(r.indexed)
	})
}

// Close waits for what runs in the background.
func (s *Spans) Close() {
	s.room.stop()
	s.room.stopped.Wait()
}

// Changed says that the rows of sources have changed; of all where none is named.
func (s *Spans) Changed(ids ...copies.SourceID) {
	if len(ids) == 0 {
		s.room.forgetStores()
	}
	for _, id := range ids {
		s.room.forgetStore(id)
	}
}

// Check looks whether every block is as it was written, and whether the tables keep what they promise each other. wrong is "" where they do.
// After each piece rest is called with how long it took; nil where there is to be no rest.
func (s *Spans) Check(ctx context.Context, rest func(worked time.Duration)) (wrong string, err error) {
	return s.room.checkBlocks(ctx, rest)
}

// Forget removes sources, by a condition on their rows in which ?1 is arg, with everything that surveys saw in them; and what remove removes,
// which has to be something.
func (s *Spans) Forget(ctx context.Context, which, remove string, arg any) error {
	return s.room.forget(ctx, which, remove, arg)
}
