package rows

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// CaseState is how far a case is.
type CaseState string

// The states of a case.
const (
	CaseOpen    CaseState = "open"
	CaseWaiting CaseState = "waiting" // for the user
	CaseDone    CaseState = "done"
)

// Case is one request for help.
type Case struct {
	ID        int64
	State     CaseState
	OpenedAt  time.Time
	OpenedBy  string
	ChangedAt time.Time
	Version   int64 // counts every change
	Person    string
	Place     place.Place // Path is "" where only words are known
	Words     string
	Loss      advice.Loss
	Happened  string
	Good      time.Time
	Noticed   time.Time
	Hints     advice.Hints
	Entries   []CaseEntry // empty in lists
}

// EntryKind is what was done in a case.
type EntryKind string

// The kinds of entries.
const (
	EntryOpened  EntryKind = "opened"
	EntryChanged EntryKind = "changed"
	EntryState   EntryKind = "state"
	EntryNote    EntryKind = "note"
	EntryCopy    EntryKind = "copy"    // a copy was put into the case; Ref is its id
	EntryWrong   EntryKind = "wrong"   // a content is not the one; Ref is its digest
	EntryRight   EntryKind = "right"   // that is taken back
	EntryStep    EntryKind = "step"    // a first aid step was done; Ref is its id
	EntryUnstep  EntryKind = "unstep"  // that is taken back
	EntryReceipt EntryKind = "receipt" // something was brought back; Ref is the receipt's id
)

// CaseEntry is one thing that was done in a case.
type CaseEntry struct {
	N    int64
	At   time.Time
	By   string
	Kind EntryKind
	Text string
	Ref  string
	Work []byte // JSON of whoever added it
}

// ErrChangedMeanwhile says that somebody else changed it since it was read.
const ErrChangedMeanwhile = problem.ChangedByOther

const caseColumns = "id, state, opened_at, opened_by, changed_at, version, person, machine, path, words, loss, happened, good_at, " +
	"noticed_at, hints"

func scanCase(scan func(...any) error) (k Case, err error) {
	var opened, changed int64
	var good, noticed sql.NullInt64
	var hints string
	if err := scan(&k.ID, &k.State, &opened, &k.OpenedBy, &changed, &k.Version, &k.Person, &k.Place.Machine, &k.Place.Path, &k.Words,
		&k.Loss, &k.Happened, &good, &noticed, &hints); err != nil {
		return k, err
	}
	k.OpenedAt, k.ChangedAt, k.Good, k.Noticed = time.Unix(0, opened).UTC(), time.Unix(0, changed).UTC(), file.Moment(good), file.Moment(noticed)
	k.Hints, err = file.FromJSON[advice.Hints](hints)
	return k, err
}

// folded is what a search for a case looks in.
func (k *Case) folded(ctx context.Context, w *file.Writing) (string, error) {
	text := []string{k.Person, k.Place.Machine, place.Readable(k.Place.Path), k.Words, string(k.Loss), k.Happened}
	rows, err := w.QueryContext(ctx, "SELECT text FROM case_entries WHERE case_id = ? AND text <> ''", k.ID)
	if err != nil {
		return "", err
	}
	for rows.Next() {
		var line string
		if err := rows.Scan(&line); err != nil {
			return "", errors.Join(err, rows.Close())
		}
		text = append(text, line)
	}
	return names.Fold(strings.Join(text, "\n")), errors.Join(rows.Err(), rows.Close())
}

// Cases are requests for help.
type Cases struct{ f *file.File }

// NewCases returns those of a file.
func NewCases(f *file.File) *Cases { return &Cases{f} }

// Add keeps a new case with its first entry.
func (c *Cases) Add(ctx context.Context, k Case) (Case, error) {
	k.State, k.ChangedAt, k.Version = CaseOpen, k.OpenedAt, 1
	err := c.f.Tx(ctx, func(w *file.Writing) error {
		err := w.QueryRowContext(ctx, `INSERT INTO cases (state, opened_at, opened_by, changed_at, person, machine, path, words, loss,
			happened, good_at, noticed_at, hints, folded, machine_id)
			VALUES (?, ?, ?, ?, ?, ?6, ?, ?, ?, ?, ?, ?, ?, '', (SELECT id FROM machines WHERE name = ?6)) RETURNING id`, string(k.State), k.OpenedAt.UnixNano(), k.OpenedBy,
			k.ChangedAt.UnixNano(), k.Person, k.Place.Machine,
			[]byte(k.Place.Path), k.Words, string(k.Loss), k.Happened, file.Nanos(k.Good), file.Nanos(k.Noticed), file.ToJSON(k.Hints)).
			Scan(&k.ID)
		if err != nil {
			return err
		}
		return addEntries(ctx, w, k, []CaseEntry{{At: k.OpenedAt, By: k.OpenedBy, Kind: EntryOpened}})
	})
	if err != nil {
		return k, err
	}
	return c.ByID(ctx, k.ID)
}

func addEntries(ctx context.Context, w *file.Writing, k Case, entries []CaseEntry) error {
	for _, e := range entries {
		if _, err := w.ExecContext(ctx, `INSERT INTO case_entries (case_id, n, at, by, kind, text, ref, work)
			VALUES (?1, (SELECT coalesce(max(n), 0) + 1 FROM case_entries WHERE case_id = ?1), ?2, ?3, ?4, ?5, ?6, ?7)`, k.ID,
			e.At.UnixNano(), e.By, string(e.Kind), e.Text, e.Ref, string(e.Work)); err != nil {
			return err
		}
	}
	folded, err := k.folded(ctx, w)
	if err != nil {
		return err
	}
	_, err = w.ExecContext(ctx, "UPDATE cases SET folded = ? WHERE id = ?", folded, k.ID)
	return err
}

// Change keeps a case as it is now with what was done, if nobody changed it since version; 0 is for whatever version.
// Else it fails with ErrChangedMeanwhile.
func (c *Cases) Change(ctx context.Context, k Case, version int64, at time.Time, entries ...CaseEntry) (Case, error) {
	err := c.f.Tx(ctx, func(w *file.Writing) error {
		result, err := w.ExecContext(
			ctx,
			`UPDATE cases SET state = ?, changed_at = ?, version = version + 1, person = ?, machine = ?4, path = ?, words = ?, loss = ?,
				happened = ?,
			good_at = ?, noticed_at = ?, hints = ?, machine_id = (SELECT id FROM machines WHERE name = ?4) WHERE id = ? AND (?13 = 0 OR version = ?13)`,
			string(k.State),
			at.UnixNano(),
			k.Person,
			k.Place.Machine,
			[]byte(k.Place.Path),
			k.Words,
			string(k.Loss),
			k.Happened,
			file.Nanos(k.Good),
			file.Nanos(k.Noticed),
			file.ToJSON(k.Hints),
			k.ID,
			version,
		)
		if err := file.Affected(result, err); errors.Is(err, problem.NotKnown) {
			return ErrChangedMeanwhile
		} else if err != nil {
			return err
		}
		return addEntries(ctx, w, k, entries)
	})
	if err != nil {
		return k, err
	}
	return c.ByID(ctx, k.ID)
}

// AddEntry keeps what was done in a case without changing what it says.
func (c *Cases) AddEntry(ctx context.Context, id int64, e CaseEntry) (Case, error) {
	k, err := c.ByID(ctx, id)
	if err != nil {
		return k, err
	}
	err = c.f.Tx(ctx, func(w *file.Writing) error {
		if _, err := w.ExecContext(ctx, "UPDATE cases SET changed_at = ?, version = version + 1 WHERE id = ?", e.At.UnixNano(),
			id); err != nil {
			return err
		}
		return addEntries(ctx, w, k, []CaseEntry{e})
	})
	if err != nil {
		return k, err
	}
	return c.ByID(ctx, id)
}

// ByID returns one case with everything that was done in it.
func (c *Cases) ByID(ctx context.Context, id int64) (Case, error) { return c.byID(ctx, "id = ?", id) }

func (c *Cases) byID(ctx context.Context, where string, args ...any) (Case, error) {
	k, err := scanCase(c.f.Read.QueryRowContext(ctx, "SELECT "+caseColumns+" FROM cases WHERE "+where, args...).Scan)
	if err != nil {
		return k, file.NoRows(err)
	}
	rows, err := c.f.Read.QueryContext(ctx, "SELECT n, at, by, kind, text, ref, work FROM case_entries WHERE case_id = ? ORDER BY n", k.ID)
	if err != nil {
		return k, err
	}
	defer rows.Close()
	for rows.Next() {
		var e CaseEntry
		var at int64
		if err := rows.Scan(&e.N, &at, &e.By, &e.Kind, &e.Text, &e.Ref, &e.Work); err != nil {
			return k, err
		}
		e.At = time.Unix(0, at).UTC()
		k.Entries = append(k.Entries, e)
	}
	return k, rows.Err()
}

// matching lists cases that may be known to somebody, the one changed last first: those of a state ("" for all) in which all words, folded,
// occur, after skip others, at most limit.
func (c *Cases) matching(ctx context.Context, within, whose string, state CaseState, words []string, skip, limit int) ([]Case, error) {
	where, args := within+" AND (?2 = '' OR state = ?2)", []any{whose, string(state)}
	for _, word := range words {
		where += " AND instr(folded, ?) > 0"
		args = append(args, word)
	}
	rows, err := c.f.Read.QueryContext(
		ctx,
		"SELECT "+caseColumns+" FROM cases WHERE "+where+" ORDER BY changed_at DESC, id DESC LIMIT ? OFFSET ?",
		append(args, limit, skip)...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Case
	for rows.Next() {
		k, err := scanCase(rows.Scan)
		if err != nil {
			return nil, err
		}
		all = append(all, k)
	}
	return all, rows.Err()
}
