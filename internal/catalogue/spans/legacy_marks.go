package spans

import (
	"context"
	"database/sql"
	"errors"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"github.com/pressly/goose/v3"

	"humble-rewind/internal/core/entry"
)

// RewriteMarks is the migration that gives marks their binary form. What cannot be understood is left out, so that the next
// survey reads the entry anew.
var RewriteMarks = goose.NewGoMigration(5, &goose.GoFunc{RunTx: func(ctx context.Context, tx *sql.Tx) error {
	update, err := tx.PrepareContext(ctx, "UPDATE spans SET mark = ? WHERE id = ?")
	if err != nil {
		return err
	}
	defer update.Close()
	const batch = 10_000
	for after := int64(0); ; {
		marks, last, err := legacyMarks(ctx, tx, after, batch)
		if err != nil {
			return err
		}
		if last == after {
			break
		}
		after = last
		for id, m := range marks {
			if _, err := update.ExecContext(ctx, m.Append(nil), id); err != nil {
				return err
			}
		}
	}
	_, err = tx.ExecContext(ctx, "UPDATE store_dirs SET print = NULL") // they are digests over marks
	return err
}}, nil)

// legacyMarks reads the next marks of sources that are read as they are now; last is the number of the last.
func legacyMarks(ctx context.Context, tx *sql.Tx, after int64, limit int) (marks map[int64]entry.Mark, last int64, err error) {
	rows, err := tx.QueryContext(ctx, `SELECT x.id, x.type, CAST(x.mark AS TEXT), s.dated FROM spans x JOIN sources s ON s.id = x.source_id
		WHERE x.id > ? ORDER BY x.id LIMIT ?`, after, limit)
	if err != nil {
		return nil, after, err
	}
	defer rows.Close()
	marks, last = map[int64]entry.Mark{}, after
	for rows.Next() {
		var typ entry.Type
		var text string
		var dated bool
		if err := rows.Scan(&last, &typ, &text, &dated); err != nil {
			return nil, after, err
		}
		if !dated {
			marks[last] = legacyMark(typ, text)
		}
	}
	return marks, last, rows.Err()
}

// legacyMark reads a mark as it was written before marks were typed: fields parted by single blanks. Of an entry of a tree
// these were a letter for the type, size, write time, mode, owner, group, "i" and the number of the file, "c" and the change time, of a
// folder only letter, mode, owner and group; of an item of a trash the numbers and change times of it and its record, parted
// and ended by dots, of what lies in it those of both apart, and behind them the size of a folder. Times were nanoseconds, they
// and numbers in base 36. The zero Mark is what cannot be read.
func legacyMark(typ entry.Type, text string) entry.Mark {
	fields := strings.Split(text, " ")
	var m entry.Mark
	var err error
	if strings.Contains(fields[0], ".") {
		m, err = legacyItem(fields)
	} else {
		m, err = legacyEntry(typ, fields)
	}
	if err != nil {
		return entry.Mark{}
	}
	return m
}

var errLegacy = errors.New("not a mark of old")

func legacyEntry(typ entry.Type, fields []string) (entry.Mark, error) {
	m := entry.Mark{Type: typ}
	want := 8
	if typ == entry.Folder {
		want = 4
	}
	if len(fields) != want || len(fields[0]) != 1 {
		return m, errLegacy
	}
	n := numbers36{}
	rest := fields[1:]
	if typ != entry.Folder {
		m.Size, m.Written = n.signed(rest[0], 10), n.instant(rest[1])
		number, isNumber := strings.CutPrefix(rest[5], "i")
		changed, isChanged := strings.CutPrefix(rest[6], "c")
		if !isNumber || !isChanged {
			return m, errLegacy
		}
		m.File = entry.Identity{Number: n.unsigned(number, 36), Changed: n.instant(changed)}
		rest = rest[2:]
	}
	m.Mode, m.UID, m.GID = entry.Is(fs.FileMode(n.unsigned(rest[0], 8))), entry.Is(n.signed(rest[1], 10)), entry.Is(n.signed(rest[2], 10))
	return m, n.err
}

func legacyItem(fields []string) (entry.Mark, error) {
	var m entry.Mark
	n := numbers36{}
	for i, field := range fields {
		parts := strings.Split(field, ".")
		switch {
		case i < 2 && len(parts) == 5:
			for k, file := range []*entry.Identity{&m.File, &m.Record} {
				if number := n.unsigned(parts[2*k], 36); number != 0 {
					*file = entry.Identity{Number: number, Changed: n.instant(parts[2*k+1])}
				}
			}
		case i > 0 && i == len(fields)-1 && len(parts) == 1:
			m.Inside = n.signed(field, 10)
		default:
			return m, errLegacy
		}
	}
	return m, n.err
}

// numbers36 reads numbers and remembers the first error.
type numbers36 struct{ err error }

func (n *numbers36) signed(text string, base int) int64 {
	v, err := strconv.ParseInt(text, base, 64)
	n.err = errors.Join(n.err, err)
	return v
}

func (n *numbers36) unsigned(text string, base int) uint64 {
	v, err := strconv.ParseUint(text, base, 64)
	n.err = errors.Join(n.err, err)
	return v
}

func (n *numbers36) instant(text string) entry.Instant {
	return entry.At(time.Unix(0, n.signed(text, 36)))
}
