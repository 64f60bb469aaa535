package spans

import (
	"context"
	"database/sql"
	"errors"
	"math"
	"sync"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
)

// folderIndex holds, of every folder, beyond what nothing in it is, so that a search in an order opens the folders first that can
// hold what comes first. Bounds are rounded so that they stay true: 32 bytes a folder.
type folderIndex struct {
	mu  sync.RWMutex
	all []indexedFolder // by number
	// Of folders with several blocks, also what is in each of those.
	blocks map[int64]indexedFolder
}

type indexedFolder struct {
	source                       int32  // 0: there is none
	goneLast, goneFirst, written uint32 // seconds since 1970 and 1, rounded up; 0 is none
	largest                      float32
	greatest                     int64
	name                         uint64 // the first eight letters of the first name, as it is searched
}

// seconds rounds up; 1 is anything before 1970, the greatest anything from 2106 on.
func seconds(n sql.NullInt64) uint32 {
	if !n.Valid {
		return 0
	}
	s := n.Int64/1e9 + 1
	return uint32(min(max(s, 1), math.MaxUint32))
}

// notLater and notEarlier turn seconds into moments that nothing is beyond.
func notLater(s uint32) int64 {
	if s == math.MaxUint32 {
		return math.MaxInt64
	}
	return int64(s) * 1e9
}

func notEarlier(s uint32) int64 {
	if s <= 1 {
		return math.MinInt64
	}
	return int64(s-1) * 1e9
}

func indexed(source copies.SourceID, b *bounds) indexedFolder {
	size := float32(b.largest)
	for int64(size) < b.largest {
		size = math.Nextafter32(size, math.MaxFloat32)
	}
	return indexedFolder{int32(source), seconds(b.goneLast), seconds(b.goneFirst), seconds(b.written), size, b.greatest, math.MaxUint64}
}

// put keeps a folder as it has become.
func (x *folderIndex) put(change *folderChange) {
	x.mu.Lock()
	defer x.mu.Unlock()
	f := &change.folder
	x.set(f.id, indexed(f.source, &f.bounds))
	if f.parts <= 1 {
		return
	}
	for i := range change.blocks {
		b := &change.blocks[i]
		x.blocks[b.id] = indexed(f.source, &b.bounds)
	}
}

// widen notes that a folder and one of its blocks hold a span of a greater number than before.
func (x *folderIndex) widen(folder, block, number int64) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if folder < int64(len(x.all)) {
		x.all[folder].greatest = max(x.all[folder].greatest, number)
	}
	if b, ok := x.blocks[block]; ok {
		b.greatest = max(b.greatest, number)
		x.blocks[block] = b
	}
}

func (x *folderIndex) set(id int64, f indexedFolder) {
	for int64(len(x.all)) <= id {
		x.all = append(x.all, indexedFolder{name: math.MaxUint64})
	}
	f.name = x.all[id].name
	x.all[id] = f
}

// ofSource returns the first and the last of the next folders of a source, from a number on, so many of them; 0 where there is none.
func (x *folderIndex) ofSource(source copies.SourceID, from int64, some int) (first, last int64) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for id := max(from, 0); id < int64(len(x.all)) && some > 0; id++ {
		if copies.SourceID(x.all[id].source) != source {
			continue
		}
		if first == 0 {
			first = id
		}
		last = id
		some--
	}
	return first, last
}

// met notes a name in a block.
func (x *folderIndex) met(block int64, name []byte) {
	folder := folderOf(block)
	x.mu.Lock()
	defer x.mu.Unlock()
	for int64(len(x.all)) <= folder {
		x.all = append(x.all, indexedFolder{name: math.MaxUint64})
	}
	x.all[folder].name = min(x.all[folder].name, letters(name))
}

// letters are the first eight letters of a name, so that names are in the order of them.
func letters(name []byte) (n uint64) {
	for i := range 8 {
		n <<= 8
		if i < len(name) {
			n |= uint64(name[i])
		}
	}
	return n
}

// load reads all folders.
func (x *folderIndex) load(ctx context.Context, q file.Querier) error {
	rows, err := q.QueryContext(ctx, "SELECT id, source_id, greatest, gone_last, gone_first, written, largest FROM folders")
	if err != nil {
		return err
	}
	defer rows.Close()
	x.mu.Lock()
	defer x.mu.Unlock()
	x.all, x.blocks = nil, map[int64]indexedFolder{}
	for rows.Next() {
		var id int64
		var source copies.SourceID
		var b bounds
		if err := rows.Scan(&id, &source, &b.greatest, &b.goneLast, &b.goneFirst, &b.written, &b.largest); err != nil {
			return err
		}
		x.set(id, indexed(source, &b))
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	return x.loadBlocks(ctx, q)
}

// loadBlocks reads the blocks of folders that have several; mu is held.
func (x *folderIndex) loadBlocks(ctx context.Context, q file.Querier) error {
	rows, err := q.QueryContext(ctx, `SELECT b.id, f.source_id, b.greatest, b.gone_last, b.gone_first, b.written, b.largest FROM folders f
		CROSS JOIN blocks b ON b.id BETWEEN f.id << 36 AND (f.id << 36 | 68719476735) WHERE f.parts > 1`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var source copies.SourceID
		var b bounds
		if err := rows.Scan(&id, &source, &b.greatest, &b.goneLast, &b.goneFirst, &b.written, &b.largest); err != nil {
			return err
		}
		x.blocks[id] = indexed(source, &b)
	}
	return rows.Err()
}
