package service

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"net/http"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/past"
)

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
	m, err := s.asked(ctx).view.Machines.Named(ctx, p.Machine)
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
	folder, why, err := s.asked(ctx).past.SealedWith(ctx, p)
	if err != nil {
		return nil, err
	}
	a.Sealed = toSealed(p.Machine, folder, why)
	a.Same, a.Changed, a.Missing, a.Added, a.Moved = f.Counts[past.Same], f.Counts[past.Changed], f.Counts[past.Missing],
		f.Counts[past.Added], f.Counts[past.Moved]
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
func (s *Service) folder(ctx context.Context, p place.Place, q api.GetFolderParams) (f past.Folder, next string, err error) {
	if q.Limit == nil {
		if q.Cursor != nil {
			return f, "", badRequest("A cursor without a limit.", "Give the limit of the page before, too.")
		}
		f, err = s.asked(ctx).past.Folder(ctx, p, value(q.AsOf), value(q.Against))
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
	return s.asked(ctx).past.FolderPage(ctx, p, value(q.AsOf), value(q.Against), string(after), *q.Limit)
}

// shownFolder is a folder as it is answered. Its entries are written some at a time: there may be hundreds of thousands.
type shownFolder struct {
	api.GetFolder200JSONResponse
	place   place.Place
	entries []past.Entry
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

func toEntry(folder place.Place, e past.Entry) api.FolderEntry {
	a := api.FolderEntry{
		Name: place.Readable(e.Path),
		Path: toPlace(place.Place{Machine: folder.Machine, Path: place.Join(folder.Path, e.Path)}),
		Type: api.EntryType(e.Type),
		State: api.EntryState(
			e.State,
		),
		WrittenAt: optionalTime(e.Written),
		Sha256:    optional(e.SHA256.Hex()),
		Proved:    e.Proved,
		MovedTo:   optional(place.Readable(e.MovedTo)),
	}
	if e.Size >= 0 {
		size := e.Size
		a.Size = &size
	}
	if e.Copy != 0 {
		a.Copy = optional(e.Copy.String())
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
