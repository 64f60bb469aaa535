package service

import (
	"context"
	"fmt"
	"strings"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/intact"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sealed"
	"humble-rewind/internal/core/traits"
)

// FindCopies finds copies by words and filters.
func (s *Service) FindCopies(ctx context.Context, request api.FindCopiesRequestObject) (api.FindCopiesResponseObject, error) {
	query, err := s.query(ctx, request.Params)
	if err != nil {
		return nil, err
	}
	found, err := s.asked(ctx).view.Search.Find(ctx, query)
	if err != nil {
		return nil, err
	}
	page := make([]api.Copy, len(found.Copies))
	for i, c := range found.Copies {
		page[i] = toCopy(c)
	}
	if err := s.sealed(ctx, found.Copies, page); err != nil {
		return nil, err
	}
	return api.FindCopies200JSONResponse{Copies: page, Total: found.Total, TotalExact: found.Exact, Next: optional(found.Next)}, nil
}

// sealed says of copies whose names suggest it in which folder they lie that only makes sense whole. All files of a folder are
// answered by looking once.
func (s *Service) sealed(ctx context.Context, found []catalogue.Shown, shown []api.Copy) error {
	looked := map[place.Place]*api.SealedFolder{}
	for i, c := range found {
		if c.Lost || c.Type == entry.Folder || !sealed.Meaningless(c.Place.Name()) && !sealed.MayMark(c.Place.Name()) {
			continue
		}
		in := place.Place{Machine: c.Place.Machine, Path: place.Folder(c.Place.Path)}
		if _, ok := looked[in]; !ok {
			folder, why, err := s.asked(ctx).past.SealedWith(ctx, in)
			if err != nil {
				return err
			}
			looked[in] = toSealed(in.Machine, folder, why)
		}
		shown[i].Sealed = looked[in]
	}
	return nil
}

// query checks the parameters: a filter that names what does not exist is an error, not an empty answer.
func (s *Service) query(ctx context.Context, p api.FindCopiesParams) (catalogue.Query, error) {
	q := catalogue.Query{Words: value(p.Words), Machine: value(p.Machine), Class: string(value(p.Type)),
		State: string(
			value(p.State),
		), Condition: string(value(p.Condition)), GoneSince: value(p.GoneSince), ExpiresBefore: value(p.ExpiresBefore),
		Kind: value(p.Source), Shape: traits.Shape(value(p.Shape)),
		Records: value(
			p.Records,
		), Whole: value(p.Whole), Sort: catalogue.Sort(value(p.Sort)), Limit: value(p.Limit), Cursor: value(p.Cursor)}
	q.Named, q.Least, q.Most = p.Named, value(p.Least), value(p.Most)
	q.NoLoose = p.Source == nil && p.Shape == nil && p.Named == nil && p.Intact == nil // thousands of them would hide what has a name
	for _, word := range value(p.Intact) {
		state, err := intact.Parse(string(word))
		if err != nil {
			return q, badRequest(fmt.Sprintf("%q does not say how much of a trace is intact.", word),
				"Choose whole, if-in-one-piece, in-part, unread, wiped or overwritten.")
		}
		q.Intact = append(q.Intact, state)
	}
	switch {
	case p.Least != nil && q.Least < 0, p.Most != nil && q.Most < 1, q.Most > 0 && q.Least > q.Most:
		return q, badRequest("No size is at least that and at most the other.", "Give sizes in bytes, the smaller one as the least.")
	case len(q.Words) > 1000:
		return q, badRequest("More than 1000 bytes of words were given.", "Give a few words that are in the name.")
	case p.Limit != nil && (q.Limit < 1 || q.Limit > 1000):
		return q, badRequest("The limit must be from 1 to 1000.", "Leave it out for the default.")
	case p.Type != nil && !p.Type.Valid():
		return q, badRequest(
			fmt.Sprintf("%q is not a type of file.", *p.Type),
			"Choose documents, spreadsheets, drawings, pictures, contacts, calendars, mail, archives, sound, video, programs, folders "+
				"or other.",
		)
	case p.State != nil && !p.State.Valid():
		return q, badRequest(fmt.Sprintf("%q is not a state.", *p.State), "Choose gone, present or changed.")
	case p.Condition != nil && !p.Condition.Valid():
		return q, badRequest(fmt.Sprintf("%q is not a condition.", *p.Condition), "Choose sound, doubtful, broken or unread.")
	case p.Shape != nil && !p.Shape.Valid():
		return q, badRequest(fmt.Sprintf("%q is not a shape of stores.", *p.Shape), "Choose now, points, versions, kept, removals or traces.")
	case p.Sort != nil && !p.Sort.Valid():
		return q, badRequest(fmt.Sprintf("Copies cannot be ordered by %q.", *p.Sort), "Choose gone, written, name, size or expires.")
	}
	if q.Machine != "" {
		if _, err := s.asked(ctx).view.Machines.Named(ctx, q.Machine); err != nil {
			return q, &problem.Input{
				What: "find on machine " + q.Machine,
				Err:  err,
				Next: "List the machines.",
				Do:   []problem.Step{{Do: problem.ListMachines}},
			}
		}
	}
	if q.Kind != "" {
		if _, err := s.site.Kinds.Named(q.Kind); err != nil {
			return q, &problem.Input{What: "find in sources", Err: err, Next: "Choose one of the known kinds."}
		}
	}
	if whose := value(p.Person); whose != "" {
		var err error
		if q.People, err = s.knownPerson(ctx, whose); err != nil {
			return q, err
		}
	}
	return q, s.under(p, &q)
}

// knownPerson returns the accounts of whom a name, or a number such as p3, may mean.
func (s *Service) knownPerson(ctx context.Context, name string) (map[string][]string, error) {
	view := s.asked(ctx).view
	accounts, err := view.AccountsOf(ctx, name)
	if err != nil || len(accounts) > 0 {
		return accounts, err
	}
	people, err := view.Machines.People(ctx)
	if err != nil {
		return nil, err
	}
	return nil, &problem.Input{
		What: "find what belongs to " + name,
		Err:  fmt.Errorf("nobody of that name has a home on a machine: %w", catalogue.ErrNotFound),
		Next: "Known are: " + strings.Join(people, ", "),
	}
}

// under reads the folder, given as a path or as machine:/path, and the folder copy to list.
func (s *Service) under(p api.FindCopiesParams, q *catalogue.Query) (err error) {
	if p.ItemOf != nil {
		if q.ItemOf, err = number[copies.ID]("c", *p.ItemOf); err != nil {
			return err
		}
	}
	under := value(p.Under)
	if under == "" {
		return nil
	}
	if !strings.HasPrefix(under, "/") {
		if in, err := place.Parse(under); err == nil {
			q.Machine, under = in.Machine, in.Path
		}
	}
	if q.Under, err = place.Clean(under); err != nil {
		return badRequest(err.Error(), "Give an absolute path, or machine:/path.")
	}
	return nil
}

// GetCopy shows one copy.
func (s *Service) GetCopy(ctx context.Context, request api.GetCopyRequestObject) (api.GetCopyResponseObject, error) {
	c, err := s.copyOf(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	shown, err := s.shown(ctx, c)
	return api.GetCopy200JSONResponse(shown), err
}

func (s *Service) copyOf(ctx context.Context, id string) (*copies.Copy, error) {
	n, err := number[copies.ID]("c", id)
	if err != nil {
		return nil, err
	}
	return s.asked(ctx).view.Copies.ByID(ctx, n)
}

// shown shows one copy.
func (s *Service) shown(ctx context.Context, c *copies.Copy) (api.Copy, error) {
	shown, err := s.asked(ctx).view.Copies.Shown(ctx, []*copies.Copy{c})
	if err != nil {
		return api.Copy{}, err
	}
	return toCopy(shown[0]), nil
}
