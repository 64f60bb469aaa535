package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/choosing"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/typedtime"
	"humble-rewind/internal/say"
)

// zoneOf reads the zone in which times are to be said; UTC where none is given.
func zoneOf(name *string) (*time.Location, error) {
	zone, err := time.LoadLocation(value(name))
	if err != nil {
		return nil, badRequest(fmt.Sprintf("%q is not a time zone.", *name), "Name it like Europe/Lisbon or UTC.")
	}
	return zone, nil
}

// UnderstandTime says what a time as people say it is taken for.
func (s *Service) UnderstandTime(_ context.Context, request api.UnderstandTimeRequestObject) (api.UnderstandTimeResponseObject, error) {
	zone, err := zoneOf(request.Params.Zone)
	if err != nil {
		return nil, err
	}
	at, err := typedtime.Parse(request.Params.Text, s.now(), zone)
	if err != nil {
		return nil, &refusal{
			Status: http.StatusUnprocessableEntity,
			Title:  "The time was not understood",
			Detail: err.Error(),
			Next:   "Write it like friday evening, yesterday 17:00 or 2026-03-04 17:00.",
		}
	}
	return api.UnderstandTime200JSONResponse{At: at.UTC(), Said: at.In(zone).Format("Monday 2 January 2006, 15:04")}, nil
}

// ExamineCopy tells a copy's condition.
func (s *Service) ExamineCopy(ctx context.Context, request api.ExamineCopyRequestObject) (api.ExamineCopyResponseObject, error) {
	c, err := s.copyOf(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	content, err := s.openCopy(ctx, c)
	if err != nil {
		return nil, err
	}
	if err := content.Close(); err != nil {
		return nil, err
	}
	patient := contents.Examiner{Contents: s.contents, Now: s.now} // somebody asked for just this
	found, err := patient.Copy(ctx, c)
	if err != nil {
		return nil, notExamined(err)
	}
	a := toExamination(c.Place, found)
	a.Copy = optional(c.ID.String())
	return api.ExamineCopy200JSONResponse(a), nil
}

// ExaminePlace tells the condition of what stands at a place.
func (s *Service) ExaminePlace(ctx context.Context, request api.ExaminePlaceRequestObject) (api.ExaminePlaceResponseObject, error) {
	p, err := fromQuery(request.Params.Machine, request.Params.Path, request.Params.PathBytes)
	if err != nil {
		return nil, err
	}
	if _, err := s.asked(ctx).view.Machines.Named(ctx, p.Machine); err != nil {
		return nil, &problem.Input{
			What: fmt.Sprintf("examine %s", p),
			Err:  err,
			Next: "List the machines.",
			Do:   []problem.Step{{Do: problem.ListMachines}},
		}
	}
	content, err := s.contents.Standing(ctx, p)
	if errors.Is(err, contents.ErrNothingStands) {
		return nil, &refusal{Status: http.StatusNotFound, Title: fmt.Sprintf("Nothing is at %s", p),
			Next: "Check the path, or find copies of it by its name.", do: []problem.Step{{Do: problem.Find}}}
	}
	if err != nil {
		return nil, notExamined(err)
	}
	defer content.Close()
	found, err := s.examiner.Content(ctx, content)
	if err != nil {
		return nil, notExamined(err)
	}
	return api.ExaminePlace200JSONResponse(toExamination(p, found)), nil
}

func notExamined(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	return &refusal{
		Status: http.StatusGone,
		Title:  "It cannot be examined",
		Detail: say.ReadError(err) + ".",
		Next:   "Survey again, or look for other copies with find.",
	}
}

func toExamination(p place.Place, found contents.Result) api.Examination {
	v := found.For(p.Name())
	return api.Examination{
		Place:     toPlace(p),
		Condition: toCondition(say.Speaker{}, v),
		MediaType: v.Media,
		Rename:    optional(v.Rename),
		Sha256:    optional(found.SHA256.Hex()),
	}
}

// FindOrigins says where a copy likely came from.
func (s *Service) FindOrigins(ctx context.Context, request api.FindOriginsRequestObject) (api.FindOriginsResponseObject, error) {
	c, err := s.copyOf(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	m, err := s.asked(ctx).view.Machines.Named(ctx, c.Store.Machine)
	if err != nil {
		return nil, err
	}
	zone, err := time.LoadLocation(m.Zone)
	if err != nil {
		zone = time.UTC
	}
	origins, err := s.asked(ctx).adviser.Origins(ctx, c)
	if err != nil {
		return nil, err
	}
	shown, err := s.shown(ctx, c)
	if err != nil {
		return nil, err
	}
	speak := say.Speaker{Now: s.now(), Zone: zone}
	a := api.FindOrigins200JSONResponse{Copy: shown, Origins: make([]api.Origin, len(origins))}
	for i, o := range origins {
		a.Origins[i] = api.Origin{Place: toPlace(o.Place), Evidence: speak.Remarks(o.Evidence), Strength: api.OriginStrength(o.Strength)}
	}
	return a, nil
}

// Advise says which copy is the right one.
func (s *Service) Advise(ctx context.Context, request api.AdviseRequestObject) (api.AdviseResponseObject, error) {
	b := request.Body
	p, _, err := fromDestination(b.Place)
	if err != nil {
		return nil, err
	}
	if !b.Loss.Valid() {
		return nil, badRequest(fmt.Sprintf("%q is not one of the losses that are known.", b.Loss), "Choose deleted, overwritten, damaged, misplaced or unsaved.")
	}
	zone, err := zoneOf(b.Zone)
	if err != nil {
		return nil, err
	}
	q := choosing.Question{
		Place: p,
		Zone:  zone,
		Question: advice.Question{
			Loss:    advice.Loss(b.Loss),
			Good:    value(b.GoodAt),
			Noticed: value(b.NoticedAt),
			Hints:   fromHints(b.Hints),
			Wrong:   map[digest.Sum]bool{},
		},
	}
	for _, id := range value(b.Wrong) {
		c, err := s.copyOf(ctx, id)
		if err != nil {
			return nil, err
		}
		sum, err := s.contents.DigestKept(ctx, c)
		if err != nil {
			return nil, notExamined(err)
		}
		q.Wrong[sum] = true
	}
	answer, err := s.asked(ctx).adviser.Advise(ctx, q)
	if err != nil {
		return nil, err
	}
	a, err := s.toAdvice(ctx, answer)
	return api.Advise200JSONResponse(a), err
}

func fromHints(h *api.Hints) advice.Hints {
	if h == nil {
		return advice.Hints{}
	}
	return advice.Hints{
		Words:   value(h.Containing),
		Without: value(h.Without),
		Least:   value(h.Least),
		Most:    value(h.Most),
		Media:   value(h.MediaType),
	}
}

func toHints(h advice.Hints) *api.Hints {
	a := api.Hints{Least: optional(h.Least), Most: optional(h.Most), MediaType: optional(h.Media)}
	if len(h.Words) > 0 {
		a.Containing = &h.Words
	}
	if len(h.Without) > 0 {
		a.Without = &h.Without
	}
	if a == (api.Hints{}) {
		return nil
	}
	return &a
}

// toAdvice shows an answer with the copies that it names.
func (s *Service) toAdvice(ctx context.Context, answer choosing.Answer) (api.Advice, error) {
	q := answer.Question
	speak := say.Speaker{Now: s.now(), Zone: q.Zone}
	a := api.Advice{
		Place:     toPlace(q.Place),
		Loss:      api.Loss(q.Loss),
		GoodAt:    optionalTime(q.Good),
		NoticedAt: optionalTime(q.Noticed),
		Others:    []api.OtherCopy{},
		FoundAt:   []api.Place{},
		Looked:    []api.Looked{},
		Notes:     speak.Remarks(answer.Notes),
		Next:      toReasons(speak, answer.Next),
		Because:   speak.Remarks(answer.Because),
		Reasons:   toReasons(speak, answer.Because),
	}
	named, err := s.namedIn(ctx, answer)
	if err != nil {
		return a, err
	}
	if r := answer.Recommended; r != nil {
		shown := toCopy(named[r.Copy.ID])
		shown.Condition = toCondition(speak, r.Condition)
		to := toPlace(r.To)
		standing := r.Copy.Live && !r.Copy.Leftover
		a.Recommended = recommended(speak, r.Sure, r.Because, r.Costs)
		a.Recommended.Copy, a.Recommended.To, a.Recommended.Standing = &shown, &to, optional(standing)
	}
	if answer.Ask != nil {
		a.Question = toAsk(speak, answer.Ask)
	}
	for _, o := range answer.Others {
		a.Others = append(a.Others, api.OtherCopy{Copy: toCopy(named[o.Copy.ID]), Why: speak.Remark(o.Why), Reason: toReason(speak, o.Why)})
	}
	for _, p := range answer.FoundAt {
		a.FoundAt = append(a.FoundAt, toPlace(p))
	}
	for _, l := range answer.Looked {
		src := answer.Stores[l.Source].Source
		a.Looked = append(
			a.Looked,
			api.Looked{Source: toSourceRef(src), Name: optional(choosing.Name(&src, q.Place.Machine)), Found: l.Found, Note: speak.Joined(l.Note)},
		)
	}
	for _, kind := range answer.Missing {
		a.Looked = append(
			a.Looked,
			api.Looked{
				Source: api.SourceRef{Kind: kind},
				Note: fmt.Sprintf(
					"No source of this kind is known for %s.",
					q.Place.Machine,
				),
			},
		)
	}
	if answer.Folder != nil {
		toFolderAdvice(speak, &a, q.Place, answer.Folder, named)
	}
	return a, nil
}

// recommended begins a recommendation.
func recommended(speak say.Speaker, sure advice.Sure, because, costs []advice.Reason) *api.Recommended {
	return &api.Recommended{Sure: api.Sure(sure), Because: speak.Remarks(because), Reasons: toReasons(speak, because), Costs: speak.Remarks(costs),
		CostReasons: toReasons(speak, costs)}
}

func toReason(speak say.Speaker, r advice.Reason) api.Reason {
	return api.Reason{Code: r.Code, Values: speak.Values(r.Values), Text: speak.Remark(r)}
}

func toReasons(speak say.Speaker, all []advice.Reason) []api.Reason {
	shown := make([]api.Reason, len(all))
	for i, r := range all {
		shown[i] = toReason(speak, r)
	}
	return shown
}

// toAsk shows the question that would settle an advice.
func toAsk(speak say.Speaker, q *advice.Ask) *api.AdviceQuestion {
	shown := api.AdviceQuestion{Code: q.Code, Values: speak.Values(q.Values), Text: speak.Remark(q.Reason), Answers: make([]api.AdviceAnswer, len(q.Answers))}
	for i, a := range q.Answers {
		shown.Answers[i] = api.AdviceAnswer{Text: speak.Remark(a.Says), Copy: a.Copy.ID.String(), Hints: toHints(a.Hints)}
	}
	return &shown
}

// namedIn shows the copies that an answer names.
func (s *Service) namedIn(ctx context.Context, answer choosing.Answer) (map[copies.ID]catalogue.Shown, error) {
	var named []*copies.Copy
	take := func(c *copies.Copy) {
		if c != nil {
			named = append(named, c)
		}
	}
	if answer.Recommended != nil {
		take(answer.Recommended.Copy.Record)
	}
	for _, o := range answer.Others {
		take(o.Copy.Record)
	}
	if answer.Folder != nil {
		take(answer.Folder.Whole)
		take(answer.Folder.Moved)
	}
	shown, err := s.asked(ctx).view.Copies.Shown(ctx, named)
	byID := make(map[copies.ID]catalogue.Shown, len(shown))
	for _, c := range shown {
		byID[c.ID] = c
	}
	return byID, err
}

// maxEntries is how many files of a folder an advice lists.
const maxEntries = 1000

func toFolderAdvice(speak say.Speaker, a *api.Advice, folder place.Place, f *choosing.Folder, named map[copies.ID]catalogue.Shown) {
	shown := api.FolderAdvice{
		AsOf:    optionalTime(f.AsOf),
		Certain: f.Counts[advice.PartCertain],
		Assumed: f.Counts[advice.PartAssumed],
		Missing: f.Counts[advice.PartMissing],
		Kept:    f.Counts[advice.PartKept],
		Came:    f.Counts[advice.PartCame],
		Same:    f.Same,
		Bytes:   f.Bytes,
		Entries: []api.FolderAdviceEntry{},
		Cut:     len(f.Entries) > maxEntries,
	}
	shown.Sealed = optional(f.Sealed)
	if m := f.Mass; m != nil {
		shown.MassChange = &api.MassChange{From: m.From.UTC(), To: m.To.UTC(), Rewritten: m.Rewritten, Removed: m.Removed, Came: m.Came}
	}
	at := func(e advice.FolderEntry) api.Place {
		p := place.Place{Machine: a.Place.Machine, Path: place.Join(folder.Path, e.Path)}
		return toPlace(p)
	}
	for _, e := range f.Entries[:min(maxEntries, len(f.Entries))] {
		entry := api.FolderAdviceEntry{Name: place.Readable(e.Path), Path: at(e), Part: api.FolderPart(e.Part), Note: speak.Remark(e.Note), AsOf: optionalTime(e.AsOf)}
		if e.Note.Code != "" {
			reason := toReason(speak, e.Note)
			entry.Reason = &reason
		}
		if e.Copy != 0 {
			entry.Copy = optional(e.Copy.String())
		}
		if e.Size >= 0 {
			size := e.Size
			entry.Size = &size
		}
		shown.Entries = append(shown.Entries, entry)
	}
	a.Folder = &shown
	if f.MovedTo.Path != "" {
		to, standing := toPlace(f.MovedTo), true
		a.FoundAt = append(a.FoundAt, to)
		a.Recommended = recommended(speak, f.Sure, f.Because, f.Costs)
		a.Recommended.To, a.Recommended.Standing = &to, &standing
		if f.Moved != nil {
			moved := toCopy(named[f.Moved.ID])
			a.Recommended.Copy = &moved
		}
		return
	}
	if len(f.Copies()) > 0 {
		to := a.Place
		a.Recommended = recommended(speak, f.Sure, f.Because, f.Costs)
		a.Recommended.To = &to
		if f.Whole != nil {
			whole := toCopy(named[f.Whole.ID])
			a.Recommended.Copy, a.Recommended.CapturedAt = &whole, optionalTime(f.WholeAt)
		}
		if f.Aside != nil {
			to = toPlace(*f.Aside)
		}
		return
	}
	if len(a.Because) == 0 {
		a.Because, a.Reasons = speak.Remarks(f.Because), toReasons(speak, f.Because)
	}
}
