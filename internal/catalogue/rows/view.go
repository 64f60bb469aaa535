package rows

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/principal"
	"humble-rewind/internal/core/problem"
)

// What somebody with a scope may read of rows. What is not in it is problem.NotKnown, in the words that are said of what is not there.
type (
	// MachineView are the machines of a scope.
	MachineView struct {
		all   *Machines
		scope principal.Scope
	}
	// SourceView are the sources of its machines, wherever they are.
	SourceView struct {
		all   *Sources
		scope principal.Scope
	}
	// JobView are the jobs that work on its machines alone.
	JobView struct {
		all   *Jobs
		scope principal.Scope
	}
	// ReceiptView are the receipts that speak of its machines alone.
	ReceiptView struct {
		all   *Receipts
		scope principal.Scope
	}
	// CaseView are the cases on its machines, and those that name none and were opened by whoever asks. What was done in them is told as
	// far as it speaks of copies and receipts that are in the scope.
	CaseView struct {
		all   *Cases
		whose principal.Principal
		known func(ctx context.Context, e CaseEntry) (bool, error)
	}
)

// View returns the machines of a scope.
func (c *Machines) View(scope principal.Scope) MachineView { return MachineView{c, scope} }

// View returns the sources of the machines of a scope.
func (c *Sources) View(scope principal.Scope) SourceView { return SourceView{c, scope} }

// View returns the jobs of a scope.
func (c *Jobs) View(scope principal.Scope) JobView { return JobView{c, scope} }

// View returns the receipts of a scope.
func (c *Receipts) View(scope principal.Scope) ReceiptView { return ReceiptView{c, scope} }

// View returns the cases that somebody may know of. known tells of an entry that names a copy or a receipt whether that is in scope.
func (c *Cases) View(whose principal.Principal, known func(ctx context.Context, e CaseEntry) (bool, error)) CaseView {
	return CaseView{c, whose, known}
}

// All lists the machines by name.
func (v MachineView) All(ctx context.Context) ([]Machine, error) {
	all, err := v.all.All(ctx)
	return slices.DeleteFunc(all, func(m Machine) bool { return !v.scope.Has(m.ID) }), err
}

// Named returns a machine by its name. What it holds is shared and must not be changed.
func (v MachineView) Named(ctx context.Context, name string) (Machine, error) {
	m, err := v.all.Named(ctx, name)
	if err == nil && !v.scope.Has(m.ID) {
		return Machine{}, fmt.Errorf("machine %v: %w", name, problem.NotKnown)
	}
	return m, err
}

// People lists everybody who has a home on one of the machines.
func (v MachineView) People(ctx context.Context) ([]string, error) {
	if v.scope.Whole() {
		return v.all.People(ctx)
	}
	machines, err := v.All(ctx)
	if err != nil {
		return nil, err
	}
	var all []string
	for _, m := range machines {
		for _, p := range m.People {
			all = append(all, p.Name)
		}
	}
	slices.Sort(all)
	return slices.Compact(all), nil
}

// FormerHomes lists the homes that people of a machine had before, with when they were last theirs.
func (v MachineView) FormerHomes(ctx context.Context, machine string) (map[string]map[string]time.Time, error) {
	if _, err := v.Named(ctx, machine); err != nil {
		return nil, err
	}
	return v.all.FormerHomes(ctx, machine)
}

// ByID returns a source by its number.
func (v SourceView) ByID(ctx context.Context, id copies.SourceID) (Source, error) {
	s, err := v.all.ByID(ctx, id)
	if err == nil && !v.scope.Has(s.MachineID) {
		return Source{}, fmt.Errorf("source %s: %w", id, problem.NotKnown)
	}
	return s, err
}

// Of lists all sources, or those of one machine where it is not "".
func (v SourceView) Of(ctx context.Context, machine string) ([]Source, error) {
	all, err := v.all.Of(ctx, machine)
	return slices.DeleteFunc(all, func(s Source) bool { return !v.scope.Has(s.MachineID) }), err
}

// listed lists the numbers of the machines of a scope.
func listed(scope principal.Scope) string {
	var ids []string
	for _, id := range scope.Machines() {
		ids = append(ids, strconv.FormatInt(int64(id), 10))
	}
	return strings.Join(ids, ",")
}

// within is a condition that holds for rows all of whose machines, of which there is one, are in a scope. Its machines are listed in a table
// with the column named of.
func within(scope principal.Scope, table, of, row string) string {
	if scope.Whole() {
		return "1"
	}
	return fmt.Sprintf("EXISTS (SELECT 1 FROM %[1]s x WHERE x.%[2]s = %[3]s) AND NOT EXISTS (SELECT 1 FROM %[1]s x WHERE x.%[2]s = %[3]s AND "+
		"(x.machine_id IS NULL OR x.machine_id NOT IN (%[4]s)))", table, of, row, listed(scope))
}

// jobsWithin is the condition on jobs: a job that has a receipt speaks of the machines of that.
func jobsWithin(scope principal.Scope) string {
	if scope.Whole() {
		return "1"
	}
	return "CASE WHEN receipt_id IS NULL THEN " + within(scope, "job_machines", "job_id", "jobs.id") + " ELSE " +
		within(scope, "receipt_machines", "receipt_id", "jobs.receipt_id") + " END"
}

func receiptsWithin(scope principal.Scope) string {
	return within(scope, "receipt_machines", "receipt_id", "r.id")
}

// ByID returns a job by its number.
func (v JobView) ByID(ctx context.Context, id int64) (Job, error) {
	all, err := v.all.jobs(ctx, "id = ? AND "+jobsWithin(v.scope), id)
	return oneJob(all, err, id)
}

// Before lists jobs before the one numbered before (0: from the newest), newest first.
func (v JobView) Before(ctx context.Context, kind string, before int64, limit int) ([]Job, error) {
	return v.all.before(ctx, jobsWithin(v.scope), kind, before, limit)
}

// ByID returns a receipt without its items.
func (v ReceiptView) ByID(ctx context.Context, id int64) (Receipt, error) {
	all, err := v.all.receipts(ctx, "r.id = ? AND "+receiptsWithin(v.scope), id)
	return oneReceipt(all, err, id)
}

// Before lists receipts before the one numbered before (0: from the newest), newest first, without items.
func (v ReceiptView) Before(ctx context.Context, before int64, limit int) ([]Receipt, error) {
	return v.all.receipts(ctx, "(?1 = 0 OR r.id < ?1) AND "+receiptsWithin(v.scope)+" ORDER BY r.id DESC LIMIT ?2", before, limit)
}

// Items returns items of a receipt, in the order in which they are carried out.
func (v ReceiptView) Items(ctx context.Context, receipt int64, from, limit int) ([]ReceiptItem, error) {
	if _, err := v.ByID(ctx, receipt); err != nil {
		return nil, err
	}
	return v.all.Items(ctx, receipt, from, limit)
}

// where is the condition on cases. Who asks is its last parameter.
func (v CaseView) where() string {
	if v.whose.Scope.Whole() {
		return "?1 = ?1"
	}
	return "(machine_id IN (" + listed(v.whose.Scope) + ") OR machine = '' AND opened_by = ?1)"
}

// ByID returns one case with what was done in it.
func (v CaseView) ByID(ctx context.Context, id int64) (Case, error) {
	k, err := v.all.byID(ctx, v.where()+" AND id = ?2", v.whose.Name, id)
	if err != nil || v.whose.Scope.Whole() {
		return k, err
	}
	return k, v.leaveOut(ctx, &k)
}

// leaveOut leaves out of a case what speaks of copies and receipts out of scope.
func (v CaseView) leaveOut(ctx context.Context, k *Case) error {
	seen := make([]CaseEntry, 0, len(k.Entries))
	for _, e := range k.Entries {
		switch e.Kind {
		case EntryCopy, EntryWrong, EntryRight, EntryReceipt:
			if known, err := v.known(ctx, e); err != nil {
				return err
			} else if !known {
				continue
			}
		}
		seen = append(seen, e)
	}
	k.Entries = seen
	return nil
}

// Matching lists cases, the one changed last first: those of a state ("" for all) in which all words occur, after skip others, at most limit.
func (v CaseView) Matching(ctx context.Context, state CaseState, words string, skip, limit int) ([]Case, error) {
	folded := strings.Fields(names.Fold(words))
	if v.whose.Scope.Whole() || len(folded) == 0 {
		return v.all.matching(ctx, v.where(), v.whose.Name, state, folded, skip, limit)
	}
	var all []Case // a word that only stands in what is left out finds nothing
	for from := 0; len(all) < skip+limit; from += limit {
		some, err := v.all.matching(ctx, v.where(), v.whose.Name, state, folded, from, limit)
		if err != nil {
			return nil, err
		}
		for _, k := range some {
			seen, err := v.ByID(ctx, k.ID)
			if err != nil {
				return nil, err
			}
			text := []string{k.Person, k.Place.Machine, place.Readable(k.Place.Path), k.Words, string(k.Loss), k.Happened}
			for _, e := range seen.Entries {
				text = append(text, e.Text)
			}
			whole := names.Fold(strings.Join(text, "\n"))
			if !slices.ContainsFunc(folded, func(word string) bool { return !strings.Contains(whole, word) }) {
				all = append(all, k)
			}
		}
		if len(some) < limit {
			break
		}
	}
	return all[min(skip, len(all)):min(skip+limit, len(all))], nil
}
