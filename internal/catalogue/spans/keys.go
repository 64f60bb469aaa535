package spans

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"math"
	"slices"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/problem"
)

// The same file under another name is found by its size and write time. What is written of that is a run of sorted keys, and runs are
// put together as they come to be many, so that a look-up reads a piece of each of few. A key names the folder; whoever finds one looks
// into that, for it may be of a span that is gone or of another that looks alike.

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// sizeKey is the size and the write time of a file, in nanoseconds since 1970, with its folder.
type sizeKey struct{ size, written, folder int64 }

func (a sizeKey) compare(b sizeKey) int {
	return cmp.Or(cmp.Compare(a.size, b.size), cmp.Compare(a.written, b.written), cmp.Compare(a.folder, b.folder))
}

const (
	keysInChunk = 1024
	keysInRun   = 16 * keysInChunk // from which on another run is begun
	runsInTier  = 8                // that are put together to one of the next tier
)

// packKeys packs keys that are sorted: of each the size as the difference to the one before, the write time as that to the one before
// where the size is the same, and the folder; then a checksum.
func packKeys(keys []sizeKey) []byte {
	var b []byte
	var before sizeKey
	for _, k := range keys {
		b = binary.AppendUvarint(b, uint64(k.size-before.size))
		if k.size != before.size {
			before.written = 0
		}
		b = binary.AppendVarint(b, k.written-before.written)
		b = binary.AppendUvarint(b, uint64(k.folder))
		before = k
	}
	return binary.LittleEndian.AppendUint32(b, crc32.Checksum(b, castagnoli))
}

func unpackKeys(b []byte) ([]sizeKey, error) {
	if len(b) < 4 || crc32.Checksum(b[:len(b)-4], castagnoli) != binary.LittleEndian.Uint32(b[len(b)-4:]) {
		return nil, problem.Damaged
	}
	keys := make([]sizeKey, 0, keysInChunk)
	r := bytes.NewReader(b[:len(b)-4])
	var k sizeKey
	for r.Len() > 0 {
		size, err := binary.ReadUvarint(r)
		if size != 0 {
			k.written = 0
		}
		written, err2 := binary.ReadVarint(r)
		folder, err3 := binary.ReadUvarint(r)
		if err != nil || err2 != nil || err3 != nil {
			return nil, problem.Damaged
		}
		k = sizeKey{k.size + int64(size), k.written + written, int64(folder)}
		keys = append(keys, k)
	}
	return keys, nil
}

// keyRun is a run of sorted keys.
type keyRun struct{ id, tier, keys int64 }

func keyRuns(ctx context.Context, q file.Querier) ([]keyRun, error) {
	rows, err := q.QueryContext(ctx, "SELECT id, tier, keys FROM key_runs ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []keyRun
	for rows.Next() {
		var r keyRun
		if err := rows.Scan(&r.id, &r.tier, &r.keys); err != nil {
			return nil, err
		}
		all = append(all, r)
	}
	return all, rows.Err()
}

// addKeys writes keys.
func addKeys(ctx context.Context, w *file.Writing, keys []sizeKey) error {
	if len(keys) == 0 {
		return nil
	}
	slices.SortFunc(keys, sizeKey.compare)
	runs, err := keyRuns(ctx, w)
	if err != nil {
		return err
	}
	merging := []keyRun{}
	if i := slices.IndexFunc(runs, func(r keyRun) bool { return r.keys+int64(len(keys)) <= keysInRun }); i >= 0 {
		merging = append(merging, runs[i])
		runs = slices.Delete(runs, i, i+1)
	}
	run, err := mergeRuns(ctx, w, merging, keys, 0)
	if err != nil {
		return err
	}
	runs = append(runs, run)
	for tier := int64(0); ; tier++ {
		var many []keyRun
		for _, r := range runs {
			if r.tier == tier {
				many = append(many, r)
			}
		}
		if len(many) < runsInTier {
			return nil
		}
		if run, err = mergeRuns(ctx, w, many, nil, tier+1); err != nil {
			return err
		}
		runs = append(runs, run)
	}
}

// keyCursor reads a run from its beginning.
type keyCursor struct {
	run     int64
	list    []sizeKey
	last    sizeKey // the first key of the chunk read last
	started bool
}

// fill makes sure that there is a key; false at the end.
func (k *keyCursor) fill(ctx context.Context, w *file.Writing) (bool, error) {
	for len(k.list) == 0 {
		if k.run == 0 {
			return false, nil
		}
		var b []byte
		var rows int
		found, err := w.QueryContext(ctx, "SELECT size, written, body FROM key_chunks WHERE run_id = ?1 AND (NOT ?2 OR (size, written) > "+
			"(?3, ?4)) ORDER BY size, written LIMIT 1", k.run, k.started, k.last.size, k.last.written)
		if err != nil {
			return false, err
		}
		for found.Next() {
			rows++
			err = found.Scan(&k.last.size, &k.last.written, &b)
		}
		if err := cmp.Or(err, found.Err(), found.Close()); err != nil {
			return false, err
		}
		if rows == 0 {
			k.run = 0
			return false, nil
		}
		k.started = true
		if k.list, err = unpackKeys(b); err != nil {
			return false, err
		}
	}
	return true, nil
}

// mergeRuns makes one run of several, and of keys not yet written.
func mergeRuns(ctx context.Context, w *file.Writing, runs []keyRun, keys []sizeKey, tier int64) (keyRun, error) {
	out := keyRun{tier: tier}
	if err := w.QueryRowContext(ctx, "INSERT INTO key_runs (tier, keys) VALUES (?, 0) RETURNING id", tier).Scan(&out.id); err != nil {
		return out, err
	}
	cursors := []*keyCursor{{list: keys}}
	for _, r := range runs {
		cursors = append(cursors, &keyCursor{run: r.id})
	}
	var chunk []sizeKey
	put := func() error {
		if len(chunk) == 0 {
			return nil
		}
		out.keys += int64(len(chunk))
		err := w.Exec(ctx, "INSERT INTO key_chunks (run_id, size, written, body) VALUES (?, ?, ?, ?)", out.id, chunk[0].size,
			chunk[0].written, packKeys(chunk))
		chunk = chunk[:0]
		return err
	}
	for {
		var least *keyCursor
		for _, k := range cursors {
			ok, err := k.fill(ctx, w)
			if err != nil {
				return out, err
			}
			if ok && (least == nil || k.list[0].compare(least.list[0]) < 0) {
				least = k
			}
		}
		if least == nil {
			break
		}
		k := least.list[0]
		least.list = least.list[1:]
		n := len(chunk)
		if n > 0 && chunk[n-1] == k {
			continue
		}
		// Keys that are told apart by their folder alone stay together: chunks are found by what they begin with.
		if n >= keysInChunk && (chunk[n-1].size != k.size || chunk[n-1].written != k.written) {
			if err := put(); err != nil {
				return out, err
			}
		}
		chunk = append(chunk, k)
	}
	if err := put(); err != nil {
		return out, err
	}
	for _, r := range runs {
		for _, step := range []string{"DELETE FROM key_chunks WHERE run_id = ?", "DELETE FROM key_runs WHERE id = ?"} {
			if err := w.Exec(ctx, step, r.id); err != nil {
				return out, err
			}
		}
	}
	return out, w.Exec(ctx, "UPDATE key_runs SET keys = ? WHERE id = ?", out.keys, out.id)
}

// sizeWritten bounds write times, in nanoseconds since 1970; both ends count.
type sizeWritten struct{ first, last int64 }

// eachSized calls see with each folder that may hold a file of a size, and of such a write time where that is not nil, until it says that
// it is enough.
func (c *room) eachSized(ctx context.Context, size int64, written *sizeWritten, see func(folder int64) (bool, error)) error {
	runs, err := keyRuns(ctx, c.f.Reads)
	if err != nil {
		return err
	}
	low, high := sizeKey{size, math.MinInt64, 0}, sizeKey{size, block.Open, block.Open}
	if written != nil {
		low.written, high.written = written.first, written.last
	}
	seen := map[int64]bool{}
	for _, r := range runs {
		query, at := chunkBefore, low // the chunk that the least may be in, then those that begin behind
		for {
			var body []byte
			err := c.f.Reads.QueryRowContext(ctx, query, r.id, at.size, at.written).Scan(&at.size, &at.written, &body)
			if errors.Is(err, sql.ErrNoRows) {
				if query == chunkBehind {
					break
				}
				query, at = chunkBehind, low
				continue
			}
			if err != nil {
				return err
			}
			query = chunkBehind
			keys, err := unpackKeys(body)
			if err != nil {
				return err
			}
			from, _ := slices.BinarySearchFunc(keys, low, sizeKey.compare)
			for _, k := range keys[from:] {
				if k.compare(high) > 0 || seen[k.folder] {
					continue
				}
				seen[k.folder] = true
				if on, err := see(k.folder); err != nil || !on {
					return err
				}
			}
			if last := keys[len(keys)-1]; last.compare(high) > 0 {
				break
			}
		}
	}
	return nil
}

const (
	chunkBefore = `SELECT size, written, body FROM key_chunks WHERE run_id = ? AND (size, written) <= (?, ?) ORDER BY size DESC, written DESC
		LIMIT 1`
	chunkBehind = "SELECT size, written, body FROM key_chunks WHERE run_id = ? AND (size, written) > (?, ?) ORDER BY size, written LIMIT 1"
)
