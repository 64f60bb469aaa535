package registry

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/account"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// AccountName is an account as people name it.
type AccountName struct{ Machine, Name string }

// How much of homes is looked at for what is alike in them.
const (
	namesOfHome   = 300
	homesCompared = 500
)

// Questions lists accounts that may be one person's, with why that is asked. Nothing is read but the records.
func (r Registry) Questions(ctx context.Context) ([]account.Question, error) {
	persons, err := r.View.Persons.All(ctx)
	if err != nil {
		return nil, err
	}
	apart, err := r.View.Persons.Apart(ctx)
	if err != nil {
		return nil, err
	}
	var all []account.Account
	for _, p := range persons {
		for _, a := range p.Accounts {
			all = append(all, account.Account{Machine: a.Machine, Name: a.Name, FullName: a.FullName, Person: p.ID})
			if len(all) > homesCompared {
				continue
			}
			if all[len(all)-1].Holds, err = r.holds(ctx, place.Place{Machine: a.Machine, Path: a.Home}); err != nil {
				return nil, err
			}
		}
	}
	return account.Questions(all, func(one, other account.PersonID) bool {
		return apart[[2]account.PersonID{min(one, other), max(one, other)}]
	}), nil
}

// holds lists names of what people made in a home: not what programs keep there for themselves.
func (r Registry) holds(ctx context.Context, home place.Place) ([]string, error) {
	var all []string
	folders := []place.Place{home}
	below, err := r.View.Copies.FoldersIn(ctx, home, "")
	if err != nil {
		return nil, err
	}
	for _, name := range below {
		if !strings.HasPrefix(name, ".") {
			folders = append(folders, place.Place{Machine: home.Machine, Path: place.Join(home.Path, name)})
		}
	}
	for _, folder := range folders {
		last := ""
		for c, err := range r.View.Copies.In(ctx, folder, "") {
			if err != nil {
				return nil, err
			}
			if name := c.Place.Name(); name != last && !strings.HasPrefix(name, ".") {
				last = name
				all = append(all, name)
			}
			if len(all) >= namesOfHome {
				return all, nil
			}
		}
	}
	return all, nil
}

// person finds whose an account is.
func (r Registry) person(ctx context.Context, what string, a AccountName) (catalogue.Person, error) {
	p, err := r.View.Persons.With(ctx, a.Machine, a.Name)
	if errors.Is(err, catalogue.ErrNotFound) {
		err = &problem.Input{What: what, Err: err, Next: "List the persons.", Do: []problem.Step{{Do: problem.ListPersons}}}
	}
	return p, err
}

// JoinPersons says that accounts are one person's: of whom the first is.
func (r Registry) JoinPersons(ctx context.Context, accounts []AccountName) (catalogue.Person, error) {
	const what = "say that accounts are one person's"
	if len(accounts) < 2 {
		return catalogue.Person{}, &problem.Input{What: what, Err: errors.New("fewer than two were named"), Next: "Name two or more."}
	}
	one, err := r.person(ctx, what, accounts[0])
	if err != nil {
		return one, err
	}
	var others []account.PersonID
	for _, a := range accounts[1:] {
		other, err := r.person(ctx, what, a)
		if err != nil {
			return one, err
		}
		others = append(others, other.ID)
	}
	if err := r.Catalogue.Persons.Join(ctx, one.ID, others...); err != nil {
		return one, err
	}
	return r.person(ctx, what, accounts[0])
}

// PartPerson says that an account is not that person's whose it was said to be, but somebody's of its own.
func (r Registry) PartPerson(ctx context.Context, a AccountName) (catalogue.Person, error) {
	const what = "say that an account is somebody else's"
	p, err := r.person(ctx, what, a)
	if err != nil {
		return p, err
	}
	if len(p.Accounts) == 1 {
		return p, &problem.Input{What: what, Err: errors.New("it is the only one of that person already"), Next: "List the persons.",
			Do: []problem.Step{{Do: problem.ListPersons}}}
	}
	for _, of := range p.Accounts {
		if of.Machine == a.Machine && of.Name == a.Name {
			if err := r.Catalogue.Persons.Part(ctx, of.MachineID, of.Name); err != nil {
				return p, err
			}
		}
	}
	return r.person(ctx, what, a)
}

// KeepApart says that the persons who have two accounts are two, so that it is not asked again.
func (r Registry) KeepApart(ctx context.Context, one, other AccountName) error {
	const what = "say that accounts are two persons'"
	p, err := r.person(ctx, what, one)
	if err != nil {
		return err
	}
	q, err := r.person(ctx, what, other)
	if err != nil {
		return err
	}
	if p.ID == q.ID {
		return &problem.Input{What: what, Err: fmt.Errorf("%s@%s and %s@%s are one person's", one.Name, one.Machine, other.Name, other.Machine),
			Next: "Part one of them from that person first."}
	}
	return r.Catalogue.Persons.KeepApart(ctx, p.ID, q.ID)
}
