package catalogue

import (
	"context"
	"errors"
	"strconv"
	"strings"

	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/catalogue/spans"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/principal"
)

// View is what somebody may know. Whatever reads for somebody reads through one; there is no other way to the copies. What is out of scope is
// ErrNotFound, in the words that are said of what is not there. A store belongs to the machine whose files it holds: on which machine it
// lies is told with it, and no more of that machine.
type View struct {
	Machines rows.MachineView
	Persons  rows.PersonView
	Sources  rows.SourceView
	Jobs     rows.JobView
	Receipts rows.ReceiptView
	Cases    rows.CaseView
	Copies   spans.Copies
	Search   spans.Search
}

// View returns what somebody may know.
func (c *Catalogue) View(of principal.Principal) View {
	v := View{Machines: c.Machines.View(of.Scope), Persons: c.Persons.View(of.Scope), Sources: c.Sources.View(of.Scope), Jobs: c.Jobs.View(of.Scope),
		Receipts: c.Receipts.View(of.Scope)}
	v.Copies, v.Search = c.spans.View(of.Scope)
	v.Cases = c.Cases.View(of, v.known)
	return v
}

// AccountsOf returns the accounts of all whom a name, or a number such as p3, may mean: of each person that has one of that name all of his.
// They are by machine.
func (v View) AccountsOf(ctx context.Context, name string) (map[string][]string, error) {
	persons, err := v.Persons.Named(ctx, name)
	if err != nil {
		return nil, err
	}
	all := map[string][]string{}
	for _, p := range persons {
		for _, a := range p.Accounts {
			all[a.Machine] = append(all[a.Machine], a.Name)
		}
	}
	return all, nil
}

// Everything is the view of the service itself: of its surveys, of what it settles, of its daily round.
func (c *Catalogue) Everything() View {
	return c.View(principal.Principal{Name: TheService, Scope: principal.Everything()})
}

// known tells of what was done in a case whether the copy or the receipt that it names may be known.
func (v View) known(ctx context.Context, e CaseEntry) (bool, error) {
	name, _, _ := strings.Cut(e.Ref, " ")
	var err error
	if e.Kind == EntryReceipt {
		id, bad := strconv.ParseInt(strings.TrimPrefix(name, "r"), 10, 64)
		if bad != nil {
			return false, nil
		}
		_, err = v.Receipts.ByID(ctx, id)
	} else {
		id, bad := strconv.ParseInt(strings.TrimPrefix(name, "c"), 10, 64)
		if bad != nil {
			return false, nil
		}
		_, err = v.Copies.ByID(ctx, copies.ID(id))
	}
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}
