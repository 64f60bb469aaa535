package service

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/intact"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/say"
)

// number reads an id as it is shown: a letter for what it is, and a number.
func number[N ~int64](letter, id string) (N, error) {
	digits, ok := strings.CutPrefix(id, letter)
	n, err := strconv.ParseInt(digits, 10, 64)
	if !ok || err != nil || n <= 0 {
		return 0, fmt.Errorf("%s is not an id like %s12: %w", strconv.Quote(id), letter, catalogue.ErrNotFound)
	}
	return N(n), nil
}

func showID(letter string, id int64) string { return letter + strconv.FormatInt(id, 10) }

// times leave to the client how they are shown; here they are UTC.
func optionalTime(t time.Time) *time.Time {
	if t.IsZero() || !writable(t) {
		return nil
	}
	t = t.UTC()
	return &t
}

// writable tells whether RFC 3339 can write a time: its years have four digits.
func writable(t time.Time) bool {
	year := t.UTC().Year()
	return 1 <= year && year <= 9999
}

func toPlace(p place.Place) api.Place {
	a := api.Place{Machine: p.Machine, Path: p.Path}
	if !utf8.ValidString(p.Path) {
		raw := []byte(p.Path)
		a.Path, a.PathBytes = place.Readable(p.Path), &raw
	}
	return a
}

func fromDestination(d api.Destination) (place.Place, bool, error) {
	path := d.Path
	if d.PathBytes != nil {
		path = string(*d.PathBytes)
	}
	clean, err := place.Clean(path)
	if err != nil || d.Machine == "" {
		return place.Place{}, false, badRequest(
			fmt.Sprintf("%s:%s is not a place to bring something back to.", d.Machine, place.Readable(path)),
			"Give a machine and an absolute path without \"..\".",
		)
	}
	return place.Place{Machine: d.Machine, Path: clean}, place.EndsInSlash(path), nil
}

func toSourceRef(s copies.Source) api.SourceRef {
	return api.SourceRef{Id: s.ID.String(), Kind: s.Kind, Drive: optional(s.Drive)}
}

func toSource(s catalogue.Source) api.Source {
	a := api.Source{
		Id:        s.ID.String(),
		Kind:      s.Kind,
		Machine:   s.Machine,
		At:        place.Readable(s.At),
		AtMachine: s.AtMachine,
		Drive:     optional(s.Drive),
		Zone: optional(
			s.Zone,
		),
		RetentionDays: s.RetentionDays,
		Copies:        s.Found,
		SurveyedAt:    optionalTime(s.SurveyedAt),
		Trouble:       optional(s.Trouble),
	}
	if len(s.Notes) > 0 {
		a.Notes = &s.Notes
	}
	if s.Renew {
		a.Renew = &s.Renew
	}
	a.Named = optional(s.Named)
	if len(s.Exclusions) > 0 {
		a.Exclusions = &s.Exclusions
	}
	if len(s.Maps) > 0 {
		maps := make([]string, len(s.Maps))
		for i, m := range s.Maps {
			maps[i] = place.Readable(m.From) + "=" + place.Readable(m.To)
		}
		a.Maps = &maps
	}
	if len(s.Options) > 0 {
		a.Options = &s.Options
	}
	return a
}

// session tells how a machine is reached now.
func (s *Service) session(m catalogue.Machine) *api.MachineSession {
	c := s.site.Condition(m)
	a := &api.MachineSession{State: api.MachineSessionState(c.State), Since: optionalTime(c.Since), Again: optionalTime(c.Again)}
	if c.State == reach.Unasked {
		a.State = api.MachineSessionStateUnasked
	}
	if c.Err != nil {
		a.Why = optional(say.Error(c.Err))
	}
	return a
}

func (s *Service) toMachine(m catalogue.Machine, sources []catalogue.Source) api.Machine {
	a := api.Machine{
		Name:              m.Name,
		At:                m.At,
		Zone:              m.Zone,
		RetentionDays:     m.RetentionDays,
		ClockAheadSeconds: optional(int64(m.ClockAhead / time.Second)),
		People:            []api.Person{},
		Sources:           []api.Source{},
		Notes:             list(m.Notes),
		Session:           s.session(m),
	}
	for _, p := range m.People {
		a.People = append(a.People, api.Person{Name: p.Name, FullName: optional(p.FullName), Uid: p.UID, Home: place.Readable(p.Home),
			Id: optional(p.Person.String())})
	}
	for _, src := range sources {
		if src.Machine == m.Name {
			a.Sources = append(a.Sources, toSource(src))
		}
	}
	return a
}

func list(s []string) []string {
	if s == nil {
		return []string{}
	}
	return s
}

func toCopy(c catalogue.Shown) api.Copy {
	a := api.Copy{
		Id: c.ID.String(), Place: toPlace(c.Place), OriginKnown: !c.Lost, Name: place.Readable(c.Place.Name()), Type: api.EntryType(c.Type),
		Class: api.FileClass(
			c.Class(),
		), Source: toSourceRef(c.Store.Source), Person: optional(c.Person), State: api.CopyState(c.State), Readable: c.Readable,
		WrittenAt: optionalTime(
			c.Recorded(),
		), CapturedAt: c.Captured, LastSeenAt: c.Last, GoneAt: optionalTime(c.GoneRecorded()), ExpiresAt: optionalTime(c.Expires()),
		Sha256: optional(
			c.SHA256.Hex(),
		), Condition: toCondition(say.Speaker{}, c.Verdict), Notes: list(c.Notes), LiesAt: toPlace(c.LiesAt()), Lies: optional(c.Lies),
	}
	if c.Size >= 0 && (c.Readable || c.Type != entry.Other) { // else nothing but a record, which does not tell
		size := c.Size
		a.Size = &size
	}
	a.Author, a.Message = optional(c.Author), optional(c.Message)
	if c.Beside {
		a.Beside = &c.Beside
	}
	if c.Nameless {
		a.Nameless = &c.Nameless
	}
	if c.Intact.Known() {
		a.Intact = &api.Intact{State: api.IntactState(c.Intact.State.String()), Share: float64(c.Intact.Share) / float64(intact.All)}
	}
	if c.Claimed != "" {
		claimed := toPlace(place.Place{Machine: c.Store.Machine, Path: c.Claimed})
		a.Claimed = &claimed
	}
	if c.Type == entry.Link {
		a.Target = optional(place.Readable(c.Target))
	}
	if c.ItemOf != 0 {
		a.ItemOf = optional(c.ItemOf.String())
	}
	return a
}

func toCondition(speak say.Speaker, v condition.Verdict) api.Condition {
	state := api.ConditionState(v.State)
	if state == "" {
		state = api.ConditionStateUnread
	}
	return api.Condition{State: state, Reasons: speak.Remarks(v.Reasons)}
}

func toJob(j catalogue.Job) api.Job {
	a := api.Job{
		Id:        showID("j", j.ID),
		Kind:      api.JobKind(j.Kind),
		State:     api.JobState(j.State),
		By:        optional(j.By),
		Doing:     optional(j.Doing),
		Done:      j.Done,
		Total:     j.Total,
		Bytes:     j.Bytes,
		CreatedAt: j.CreatedAt.UTC(),
		EndedAt:   optionalTime(j.EndedAt),
		Error:     optional(j.Error),
	}
	if j.Receipt != 0 {
		a.Receipt = optional(showID("r", j.Receipt))
	}
	if len(j.Outcomes) > 0 {
		outcomes := make([]api.SurveyOutcome, len(j.Outcomes))
		for i, o := range j.Outcomes {
			outcomes[i] = api.SurveyOutcome{Source: api.SourceRef{Id: o.Source.ID.String(), Kind: o.Source.Kind, Drive: optional(o.Source.Drive)},
				Machine: o.Source.Machine, At: place.Readable(o.Source.At),
				Found: o.Found, Fresh: o.Fresh, Gone: o.Gone, Error: optional(o.Error)}
			if len(o.Notes) > 0 {
				outcomes[i].Notes = &o.Notes
			}
		}
		a.Outcomes = &outcomes
	}
	if len(j.Parts) > 0 {
		parts := make([]api.JobPart, len(j.Parts))
		for i, p := range j.Parts {
			parts[i] = api.JobPart{Source: p.Source.String(), Machine: p.Machine, State: api.JobState(p.State), Done: p.Done, Read: p.Read, Total: p.Total,
				Doing: optional(p.Doing)}
		}
		a.Parts = &parts
	}
	return a
}

func toPlanItem(i plan.Item) api.PlanItem {
	a := api.PlanItem{Copy: i.Copy, From: toPlace(i.From), To: toPlace(i.To), Type: api.EntryType(i.Type), Size: i.Size, Clash: say.Speaker{}.Remark(i.Clash),
		Action: api.Action(i.Action), Note: say.Notes(say.Speaker{}.Remarks(i.Notes)...)}
	if len(i.Makes) > 0 {
		makes := make([]api.Place, len(i.Makes))
		for k, m := range i.Makes {
			makes[k] = toPlace(m)
		}
		a.Makes = &makes
	}
	if len(i.Asks) > 0 {
		asks := make([]api.PlanItemAsks, len(i.Asks))
		for k, ask := range i.Asks {
			asks[k] = api.PlanItemAsks(ask)
		}
		a.Asks = &asks
	}
	return a
}

// copyID is empty where nothing came, but something was set aside.
func copyID(id copies.ID) string {
	if id == 0 {
		return ""
	}
	return id.String()
}

// toReceipt is a receipt without its items.
func toReceipt(r catalogue.Receipt) api.Receipt {
	a := api.Receipt{
		Id:       showID("r", r.ID),
		At:       r.At.UTC(),
		By:       r.By,
		State:    api.ReceiptState(r.State),
		Items:    []api.ReceiptItem{},
		Count:    r.Count,
		Done:     r.Done,
		EndedAt:  optionalTime(r.EndedAt),
		UndoneAt: optionalTime(r.UndoneAt),
	}
	if r.State == catalogue.ReceiptUndone {
		a.UndoneBy = optional(r.UndoneBy)
	}
	return a
}

func toReceiptItem(i catalogue.ReceiptItem) (api.ReceiptItem, error) {
	a := api.ReceiptItem{
		Copy:    copyID(i.Copy),
		From:    toPlace(i.From),
		To:      toPlace(i.To),
		Type:    api.EntryType(i.Type),
		Size:    i.Size,
		Sha256:  optional(i.SHA256.Hex()),
		Outcome: api.Outcome(i.Outcome),
		Note:    i.Note,
	}
	gave, aside, err := journal.SetAside(i)
	if aside {
		a.SetAside = &api.SetAside{
			Place:  toPlace(i.To),
			Type:   api.EntryType(gave.Type),
			Size:   gave.Size,
			Sha256: optional(gave.SHA256.Hex()),
		}
	}
	return a, err
}
