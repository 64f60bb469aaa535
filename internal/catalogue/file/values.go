package file

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/problem"
)

// Nanos is how a time is kept; one that cannot be counted so is unknown.
func Nanos(t time.Time) sql.NullInt64 {
	return sql.NullInt64{Int64: t.UnixNano(), Valid: entry.Countable(t)}
}

// Moment reads a time that is kept; the zero Time where it is unknown.
func Moment(n sql.NullInt64) time.Time {
	if !n.Valid {
		return time.Time{}
	}
	return time.Unix(0, n.Int64).UTC()
}

// ToJSON writes a list or a struct of plain fields.
func ToJSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // nothing else comes here
	}
	return string(b)
}

// FromJSON reads what ToJSON wrote; "" is the zero value.
func FromJSON[T any](text string) (v T, err error) {
	if text == "" {
		return v, nil
	}
	err = json.Unmarshal([]byte(text), &v)
	return v, err
}

// Affected turns a change of no rows into problem.NotKnown.
func Affected(result sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, problem.NotKnown)
	}
	return nil
}

// NoRows turns sql.ErrNoRows into problem.NotKnown.
func NoRows(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return problem.NotKnown
	}
	return err
}

// Taken turns a row that is there already into problem.Known.
func Taken(err error, what string) error {
	if fault, ok := errors.AsType[*sqlite.Error](err); ok && fault.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE {
		return fmt.Errorf("%s: %w", what, problem.Known)
	}
	return err
}

// Marks writes n parameters.
func Marks(n int) string { return strings.TrimSuffix(strings.Repeat("?,", n), ",") }

// Tuples writes rows of parameters.
func Tuples(columns, rows int) string {
	one := "(" + Marks(columns) + ")"
	return strings.Repeat(one+",", rows-1) + one
}
