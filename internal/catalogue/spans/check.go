package spans

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"time"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// checkBlocks looks whether every block is as it was written, and whether the tables keep what they promise each other. The problem is
// "" where they do.
func (c *room) checkBlocks(ctx context.Context, rest func(worked time.Duration)) (wrong string, err error) {
	k := checker{c: c, rest: rest}
	if err := k.load(ctx); err != nil {
		return "", err
	}
	stores, err := c.allStores(ctx)
	if err != nil {
		return "", err
	}
	for id := range stores {
		if err := k.source(ctx, id); errors.Is(err, problem.Damaged) {
			return err.Error(), nil
		} else if err != nil {
			return "", err
		}
	}
	return "", nil
}

type checker struct {
	c       *room
	rest    func(worked time.Duration)
	firsts  []int64 // of the runs of numbers
	folders []int64
}

func (k *checker) load(ctx context.Context) error {
	rows, err := k.c.f.Reads.QueryContext(ctx, "SELECT first, folder_id FROM id_runs ORDER BY first")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var first, folder int64
		if err := rows.Scan(&first, &folder); err != nil {
			return err
		}
		k.firsts, k.folders = append(k.firsts, first), append(k.folders, folder)
	}
	return rows.Err()
}

// source checks the folders of a source.
func (k *checker) source(ctx context.Context, id copies.SourceID) error {
	var of *folder
	standing, parts := int64(0), int64(0)
	ended := func() error {
		if of != nil && (standing != of.standing || parts != of.parts) {
			return k.wrong(of, fmt.Sprintf("%d spans in %d blocks stand, not %d in %d", standing, parts, of.standing, of.parts))
		}
		standing, parts = 0, 0
		return nil
	}
	for from := (Position{}); ; {
		begun := time.Now()
		some, err := k.c.blocksFrom(ctx, id, from)
		if err != nil {
			return err
		}
		for _, b := range some {
			from = Position{b.folder.id, b.id}
			if of == nil || of.id != b.folder.id {
				if err := ended(); err != nil {
					return err
				}
				of = b.folder
			}
			standing, parts = standing+int64(len(b.now)), parts+1
			if err := k.block(ctx, &b); err != nil {
				return err
			}
		}
		if len(some) == 0 {
			return ended()
		}
		if k.rest != nil {
			k.rest(time.Since(begun))
		}
	}
}

func (k *checker) wrong(f *folder, what string) error { return damaged(f, errors.New(what)) }

// block checks that each span can be found: in its order, by its number, and at its place.
func (k *checker) block(ctx context.Context, b *foundBlock) error {
	for n, spans := range [...][]block.Span{b.now, b.past} {
		if !slices.IsSortedFunc(spans, func(a, b block.Span) int {
			if a.Name == b.Name {
				return int(min(1, max(-1, a.First-b.First)))
			}
			if a.Name < b.Name {
				return -1
			}
			return 1
		}) {
			return k.wrong(b.folder, "its spans are not in order")
		}
		for i := range spans {
			s := &spans[i]
			run := sort.Search(len(k.firsts), func(i int) bool { return k.firsts[i] > int64(s.ID) }) - 1
			switch {
			case s.Stands() != (n == 0):
				return k.wrong(b.folder, fmt.Sprintf("%s is among those that do not stand like it", s.ID))
			case run < 0 || k.folders[run] != b.folder.id:
				return k.wrong(b.folder, fmt.Sprintf("the number of %s leads elsewhere", s.ID))
			case s.Place == "" && b.folder.dir == "":
				return k.wrong(b.folder, fmt.Sprintf("%s has no place", s.ID))
			}
			if s.Place == "" || i > 0 && i < len(spans)-1 { // of places of their own, the first and the last: each costs a look-up
				continue
			}
			var known bool
			if err := k.c.f.Reads.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM elsewhere WHERE dir_id = (SELECT id FROM dirs WHERE machine_id "+
				"= (SELECT machine_id FROM sources WHERE id = ?) AND path = ?) AND name = ? AND block_id = ?)", b.folder.source,
				[]byte(place.Folder(s.Place)), nameHash(place.Name(s.Place)), b.id).Scan(&known); err != nil {
				return err
			}
			if !known {
				return k.wrong(b.folder, fmt.Sprintf("%s is not known at its place", s.ID))
			}
		}
	}
	return nil
}
