package service

import (
	"context"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/account"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/say"
)

// ListPersons lists who has which accounts, and what is to be asked of them.
func (s *Service) ListPersons(ctx context.Context, _ api.ListPersonsRequestObject) (api.ListPersonsResponseObject, error) {
	who := s.asked(ctx)
	persons, err := who.view.Persons.All(ctx)
	if err != nil {
		return nil, err
	}
	questions, err := who.registry.Questions(ctx)
	if err != nil {
		return nil, err
	}
	a := api.ListPersons200JSONResponse{Persons: make([]api.KnownPerson, len(persons)), Questions: make([]api.PersonQuestion, len(questions))}
	for i, p := range persons {
		a.Persons[i] = toPerson(p)
	}
	for i, q := range questions {
		asked := api.PersonQuestion{One: toAccount(q.One), Other: toAccount(q.Other)}
		for _, why := range q.Reasons {
			asked.Why = append(asked.Why, toReason(say.Speaker{Now: s.now()}, remark.New(string(why))))
		}
		a.Questions[i] = asked
	}
	return a, nil
}

func toAccount(a account.Account) api.Account {
	return api.Account{Machine: a.Machine, Name: a.Name, FullName: optional(a.FullName)}
}

func toPerson(p catalogue.Person) api.KnownPerson {
	a := api.KnownPerson{Id: p.ID.String(), Name: p.Name, Accounts: make([]api.Account, len(p.Accounts))}
	for i, of := range p.Accounts {
		a.Accounts[i] = api.Account{Machine: of.Machine, Name: of.Name, FullName: optional(of.FullName), Home: optional(place.Readable(of.Home))}
	}
	return a
}

func fromAccounts(all []api.Account) []registry.AccountName {
	names := make([]registry.AccountName, len(all))
	for i, a := range all {
		names[i] = registry.AccountName{Machine: a.Machine, Name: a.Name}
	}
	return names
}

// JoinPersons says that accounts are one person's.
func (s *Service) JoinPersons(ctx context.Context, request api.JoinPersonsRequestObject) (api.JoinPersonsResponseObject, error) {
	accounts := fromAccounts(request.Body.Accounts)
	p, err := s.asked(ctx).registry.JoinPersons(ctx, accounts)
	if err != nil {
		return nil, err
	}
	s.tellOf(accounts)
	return api.JoinPersons200JSONResponse(toPerson(p)), nil
}

// PartPersons says that accounts are not one person's.
func (s *Service) PartPersons(ctx context.Context, request api.PartPersonsRequestObject) (api.PartPersonsResponseObject, error) {
	accounts := fromAccounts(request.Body.Accounts)
	var err error
	switch of := s.asked(ctx).registry; len(accounts) {
	case 1:
		_, err = of.PartPerson(ctx, accounts[0])
	case 2:
		err = of.KeepApart(ctx, accounts[0], accounts[1])
	default:
		return nil, badRequest("Not one or two accounts were named.", "Name one that is not the person's that it was said to be, or two that are two persons'.")
	}
	if err != nil {
		return nil, err
	}
	s.tellOf(accounts)
	return api.PartPersons204Response{}, nil
}

func (s *Service) tellOf(accounts []registry.AccountName) {
	for _, a := range accounts {
		s.changes.tell(changedMachine, a.Machine)
	}
}
