package file

import (
	"context"
	"database/sql"
	"strings"
	"sync"
)

// Querier is what reads: the readers, the writer's connection, or a transaction of that.
type Querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// Statements is a querier that prepares each statement once, whichever of the readers runs it. Only texts that do not depend on what is
// asked for may be given to it.
type Statements struct {
	db  *sql.DB
	mu  sync.Mutex
	all map[string]*sql.Stmt
}

func (s *Statements) prepared(ctx context.Context, query string) (*sql.Stmt, error) {
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

// QueryContext runs a query that answers with rows.
func (s *Statements) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	stmt, err := s.prepared(ctx, query)
	if err != nil {
		return nil, err
	}
	return stmt.QueryContext(ctx, args...)
}

// QueryRowContext runs a query that answers with one row.
func (s *Statements) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	stmt, err := s.prepared(ctx, query)
	if err != nil {
		return s.db.QueryRowContext(ctx, query, args...) // which says why
	}
	return stmt.QueryRowContext(ctx, args...)
}

// Writing is a transaction that prepares each statement once.
type Writing struct {
	tx  *sql.Tx
	all map[string]*sql.Stmt
}

// NewWriting writes in a transaction.
func NewWriting(tx *sql.Tx) *Writing { return &Writing{tx, map[string]*sql.Stmt{}} }

func (w *Writing) prepared(ctx context.Context, query string) (*sql.Stmt, error) {
	if stmt, ok := w.all[query]; ok {
		return stmt, nil
	}
	stmt, err := w.tx.PrepareContext(ctx, query) // closed with the transaction
	if err == nil {
		w.all[query] = stmt
	}
	return stmt, err
}

// Exec runs a statement.
func (w *Writing) Exec(ctx context.Context, query string, args ...any) error {
	stmt, err := w.prepared(ctx, query)
	if err == nil {
		_, err = stmt.ExecContext(ctx, args...)
	}
	return err
}

// QueryContext runs a query that answers with rows.
func (w *Writing) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	stmt, err := w.prepared(ctx, query)
	if err != nil {
		return nil, err
	}
	return stmt.QueryContext(ctx, args...)
}

// QueryRowContext runs a query that answers with one row.
func (w *Writing) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	stmt, err := w.prepared(ctx, query)
	if err != nil {
		return w.tx.QueryRowContext(ctx, query, args...) // which says why
	}
	return stmt.QueryRowContext(ctx, args...)
}

// rowsAtOnce is how many rows one statement inserts.
const rowsAtOnce = 32

// Inserter gathers rows of one table, for a statement costs more than a row.
type Inserter struct {
	w          *Writing
	head, tail string // of the statement: "INSERT INTO t (a, b)", and what follows the values
	columns    int
	args       []any
}

// ExecContext runs a statement once.
func (w *Writing) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	return w.tx.ExecContext(ctx, query, args...)
}

// Inserter begins an insertion: head is the statement up to its values, tail what follows them.
func (w *Writing) Inserter(head, tail string, columns int) *Inserter {
	return &Inserter{w: w, head: head, tail: tail, columns: columns, args: make([]any, 0, columns*rowsAtOnce)}
}

func (i *Inserter) statement(rows int) string {
	row := "(" + Marks(i.columns) + ")"
	return i.head + " VALUES " + strings.Repeat(row+",", rows-1) + row + " " + i.tail
}

// Add adds a row.
func (i *Inserter) Add(ctx context.Context, row ...any) error {
	i.args = append(i.args, row...)
	if len(i.args) < i.columns*rowsAtOnce {
		return nil
	}
	err := i.w.Exec(ctx, i.statement(rowsAtOnce), i.args...)
	i.args = i.args[:0]
	return err
}

// Flush writes what is left.
func (i *Inserter) Flush(ctx context.Context) error {
	for ; len(i.args) > 0; i.args = i.args[i.columns:] {
		if err := i.w.Exec(ctx, i.statement(1), i.args[:i.columns]...); err != nil {
			return err
		}
	}
	i.args = nil
	return nil
}

// Numbers reads a query's one column of numbers.
func Numbers(rows *sql.Rows, err error) ([]int64, error) {
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
