package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"slices"
	"strings"
	"time"

	"humble-rewind/api"
	"humble-rewind/internal/apart"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/peek"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/say"
	"humble-rewind/internal/source"
)

// openCopy opens a copy's content and words what keeps it from being opened.
func (s *Service) openCopy(ctx context.Context, c *copies.Copy) (source.Opened, error) {
	unreadable := func(detail, next string, do ...problem.Step) (source.Opened, error) {
		return source.Opened{}, &refusal{Status: http.StatusGone, Title: "The copy cannot be read", Detail: detail, Next: next, do: do}
	}
	if !c.Readable {
		return unreadable("Only the record of it is left.", "Look for other copies of the same file with find.")
	}
	if _, err := s.site.Files(ctx, c.Store.AtMachine); err != nil {
		return unreadable("Its store cannot be reached: "+say.BringBackError(err)+".", "Check that the machine and the drive are there.")
	}
	content, err := s.contents.Open(ctx, c)
	if errors.Is(err, fs.ErrNotExist) {
		return unreadable(
			"It is no longer where the last survey saw it: it was emptied, or somebody just brought it back.",
			"Survey again.",
			problem.Step{Do: problem.Survey, About: c.Store.Machine},
		)
	}
	if err != nil {
		return unreadable(say.BringBackError(err)+".", "Survey again, or look for other copies with find.")
	}
	return content, nil
}

// openFile is openCopy for what must be a file.
func (s *Service) openFile(ctx context.Context, id string) (*copies.Copy, source.Opened, error) {
	c, err := s.copyOf(ctx, id)
	if err != nil {
		return c, source.Opened{}, err
	}
	content, err := s.openCopy(ctx, c)
	if err == nil && content.File == nil {
		err = errors.Join(
			&refusal{
				Status: http.StatusConflict,
				Title:  "Not a file",
				Detail: fmt.Sprintf("It is a %s and has no bytes of its own.", c.Type),
				Next:   "Peek at it instead, or choose a file in it.",
			},
			content.Close(),
		)
	}
	return c, content, err
}

// GetContent answers with a file's bytes.
func (s *Service) GetContent(ctx context.Context, request api.GetContentRequestObject) (api.GetContentResponseObject, error) {
	c, content, err := s.openFile(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	if whole := !strings.HasPrefix(rangeOf(ctx), "bytes="); !c.SHA256.Known() && whole && content.Info.Size <= digestedFirst {
		if c.SHA256, err = s.digest(ctx, c, content); err != nil {
			return nil, errors.Join(err, content.Close())
		}
	}
	at, err := s.contents.At(ctx, content)
	if err != nil {
		return nil, errors.Join(cannotRead(err), content.Close())
	}
	return download{ctx, c, content, at}, nil
}

// cannotRead words what keeps a copy from being read.
func cannotRead(err error) error {
	if errors.Is(err, source.ErrLocked) {
		return &refusal{
			Status: http.StatusForbidden,
			Title:  "The copy cannot be read",
			Detail: say.BringBackError(err) + ".",
			Next:   "Ask for its password, and unlock its source.",
			do:     []problem.Step{{Do: problem.Unlock}},
		}
	}
	return &refusal{
		Status: http.StatusGone,
		Title:  "The copy cannot be read",
		Detail: say.BringBackError(err) + ".",
		Next:   "Look for other copies with find.",
	}
}

// digestedFirst is the largest content, in bytes, that is read once for its digest before it is sent. What is larger, or asked for
// in part, has no entity tag until something else took its digest.
const digestedFirst = 256 << 20

// rangeOf returns the Range header of a request.
func rangeOf(ctx context.Context) string {
	if r, ok := ctx.Value(requestKey{}).(*http.Request); ok {
		return r.Header.Get("Range")
	}
	return ""
}

// digest reads a content once and keeps its digest.
func (s *Service) digest(ctx context.Context, c *copies.Copy, content source.Opened) (digest.Sum, error) {
	d, _, err := contents.DigestOf(ctx, content.File, content.Info.Size)
	if err != nil {
		return digest.Sum{}, cannotRead(err)
	}
	return d.Value(), s.catalogue.Contents.SetDigest(ctx, c.ID, d.Value())
}

type download struct {
	ctx     context.Context
	copy    *copies.Copy
	content source.Opened
	at      reach.Anywhere
}

// VisitGetContentResponse serves the bytes, whole or in ranges. They are always a download: what is in them must never
// be taken for a page of ours.
func (d download) VisitGetContentResponse(w http.ResponseWriter) error {
	defer d.content.Close()
	defer d.at.Close()
	h := w.Header()
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": place.Readable(d.copy.Place.Name())}))
	if d.copy.SHA256.Known() {
		h.Set("ETag", `"`+d.copy.SHA256.Hex()+`"`)
	}
	h.Set("Cache-Control", "private, no-cache")
	// ServeContent wants a request for its conditions; the strict handler passes the response alone, so the headers that
	// matter travel in the context.
	r, ok := d.ctx.Value(requestKey{}).(*http.Request)
	if !ok {
		return errors.New("serve content: no request")
	}
	http.ServeContent(w, r, "", time.Time{}, io.NewSectionReader(d.at, 0, d.at.Size))
	return nil
}

// GetPicture answers with an inert rendering.
func (s *Service) GetPicture(ctx context.Context, request api.GetPictureRequestObject) (api.GetPictureResponseObject, error) {
	_, content, err := s.openFile(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	look, err := s.contents.Look(ctx, content)
	if err != nil {
		return nil, notLookedInto(err)
	}
	if look.MediaType == "image/svg+xml" && content.Info.Size <= maxSVG {
		stream, err := content.File.Stream(ctx)
		if err != nil {
			return nil, cannotRead(err)
		}
		defer stream.Close()
		raw, err := io.ReadAll(io.LimitReader(stream, maxSVG))
		return picture{look.MediaType, raw}, err
	}
	var drawn bytes.Buffer
	err = s.contents.Draw(ctx, content, &drawn)
	if errors.Is(err, peek.ErrNoPicture) || err == nil && look.Shows != peek.Picture {
		return nil, &refusal{
			Status: http.StatusUnsupportedMediaType,
			Title:  "Not a picture that can be drawn",
			Detail: fmt.Sprintf("Its content is %s.", look.MediaType),
			Next:   "Peek at it as text, or download it.",
		}
	}
	return picture{"image/png", drawn.Bytes()}, notLookedInto(err)
}

// notLookedInto words what kept a content from being looked into; nil stays nil.
func notLookedInto(err error) error {
	if errors.Is(err, apart.ErrDemanding) {
		return &refusal{
			Status: http.StatusUnprocessableEntity,
			Title:  "It is not looked into",
			Detail: "Looking into it takes more memory or " +
				"time than is given to any content: it is damaged, or made to do harm.",
			Next: "Bring it back and have it looked at on a machine where it can do none.",
		}
	}
	return err
}

// maxSVG is the largest drawing, in bytes, that a browser is given to draw.
const maxSVG = 16 << 20

type picture struct {
	mediaType string
	bytes     []byte
}

// VisitGetPictureResponse serves a picture. An SVG may use styles of its own, but no script, and nothing from elsewhere.
func (p picture) VisitGetPictureResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", p.mediaType)
	w.Header().
		Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src data:; frame-ancestors 'none'; sandbox")
	w.Header().Set("Cache-Control", "private, max-age=300")
	_, err := w.Write(p.bytes)
	return err
}

// GetPreview gives a first look at a copy.
func (s *Service) GetPreview(ctx context.Context, request api.GetPreviewRequestObject) (api.GetPreviewResponseObject, error) {
	c, err := s.copyOf(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	content, err := s.openCopy(ctx, c)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	switch {
	case content.File != nil:
		look, err := s.contents.Look(ctx, content)
		if errors.Is(err, apart.ErrDemanding) {
			return nil, notLookedInto(err)
		}
		if err != nil {
			return nil, cannotRead(err)
		}
		return toPreview(look, content.Info.Size), nil
	case content.Folder != nil && c.Store.Traits.Tree:
		return folderListing(ctx, content.Folder)
	case content.Folder != nil:
		return s.listing(ctx, c)
	case c.Type == entry.Link:
		return api.GetPreview200JSONResponse{
			Shows:     api.PreviewShowsLink,
			MediaType: "inode/symlink",
			Target:    optional(place.Readable(content.Target)),
		}, nil
	}
	return api.GetPreview200JSONResponse{
		Shows:     api.PreviewShowsNothing,
		MediaType: "inode/special",
		Note:      optional("It is a device, pipe or socket."),
	}, nil
}

func toPreview(look peek.Preview, size int64) api.GetPreview200JSONResponse {
	a := api.GetPreview200JSONResponse{
		Shows:     api.PreviewShows(look.Shows),
		MediaType: look.MediaType,
		Size:      size,
		Encoding:  optional(look.Encoding),
		Cut:       optional(look.Cut),
		Width:     optional(look.Width),
		Height:    optional(look.Height),
		Note:      optional(say.Speaker{}.Remark(look.Note)),
	}
	if look.Lines != nil {
		a.Lines = &look.Lines
	}
	if len(look.Sheets) > 0 {
		sheets := make([]api.PreviewSheet, len(look.Sheets))
		for i, s := range look.Sheets {
			sheets[i] = api.PreviewSheet{Name: optional(s.Name), Rows: s.Rows}
		}
		a.Sheets = &sheets
	}
	return a
}

// maxListed is how many entries the look at a folder shows.
const maxListed = 500

// folderListing shows what lies in a folder as its store holds it.
func folderListing(ctx context.Context, folder reach.Tree) (api.GetPreviewResponseObject, error) {
	list, err := folder.List(ctx)
	if err != nil {
		return nil, err
	}
	slices.SortFunc(list, func(a, b reach.Info) int { return strings.Compare(a.Name, b.Name) })
	cut := len(list) > maxListed
	entries := make([]api.PreviewEntry, min(len(list), maxListed))
	for i := range entries {
		entries[i] = api.PreviewEntry{Name: place.Readable(list[i].Name), Type: api.EntryType(list[i].Type)}
		if list[i].Type == entry.File {
			entries[i].Size = &list[i].Size
		}
	}
	return api.GetPreview200JSONResponse{
		Shows:     api.PreviewShowsFolder,
		MediaType: "inode/directory",
		Entries:   &entries,
		Cut:       optional(cut),
	}, nil
}

// listing shows what lies in a folder as the last survey saw it, so that each entry is a copy of its own.
func (s *Service) listing(ctx context.Context, c *copies.Copy) (api.GetPreviewResponseObject, error) {
	found, err := s.asked(ctx).view.Search.Find(ctx, catalogue.Query{ItemOf: c.ID, Sort: catalogue.ByName, Limit: maxListed})
	if err != nil {
		return nil, err
	}
	entries := make([]api.PreviewEntry, len(found.Copies))
	for i, e := range found.Copies {
		size := e.Size
		entries[i] = api.PreviewEntry{
			Name: place.Readable(e.At.Name),
			Type: api.EntryType(e.Type),
			Size: &size,
			Copy: optional(e.ID.String()),
		}
	}
	return api.GetPreview200JSONResponse{
		Shows:     api.PreviewShowsFolder,
		MediaType: "inode/directory",
		Size:      c.Size,
		Entries:   &entries,
		Cut:       optional(found.Next != ""),
	}, nil
}
