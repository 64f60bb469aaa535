package service

import (
	"cmp"
	"context"
	"fmt"
	"net/http"

	"humble-rewind/api"
	"humble-rewind/internal/cases"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/restore"
)

// maxCopies is how many copies one request may bring back.
const maxCopies = 100_000

// BringBack plans a bring-back or begins to carry it out.
func (s *Service) BringBack(ctx context.Context, request api.BringBackRequestObject) (api.BringBackResponseObject, error) {
	wanted, err := fromBringBack(*request.Body)
	if err != nil {
		return nil, err
	}
	var forCase int64
	var why cases.Reasons
	if request.Body.Case != nil {
		if forCase, wanted, why, err = s.forCase(ctx, *request.Body.Case, wanted, request.Body.Zone); err != nil {
			return nil, err
		}
	}
	planned, err := s.asked(ctx).restorer.Plan(ctx, wanted)
	if err != nil {
		return nil, err
	}
	if value(request.Body.DryRun) {
		return shownPlan{ctx, planned}, nil
	}
	// From here on the client's going away changes nothing.
	ctx = context.WithoutCancel(ctx)
	receipt, err := s.asked(ctx).restorer.Begin(ctx, planned, technician(ctx))
	if err != nil {
		return nil, err
	}
	if forCase != 0 {
		if err := s.asked(ctx).cases.Brought(ctx, forCase, technician(ctx), receipt.ID, why); err != nil {
			s.asked(ctx).restorer.Leave(receipt.ID) // so that it is settled as one of which nothing was begun
			return nil, err
		}
	}
	j, err := s.jobs.Submit(ctx, jobs.Order{Kind: restore.JobBringBack, By: technician(ctx), Total: int64(receipt.Count), Receipt: receipt.ID})
	if err != nil {
		s.asked(ctx).restorer.Leave(receipt.ID)
		return nil, err
	}
	return api.BringBack202JSONResponse(toJob(j)), nil
}

func fromBringBack(b api.NewBringBack) (restore.Request, error) {
	r := restore.Request{Rule: plan.Rule(value(b.Clash)), KeepOwners: value(b.KeepOwners), Claimed: value(b.TrustClaimed)}
	if b.Clash != nil && !b.Clash.Valid() {
		return r, badRequest(fmt.Sprintf("%q does not say what to do where something stands in the way.", *b.Clash), "Choose keep-both, set-aside or skip.")
	}
	ids := value(b.Copies)
	switch {
	case b.Place != nil:
		if err := fromAsOf(b, &r); err != nil {
			return r, err
		}
	case b.Case != nil && len(ids) == 0:
	case len(ids) == 0 || len(ids) > maxCopies:
		return r, badRequest(
			fmt.Sprintf("%d copies were named; it must be 1 to %d.", len(ids), maxCopies),
			"Name copies by their ids, as find shows them.",
		)
	case b.AsOf != nil || b.Only != nil:
		return r, badRequest("A moment was given for copies.", "Give a moment with a place, or leave it out.")
	}
	if b.CapturedAt != nil {
		if len(ids) == 0 {
			return r, badRequest("A point in time of a store was given without copies.", "Name the copies, or leave it out.")
		}
		r.At = *b.CapturedAt
	}
	for _, id := range ids {
		n, err := number[copies.ID]("c", id)
		if err != nil {
			return r, err
		}
		r.Copies = append(r.Copies, n)
	}
	if b.To != nil {
		to, folder, err := fromDestination(*b.To)
		if err != nil {
			return r, err
		}
		r.To, r.ToFolder = &to, folder
	}
	return r, nil
}

// forCase completes a request by what the case is about: what is advised where no copies are named, and where they go.
func (s *Service) forCase(
	ctx context.Context,
	id string,
	wanted restore.Request,
	zone *string,
) (int64, restore.Request, cases.Reasons, error) {
	k, z, err := s.zonedCase(ctx, id, zone)
	if err != nil || wanted.AsOf != nil {
		return k.ID, wanted, cases.Reasons{}, err
	}
	r, why, err := s.asked(ctx).cases.Bring(ctx, k, wanted.Copies, technician(ctx), z)
	if err != nil {
		return k.ID, wanted, why, err
	}
	wanted.Copies = r.Copies
	if wanted.At.IsZero() {
		wanted.At = r.At
	}
	if wanted.To == nil {
		wanted.To = r.To
	}
	return k.ID, wanted, why, nil
}

func fromAsOf(b api.NewBringBack, r *restore.Request) error {
	p, _, err := fromDestination(*b.Place)
	switch {
	case err != nil:
		return err
	case b.Copies != nil:
		return badRequest("Both copies and a place were given.", "Give one of them.")
	case b.AsOf == nil:
		return badRequest("No moment was given for the place.", "Give as_of; the trail and the folder show the moments there are.")
	case b.Only != nil && !b.Only.Valid():
		return badRequest(fmt.Sprintf("%q does not say how much of the folder is to come back.", *b.Only), "Choose missing, changed or exact.")
	}
	r.AsOf = &restore.AsOf{Place: p, At: *b.AsOf, Only: restore.Only(value(b.Only))}
	return nil
}

// ListReceipts lists receipts, newest first.
func (s *Service) ListReceipts(ctx context.Context, request api.ListReceiptsRequestObject) (api.ListReceiptsResponseObject, error) {
	limit, before, err := page("r", request.Params.Limit, request.Params.Cursor)
	if err != nil {
		return nil, err
	}
	receipts, err := s.asked(ctx).view.Receipts.Before(ctx, before, limit+1)
	if err != nil {
		return nil, err
	}
	answer := api.ListReceipts200JSONResponse{Receipts: []api.Receipt{}}
	for n, r := range receipts {
		if n == limit {
			answer.Next = optional(showID("r", receipts[n-1].ID))
			break
		}
		answer.Receipts = append(answer.Receipts, toReceipt(r))
	}
	return answer, nil
}

func (s *Service) receipt(ctx context.Context, id string) (catalogue.Receipt, error) {
	n, err := number[int64]("r", id)
	if err != nil {
		return catalogue.Receipt{}, err
	}
	return s.asked(ctx).view.Receipts.ByID(ctx, n)
}

// itemsPage is how many items of a receipt are shown at once where nobody says.
const itemsPage = 1000

// GetReceipt shows one receipt with a page of its items. A cursor is the number of the first item of the page.
func (s *Service) GetReceipt(ctx context.Context, request api.GetReceiptRequestObject) (api.GetReceiptResponseObject, error) {
	r, err := s.receipt(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	limit, from, err := page("i", cmp.Or(request.Params.Limit, new(itemsPage)), request.Params.Cursor)
	if err != nil {
		return nil, err
	}
	items, err := s.asked(ctx).view.Receipts.Items(ctx, r.ID, int(from), limit)
	if err != nil {
		return nil, err
	}
	shown := toReceipt(r)
	for _, i := range items {
		item, err := toReceiptItem(i)
		if err != nil {
			return nil, fmt.Errorf("receipt r%d: %w", r.ID, err)
		}
		shown.Items = append(shown.Items, item)
	}
	if end := int(from) + len(items); end < r.Count && len(items) > 0 {
		shown.Next = optional(showID("i", int64(end)))
	}
	return api.GetReceipt200JSONResponse(shown), nil
}

// UndoReceipt begins to undo a receipt, where that is possible exactly.
func (s *Service) UndoReceipt(ctx context.Context, request api.UndoReceiptRequestObject) (api.UndoReceiptResponseObject, error) {
	ctx = context.WithoutCancel(ctx)
	s.undoing.Lock() // from the look at how it stands until its job is recorded
	defer s.undoing.Unlock()
	r, err := s.receipt(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	// One whose job ended before it could end the undo goes on where it was, past what it has put back already.
	if stuck := r.State == catalogue.ReceiptUndoing && !s.jobs.Receipts()[r.ID]; !stuck {
		if err := s.asked(ctx).restorer.CheckUndo(ctx, r.ID); err != nil {
			return nil, err
		}
		if err := s.asked(ctx).restorer.BeginUndo(ctx, r.ID, technician(ctx)); err != nil {
			return nil, err
		}
	}
	j, err := s.jobs.Submit(ctx, jobs.Order{Kind: restore.JobUndo, By: technician(ctx), Total: int64(r.Done), Receipt: r.ID})
	if err != nil {
		s.asked(ctx).restorer.Leave(r.ID)
		return nil, err
	}
	return api.UndoReceipt202JSONResponse(toJob(j)), nil
}

// requestKey carries the request to responses that need its headers.
type requestKey struct{}

func withRequest(r *http.Request) *http.Request {
	return r.WithContext(context.WithValue(r.Context(), requestKey{}, r))
}
