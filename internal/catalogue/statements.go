package catalogue

import (
	"context"
	"database/sql"
	"humble-rewind/internal/core/copies"
	"strings"
	"sync"
)

// statements is a querier that prepares each statement once, whichever of the readers runs it. Only texts that do not depend on what is
// asked for may be given to it.
type statements struct {
	db  *sql.DB
	mu  sync.Mutex
	all map[string]*sql.Stmt
}

func (s *statements) prepared(ctx context.Context, query string) (*sql.Stmt, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if stmt, ok := s.all[query]; ok {
		return stmt, nil
	}
	stmt, err := s.db.PrepareContext(context.WithoutCancel(ctx), query)
	if err == nil {
		if s.all == nil {
			s.all = map[string]*sql.Stmt{}
		}
		s.all[query] = stmt
	}
	return stmt, err
}

func (s *statements) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	stmt, err := s.prepared(ctx, query)
	if err != nil {
		return nil, err
	}
	return stmt.QueryContext(ctx, args...)
}

func (s *statements) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	stmt, err := s.prepared(ctx, query)
	if err != nil {
		return s.db.QueryRowContext(ctx, query, args...) // which says why
	}
	return stmt.QueryRowContext(ctx, args...)
}

// writing is a transaction that prepares each statement once.
type writing struct {
	tx  *sql.Tx
	all map[string]*sql.Stmt
}

func newWriting(tx *sql.Tx) *writing { return &writing{tx, map[string]*sql.Stmt{}} }

func (w *writing) prepared(ctx context.Context, query string) (*sql.Stmt, error) {
	if stmt, ok := w.all[query]; ok {
		return stmt, nil
	}
	stmt, err := w.tx.PrepareContext(ctx, query) // closed with the transaction
	if err == nil {
		w.all[query] = stmt
	}
	return stmt, err
}

func (w *writing) exec(ctx context.Context, query string, args ...any) error {
	stmt, err := w.prepared(ctx, query)
	if err == nil {
		_, err = stmt.ExecContext(ctx, args...)
	}
	return err
}

func (w *writing) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	stmt, err := w.prepared(ctx, query)
	if err != nil {
		return nil, err
	}
	return stmt.QueryContext(ctx, args...)
}

func (w *writing) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	stmt, err := w.prepared(ctx, query)
	if err != nil {
		return w.tx.QueryRowContext(ctx, query, args...) // which says why
	}
	return stmt.QueryRowContext(ctx, args...)
}

// rowsAtOnce is how many rows one statement inserts.
const rowsAtOnce = 32

// inserter gathers rows of one table, for a statement costs more than a row.
type inserter struct {
	w          *writing
	head, tail string // of the statement: "INSERT INTO t (a, b)", and what follows the values
	columns    int
	args       []any
}

func (w *writing) inserter(head, tail string, columns int) *inserter {
	return &inserter{w: w, head: head, tail: tail, columns: columns, args: make([]any, 0, columns*rowsAtOnce)}
}

func (i *inserter) statement(rows int) string {
	row := "(" + marks(i.columns) + ")"
	return i.head + " VALUES " + strings.Repeat(row+",", rows-1) + row + " " + i.tail
}

func (i *inserter) add(ctx context.Context, row ...any) error {
	i.args = append(i.args, row...)
	if len(i.args) < i.columns*rowsAtOnce {
		return nil
	}
	err := i.w.exec(ctx, i.statement(rowsAtOnce), i.args...)
	i.args = i.args[:0]
	return err
}

func (i *inserter) flush(ctx context.Context) error {
	for ; len(i.args) > 0; i.args = i.args[i.columns:] {
		if err := i.w.exec(ctx, i.statement(1), i.args[:i.columns]...); err != nil {
			return err
		}
	}
	i.args = nil
	return nil
}

// copyIDs takes numbers for those of copies.
func copyIDs(numbers []int64) []copies.ID {
	ids := make([]copies.ID, len(numbers))
	for i, n := range numbers {
		ids[i] = copies.ID(n)
	}
	return ids
}

// numbers reads a query's one column of numbers.
func numbers(rows *sql.Rows, err error) ([]int64, error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := []int64{}
	for rows.Next() {
		var n int64
		if err := rows.Scan(&n); err != nil {
			return nil, err
		}
		all = append(all, n)
	}
	return all, rows.Err()
}
