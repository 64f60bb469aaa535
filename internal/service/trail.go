package service

import (
	"context"
	"encoding/base64"
	"fmt"
	"slices"
	"time"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/past"
	"humble-rewind/internal/say"
)

// fromQuery reads a place from query parameters.
func fromQuery(machine string, path, pathBytes *string) (place.Place, error) {
	raw := value(path)
	if pathBytes != nil {
		decoded, err := base64.StdEncoding.DecodeString(*pathBytes)
		if err != nil {
			return place.Place{}, badRequest("path_bytes is not base64.", "Take it as the service gave it.")
		}
		raw = string(decoded)
	}
	clean, err := place.Clean(raw)
	if err != nil || machine == "" {
		return place.Place{}, badRequest(
			fmt.Sprintf("%s:%s is not a place.", machine, place.Readable(raw)),
			"Give a machine and an absolute path without \"..\".",
		)
	}
	return place.Place{Machine: machine, Path: clean}, nil
}

// GetTrail shows everything known of one place.
func (s *Service) GetTrail(ctx context.Context, request api.GetTrailRequestObject) (api.GetTrailResponseObject, error) {
	p, err := fromQuery(request.Params.Machine, request.Params.Path, request.Params.PathBytes)
	if err != nil {
		return nil, err
	}
	if state := request.Params.Condition; state != nil && !state.Valid() {
		return nil, badRequest(fmt.Sprintf("%q is not a condition.", *state), "Choose sound, doubtful, broken or unread.")
	}
	how := value(request.Params.Copies)
	if request.Params.Copies != nil && !how.Valid() {
		return nil, badRequest(fmt.Sprintf("%q is not a way to tell copies.", how), "Choose whole or marks.")
	}
	t, err := s.asked(ctx).past.Trail(ctx, p)
	if err != nil {
		return nil, err
	}
	m, err := s.asked(ctx).view.Machines.Named(ctx, p.Machine)
	if err != nil {
		return nil, err
	}
	a := api.GetTrail200JSONResponse{
		Place:  toPlace(p),
		Names:  []api.Place{},
		Events: []api.TrailEvent{},
		Lanes:  []api.TrailLane{},
		Notes:  say.Speaker{}.Remarks(t.Notes),
		Zone:   m.Zone,
	}
	for _, n := range t.Names {
		a.Names = append(a.Names, toPlace(n.Place))
	}
	for _, e := range t.Events {
		event := api.TrailEvent{At: e.At, After: optionalTime(e.After), Kind: api.TrailEventKind(e.Kind), Text: say.Speaker{}.Remark(e.Says)}
		if e.From != (place.Place{}) {
			from := toPlace(e.From)
			event.From = &from
		}
		if e.To != (place.Place{}) {
			to := toPlace(e.To)
			event.To = &to
		}
		a.Events = append(a.Events, event)
	}
	for _, store := range t.Stores {
		a.Lanes = append(a.Lanes, toLane(store))
	}
	var shown []*trail.Version
	for _, all := range [...][]trail.Version{t.Versions, t.Beside} {
		for i := range all {
			v := &all[i]
			if state := request.Params.Condition; state == nil ||
				slices.ContainsFunc(v.Seen, func(n int) bool { return t.Seen[n].Condition == condition.State(*state) }) {
				shown = append(shown, v)
			}
		}
	}
	if len(t.Beside) > 0 {
		slices.SortStableFunc(shown, func(a, b *trail.Version) int { return a.Arrived.Compare(b.Arrived) })
	}
	var whole []catalogue.Shown
	if how != api.GetTrailParamsCopiesMarks {
		if whole, err = s.asked(ctx).view.Copies.ShownAs(ctx, t.Seen, t.States()); err != nil {
			return nil, err
		}
	}
	return shownTrail{a, len(shown), func(n int) api.TrailVersion {
		v := shown[n]
		a := toVersion(v)
		a.Author, a.Message = saidOf(&t, v)
		if whole == nil {
			a.Marks = toMarks(&t, v)
			return a
		}
		a.Copies = make([]api.Copy, len(v.Seen))
		for i, n := range v.Seen {
			a.Copies[i] = toCopy(whole[n])
		}
		return a
	}}, nil
}

// saidOf tells who made a version and what they said of it, by the first copy that knows.
func saidOf(t *past.Trail, v *trail.Version) (author, message *string) {
	for _, n := range v.Seen {
		if f := t.Seen[n]; f.Author != "" {
			return &f.Author, optional(f.Message)
		}
	}
	return nil, nil
}

func toVersion(v *trail.Version) api.TrailVersion {
	doubt := ""
	if v.Doubt != "" {
		doubt = say.Speaker{}.Remark(remark.New("doubt-" + string(v.Doubt)))
	}
	a := api.TrailVersion{
		Sha256:       optional(v.SHA256.Hex()),
		WrittenAt:    optionalTime(v.Written),
		ArrivedAt:    v.Arrived.UTC(),
		FirstSeenAt:  v.First.UTC(),
		LastSeenAt:   v.LastSeen.UTC(),
		SupersededAt: optionalTime(v.Superseded),
		After:        optionalTime(v.After),
		Current:      v.Superseded.IsZero(),
		Copies:       []api.Copy{},
		Place:        toPlace(v.Place),
		Type:         api.EntryType(v.Type),
		Content:      v.Content,
		Doubt:        optional(doubt),
	}
	if v.Size >= 0 && v.Type != entry.Folder {
		size := v.Size
		a.Size = &size
	}
	if v.Hidden {
		a.Hidden = &v.Hidden
	}
	if v.Beside {
		a.Beside, a.Current = &v.Beside, false
		a.SupersededAt = &a.ArrivedAt
	}
	return a
}

// toMarks tells of the copies of a version what the drawing needs.
func toMarks(t *past.Trail, v *trail.Version) *[]api.TrailMark {
	all := make([]api.TrailMark, len(v.Seen))
	for i, n := range v.Seen {
		f := t.Seen[n]
		lane := slices.IndexFunc(t.Stores, func(s *copies.Store) bool { return s.ID == f.Store.ID })
		all[i] = api.TrailMark{Id: f.ID.String(), Lane: lane, Readable: f.Readable, CapturedAt: f.First.UTC(),
			LastSeenAt: f.Last.UTC()}
		all[i].GoneAt, all[i].ExpiresAt = optionalTime(f.GoneRecorded()), optionalTime(f.Expires())
		if f.Condition != condition.Unread {
			state := api.ConditionState(f.Condition)
			all[i].Condition = &state
		}
	}
	return &all
}

func toLane(s *copies.Store) api.TrailLane {
	a := api.TrailLane{
		Source:    toSourceRef(s.Source),
		At:        place.Readable(s.At),
		AtMachine: s.AtMachine,
		Live:      s.Traits.Live(),
		Captures:  s.Captures,
		Held:      make([]bool, len(s.Captures)),
	}
	if a.Captures == nil {
		a.Captures = []time.Time{}
	}
	held := map[int64]bool{}
	for _, h := range s.Held {
		held[h.UnixNano()] = true
	}
	for i, c := range s.Captures {
		a.Held[i] = held[c.UnixNano()]
	}
	return a
}
