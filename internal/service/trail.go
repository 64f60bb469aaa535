package service

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"humble-rewind/api"
	"humble-rewind/internal/apart"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/compare"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/source"
	"humble-rewind/internal/trails"
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
			fmt.Sprintf("%s:%s is no place.", machine, place.Readable(raw)),
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
		return nil, badRequest(fmt.Sprintf("%q is no condition.", *state), "Choose sound, doubtful, broken or unread.")
	}
	how := value(request.Params.Copies)
	if request.Params.Copies != nil && !how.Valid() {
		return nil, badRequest(fmt.Sprintf("%q is no way to tell copies.", how), "Choose whole or marks.")
	}
	t, err := s.trails.Trail(ctx, p)
	if err != nil {
		return nil, err
	}
	m, err := s.catalogue.Machine(ctx, p.Machine)
	if err != nil {
		return nil, err
	}
	a := api.GetTrail200JSONResponse{
		Place:  toPlace(p),
		Names:  []api.Place{},
		Events: []api.TrailEvent{},
		Lanes:  []api.TrailLane{},
		Notes:  t.Notes,
		Zone:   m.Zone,
	}
	for _, n := range t.Names {
		a.Names = append(a.Names, toPlace(n.Place))
	}
	for _, e := range t.Events {
		event := api.TrailEvent{At: e.At, After: optionalTime(e.After), Kind: api.TrailEventKind(e.Kind), Text: e.Text}
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
				slices.ContainsFunc(v.Seen, func(n int) bool { return t.Facts[n].Condition == condition.State(*state) }) {
				shown = append(shown, v)
			}
		}
	}
	if len(t.Beside) > 0 {
		slices.SortStableFunc(shown, func(a, b *trail.Version) int { return a.Arrived.Compare(b.Arrived) })
	}
	var copies []catalogue.Copy
	if how != api.GetTrailParamsCopiesMarks {
		if copies, err = s.copiesOf(ctx, &t); err != nil {
			return nil, err
		}
	}
	return shownTrail{a, len(shown), func(n int) api.TrailVersion {
		v := shown[n]
		a := toVersion(v)
		a.Author, a.Message = saidOf(&t, v)
		if copies == nil {
			a.Marks = toMarks(&t, v)
			return a
		}
		a.Copies = make([]api.Copy, len(v.Seen))
		for i, n := range v.Seen {
			a.Copies[i] = toCopy(copies[n])
		}
		return a
	}}, nil
}

// copiesOf returns the copies that the facts of a trail are of.
func (s *Service) copiesOf(ctx context.Context, t *trails.Trail) ([]catalogue.Copy, error) {
	ids := make([]int64, len(t.Facts))
	for i, f := range t.Facts {
		ids[i] = f.Copy
	}
	copies, err := s.catalogue.CopiesOfPlace(ctx, ids)
	if err != nil {
		return nil, err
	}
	setStates(t, copies)
	for i := range copies {
		if copies[i].SHA256 == "" {
			copies[i].SHA256 = t.Facts[i].SHA256
		}
	}
	return copies, nil
}

// setStates tells how the place of each copy is today, which the trail knows.
func setStates(t *trails.Trail, copies []catalogue.Copy) {
	otherwise := "gone"
	if n := len(t.Versions); n > 0 && t.Versions[n-1].Superseded.IsZero() {
		otherwise = "changed"
	}
	for i := range copies {
		copies[i].State = otherwise
	}
	for _, v := range t.Versions {
		if v.Superseded.IsZero() {
			for _, i := range v.Seen {
				copies[i].State = "present"
			}
		}
	}
}

// saidOf tells who made a version and what they said of it, by the first copy that knows.
func saidOf(t *trails.Trail, v *trail.Version) (author, message *string) {
	for _, n := range v.Seen {
		if f := &t.Facts[n]; f.Author != "" {
			return &f.Author, optional(f.Message)
		}
	}
	return nil, nil
}

func toVersion(v *trail.Version) api.TrailVersion {
	a := api.TrailVersion{
		Sha256:       optional(v.SHA256),
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
		Doubt:        optional(v.Doubt),
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
func toMarks(t *trails.Trail, v *trail.Version) *[]api.TrailMark {
	all := make([]api.TrailMark, len(v.Seen))
	for i, n := range v.Seen {
		f := &t.Facts[n]
		all[i] = api.TrailMark{Id: restore.CopyID(f.Copy), Lane: f.Source, Readable: f.Readable, CapturedAt: f.First.UTC(),
			LastSeenAt: f.Last.UTC()}
		if !f.Gone.IsZero() {
			src := &t.Stores[f.Source].Source
			gone := f.Gone.Add(src.ClockAhead) // as it is recorded
			all[i].GoneAt, all[i].ExpiresAt = optionalTime(gone), optionalTime(src.Expires(gone))
		}
		if f.Condition != condition.Unread {
			state := api.ConditionState(f.Condition)
			all[i].Condition = &state
		}
	}
	return &all
}

func toLane(s *catalogue.Store) api.TrailLane {
	a := api.TrailLane{
		Source:    toSourceRef(s.Source),
		At:        place.Readable(s.Source.At),
		AtMachine: s.Source.AtMachine,
		Live:      s.Source.Traits.Live(),
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

// GetFolder shows a folder as of a moment.
func (s *Service) GetFolder(ctx context.Context, request api.GetFolderRequestObject) (api.GetFolderResponseObject, error) {
	q := request.Params
	p, err := fromQuery(q.Machine, q.Path, q.PathBytes)
	if err != nil {
		return nil, err
	}
	f, next, err := s.folder(ctx, p, q)
	if err != nil {
		return nil, err
	}
	m, err := s.catalogue.Machine(ctx, p.Machine)
	if err != nil {
		return nil, err
	}
	a := api.GetFolder200JSONResponse{
		Place:   toPlace(p),
		AsOf:    q.AsOf,
		Against: q.Against,
		Zone:    m.Zone,
		Moments: make([]api.FolderMoment, len(f.Moments)),
		Rows:    make([]api.FolderRow, len(f.Rows)),
	}
	if next != "" {
		a.Next = new(base64.RawURLEncoding.EncodeToString([]byte(next)))
	}
	if f.Left > 0 {
		a.RowsLeft = &f.Left
	}
	if f.Was != (place.Place{}) {
		was := toPlace(f.Was)
		a.Was = &was
	}
	folder, why, err := s.trails.SealedWith(ctx, p)
	if err != nil {
		return nil, err
	}
	a.Sealed = toSealed(p.Machine, folder, why)
	a.Same, a.Changed, a.Missing, a.Added, a.Moved = f.Counts[trails.Same], f.Counts[trails.Changed], f.Counts[trails.Missing],
		f.Counts[trails.Added], f.Counts[trails.Moved]
	entries := f.Entries
	if !value(q.Deep) && q.Limit == nil {
		entries = f.Level()
	}
	for i, moment := range f.Moments {
		a.Moments[i] = api.FolderMoment{At: moment.At, Changed: moment.Changed}
	}
	for i, r := range f.Rows {
		cells := make([]byte, len(r.Cells))
		for k, c := range r.Cells {
			cells[k] = byte(c)
		}
		a.Rows[i] = api.FolderRow{
			Name:  place.Readable(r.Name),
			Path:  toPlace(place.Place{Machine: p.Machine, Path: place.Join(p.Path, r.Name)}),
			Type:  api.EntryType(r.Type),
			Cells: string(cells),
		}
	}
	return shownFolder{a, p, entries}, nil
}

// folder puts together what is asked for of a folder: all, or a page, and the name that the next one follows.
func (s *Service) folder(ctx context.Context, p place.Place, q api.GetFolderParams) (f trails.Folder, next string, err error) {
	if q.Limit == nil {
		if q.Cursor != nil {
			return f, "", badRequest("A cursor without a limit.", "Give the limit of the page before, too.")
		}
		f, err = s.trails.Folder(ctx, p, value(q.AsOf), value(q.Against))
		return f, "", err
	}
	if *q.Limit < 1 || *q.Limit > 1000 {
		return f, "", badRequest("The limit must be from 1 to 1000.", "Leave it out for all of the folder at once.")
	}
	if value(q.Deep) {
		return f, "", badRequest("Everything below a folder is not told in pages.", "Leave out deep, or the limit.")
	}
	after, err := base64.RawURLEncoding.DecodeString(value(q.Cursor))
	if err != nil {
		return f, "", catalogue.ErrCursor
	}
	return s.trails.FolderPage(ctx, p, value(q.AsOf), value(q.Against), string(after), *q.Limit)
}

// shownFolder is a folder as it is answered. Its entries are written some at a time: there may be hundreds of thousands.
type shownFolder struct {
	api.GetFolder200JSONResponse
	place   place.Place
	entries []trails.Entry
}

// VisitGetFolderResponse writes the folder.
func (f shownFolder) VisitGetFolderResponse(w http.ResponseWriter) error {
	f.Entries = []api.FolderEntry{}
	return spliced(w, f.GetFolder200JSONResponse, "entries", func(p *pieces) error {
		for n, e := range f.entries {
			if n > 0 {
				p.b = append(p.b, ',')
			}
			encoded, err := json.Marshal(toEntry(f.place, e))
			if err != nil {
				return err
			}
			if err := p.append(encoded); err != nil {
				return err
			}
		}
		return nil
	})
}

func toEntry(folder place.Place, e trails.Entry) api.FolderEntry {
	a := api.FolderEntry{
		Name: place.Readable(e.Path),
		Path: toPlace(place.Place{Machine: folder.Machine, Path: place.Join(folder.Path, e.Path)}),
		Type: api.EntryType(e.Type),
		State: api.EntryState(
			e.State,
		),
		WrittenAt: optionalTime(e.Written),
		Sha256:    optional(e.SHA256),
		Proved:    e.Proved,
		MovedTo:   optional(place.Readable(e.MovedTo)),
	}
	if e.Size >= 0 {
		size := e.Size
		a.Size = &size
	}
	if e.Copy != 0 {
		a.Copy = optional(restore.CopyID(e.Copy))
	}
	if e.Whole != nil {
		a.Sealed = &api.SealedFolder{Place: a.Path, Why: e.Whole.Why, Files: &e.Whole.Files, Size: &e.Whole.Size}
	}
	return a
}

// toSealed is nil where nothing says that the folder only makes sense whole.
func toSealed(machine, folder, why string) *api.SealedFolder {
	if why == "" {
		return nil
	}
	return &api.SealedFolder{Place: toPlace(place.Place{Machine: machine, Path: folder}), Why: why}
}

// Compare compares a copy with another, or with what stands at its place now.
func (s *Service) Compare(ctx context.Context, request api.CompareRequestObject) (api.CompareResponseObject, error) {
	left, err := s.copyOf(ctx, request.Params.Left)
	if err != nil {
		return nil, err
	}
	l, err := s.openCopy(ctx, left)
	if err != nil {
		return nil, err
	}
	defer l.Close()
	a := api.Compare200JSONResponse{Left: toCopy(left)}
	right, name := source.Content{}, left.Place.Name()
	if request.Params.Right == "now" {
		at := left.Place
		if request.Params.Machine != nil {
			if at, err = fromQuery(*request.Params.Machine, request.Params.Path, request.Params.PathBytes); err != nil {
				return nil, err
			}
		}
		standing := toPlace(at)
		a.RightPlace, name = &standing, at.Name()
		right, err = s.contents.Standing(ctx, at)
	} else {
		var c catalogue.Copy
		if c, err = s.copyOf(ctx, request.Params.Right); err == nil {
			shown := toCopy(c)
			a.Right, name = &shown, c.Place.Name()
			right, err = s.openCopy(ctx, c)
		}
	}
	if err != nil {
		return nil, err
	}
	defer right.Close()
	c, err := s.contents.Compare(ctx, left.Place.Name(), l, name, right)
	if errors.Is(err, apart.ErrDemanding) {
		return nil, notLookedInto(err)
	}
	if err != nil {
		return nil, &problem{
			Status: http.StatusGone,
			Title:  "They cannot be compared",
			Detail: restore.Explain(err) + ".",
			Next:   "Peek at each, or look for other copies with find.",
		}
	}
	fillComparison((*api.Comparison)(&a), c)
	return a, nil
}

func fillComparison(a *api.Comparison, c compare.Comparison) {
	a.By, a.Summary, a.Cut, a.Notes = api.ComparisonBy(c.By), c.Summary, c.Cut, list(c.Notes)
	a.Blocks, a.Cells, a.Entries = make(
		[]api.ComparedBlock,
		len(c.Blocks),
	), make(
		[]api.ComparedCell,
		len(c.Cells),
	), make(
		[]api.ComparedEntry,
		len(c.Entries),
	)
	if c.Differs >= 0 {
		a.DiffersAt = &c.Differs
	}
	for i, b := range c.Blocks {
		a.Blocks[i] = api.ComparedBlock{
			Change:      api.ComparedBlockChange(b.Change),
			LeftNumber:  optional(b.LeftNumber),
			RightNumber: optional(b.RightNumber),
			Left: optional(
				b.Left,
			),
			Right:      optional(b.Right),
			LeftWords:  toWords(b.LeftWords),
			RightWords: toWords(b.RightWords),
			Count:      optional(b.Count),
		}
	}
	for i, cell := range c.Cells {
		a.Cells[i] = api.ComparedCell{Sheet: cell.Sheet, Address: cell.Address, Left: cell.Left, Right: cell.Right}
	}
	for i, e := range c.Entries {
		a.Entries[i] = api.ComparedEntry{Path: e.Path, Change: api.ComparedEntryChange(e.Change)}
		if e.Left >= 0 {
			a.Entries[i].Left = &c.Entries[i].Left
		}
		if e.Right >= 0 {
			a.Entries[i].Right = &c.Entries[i].Right
		}
	}
	if p := c.Picture; p != nil {
		a.Picture = &api.ComparedPicture{
			LeftWidth:   p.Left.X,
			LeftHeight:  p.Left.Y,
			RightWidth:  p.Right.X,
			RightHeight: p.Right.Y,
			Share:       float32(p.Share),
			Regions:     []api.ComparedRegion{},
		}
		for _, r := range p.Regions {
			a.Picture.Regions = append(a.Picture.Regions, api.ComparedRegion{X: r.Min.X, Y: r.Min.Y, Width: r.Dx(), Height: r.Dy()})
		}
	}
}

func toWords(words []compare.Word) *[]api.ComparedWord {
	if len(words) == 0 {
		return nil
	}
	all := make([]api.ComparedWord, len(words))
	for i, w := range words {
		all[i] = api.ComparedWord{Text: w.Text, Marked: w.Marked}
	}
	return &all
}
