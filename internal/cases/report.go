package cases

import (
	"context"
	"embed"
	"errors"
	"fmt"
	htmltemplate "html/template"
	"io"
	"slices"
	"strings"
	"text/template"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/choosing"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/say"
)

// Reader says whom a report is for.
type Reader string

// The readers.
const (
	ForUser Reader = "user" // plain words, one page
	ForFile Reader = "file" // everything
)

// Report is what a case came to.
type Report struct {
	Case        catalogue.Case
	At          time.Time
	Reader      Reader
	Answer      *choosing.Answer // nil where none could be given
	NoAnswer    string
	Aid         Aid
	Receipts    []Brought
	Unprotected []remark.Remark
	speaker     say.Speaker
	written     map[copies.ID]time.Time // by copies that were brought back
}

// Brought is a receipt with why it was brought back.
type Brought struct {
	catalogue.Receipt
	Items   []catalogue.ReceiptItem
	Reasons Reasons
}

// Report gathers what a case came to.
func (b *Book) Report(ctx context.Context, k catalogue.Case, reader Reader, zone *time.Location) (Report, error) {
	now := b.Now()
	r := Report{Case: inert(k), At: now, Reader: reader, speaker: say.Speaker{Now: now, Zone: zone}, written: map[copies.ID]time.Time{}}
	var err error
	if r.Aid, err = b.FirstAid(ctx, k); err != nil {
		return r, err
	}
	answer, err := b.Advise(ctx, k, zone)
	var input *problem.Input
	switch {
	case err == nil:
		r.Answer = &answer
		r.Unprotected = unprotected(&answer, r.At)
	case errors.As(err, &input):
		r.NoAnswer = input.Err.Error()
	default:
		return r, err
	}
	err = b.receipts(ctx, &r)
	return r, err
}

// inert is a case whose texts can do nothing where they are shown.
func inert(k catalogue.Case) catalogue.Case {
	for _, text := range []*string{&k.Person, &k.Words, &k.Happened, &k.OpenedBy} {
		*text = place.Inert(*text)
	}
	k.Hints.Words, k.Hints.Without = slices.Clone(k.Hints.Words), slices.Clone(k.Hints.Without)
	for _, words := range [][]string{k.Hints.Words, k.Hints.Without} {
		for i := range words {
			words[i] = place.Inert(words[i])
		}
	}
	k.Entries = slices.Clone(k.Entries)
	for i := range k.Entries {
		k.Entries[i].Text, k.Entries[i].By = place.Inert(k.Entries[i].Text), place.Inert(k.Entries[i].By)
	}
	return k
}

// receipts gathers what was brought back, and when that was written.
func (b *Book) receipts(ctx context.Context, r *Report) error {
	for _, e := range r.Case.Entries {
		id, ok := receiptOf(e)
		if !ok {
			continue
		}
		receipt, err := b.view().Receipts.ByID(ctx, id)
		if errors.Is(err, catalogue.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		why, err := reasons(e)
		if err != nil {
			return err
		}
		items, err := b.view().Receipts.Items(ctx, id, 0, 0)
		if err != nil {
			return err
		}
		r.Receipts = append(r.Receipts, Brought{receipt, items, why})
	}
	if r.Back() > listed {
		return nil
	}
	for _, receipt := range r.Receipts {
		for _, i := range receipt.Items {
			if c, err := b.view().Copies.ByID(ctx, i.Copy); err == nil {
				r.written[i.Copy] = c.Recorded()
			} else if !errors.Is(err, catalogue.ErrNotFound) {
				return err
			}
		}
	}
	return nil
}

// listed is how many files a report for the user names one by one.
const listed = 12

// unprotected says what should be put right, so that the next loss is harmless.
func unprotected(a *choosing.Answer, now time.Time) (all []remark.Remark) {
	p := a.Question.Place
	kept, elsewhere := time.Time{}, false
	for _, l := range a.Looked {
		store := a.Stores[l.Source]
		if l.Found && store.Traits.Keeps() && store.Latest().After(kept) {
			kept = store.Latest()
		}
		elsewhere = elsewhere || l.Found && store.AtMachine != p.Machine
		if l.Excluded != "" {
			all = append(all, remark.New("left-out", "source", choosing.Name(&store.Source, p.Machine), "pattern", place.Inert(l.Excluded)))
		}
	}
	switch days := int(now.Sub(kept).Hours() / 24); {
	case kept.IsZero():
		all = append(all, remark.New("no-versions"))
	case days >= 2:
		all = append(all, remark.New("old-versions", "n", days))
	}
	if !elsewhere {
		all = append(all, remark.New("same-machine"))
	}
	if r := a.Recommended; r != nil && !r.Copy.Expires.IsZero() && r.Copy.Expires.Sub(now) < 7*24*time.Hour {
		all = append(all, remark.New("would-expire", "at", r.Copy.Expires))
	}
	return all
}

// What the templates ask for.

// Say writes a time, to the minute.
func (r Report) Say(t time.Time) string { return r.speaker.Time(t.Truncate(time.Minute)) }

// Tell says a remark.
func (r Report) Tell(m remark.Remark) string { return r.speaker.Remark(m) }

// Each says remarks, one by one.
func (r Report) Each(all []remark.Remark) []string { return r.speaker.Remarks(all) }

// Together says remarks, one after the other.
func (r Report) Together(all []remark.Remark) string { return r.speaker.Joined(all) }

// Zone names the zone of the times.
func (r Report) Zone() string { return r.speaker.Zone.String() }

// What names what was lost.
func (r Report) What() string {
	if r.Case.Place.Path != "" {
		return place.Readable(r.Case.Place.Name())
	}
	if r.Case.Words != "" {
		return r.Case.Words
	}
	return r.Tell(remark.New("something-of", "person", r.Case.Person))
}

// Where is its place.
func (r Report) Where() string {
	if r.Case.Place.Path == "" {
		return ""
	}
	return r.Case.Place.String()
}

// Loss says what happened, in the middle of a sentence.
func (r Report) Loss() string {
	return r.Tell(remark.New("lost-" + string(r.Case.Loss)))
}

// State says how far the case is.
func (r Report) State() string {
	return r.Tell(remark.New("case-" + string(r.Case.State)))
}

// Back counts what was brought back and stands.
func (r Report) Back() (n int) {
	for _, receipt := range r.Receipts {
		for _, i := range receipt.Items {
			if i.Outcome == catalogue.ItemDone {
				n++
			}
		}
	}
	return n
}

// Done tells whether a first aid step was ticked.
func (r Report) Done(step string) bool {
	_, done := r.Aid.Done[step]
	return done
}

// Listed tells whether what came back is few enough to be named one by one.
func (r Report) Listed() bool { return r.Back() <= listed }

// From says when what came back was written, for behind its name.
func (r Report) From(i catalogue.ReceiptItem) string {
	if at := r.written[i.Copy]; !at.IsZero() {
		return r.Tell(remark.New("as-saved", "at", at.Truncate(time.Minute)))
	}
	return ""
}

// Reasons are those of what was brought back last and stands, else those of what is advised now; nil where nothing is.
func (r Report) Reasons() *Reasons {
	for i := len(r.Receipts) - 1; i >= 0; i-- {
		if b := &r.Receipts[i]; b.UndoneAt.IsZero() && len(b.Reasons.Because) > 0 {
			return &b.Reasons
		}
	}
	if r.Answer == nil {
		return nil
	}
	if why := reasonsOf(r.Answer, r.speaker); len(why.Because) > 0 {
		return &why
	}
	return nil
}

// Name says which source one of those looked at is.
func (r Report) Name(l advice.Looked) string {
	return choosing.Name(&r.Answer.Stores[l.Source].Source, r.Answer.Question.Place.Machine)
}

// Place writes a place.
func (r Report) Place(p place.Place) string { return p.String() }

// Entry says what an entry of the case is.
func (r Report) Entry(e catalogue.CaseEntry) string {
	id, _, _ := strings.Cut(e.Ref, " ")
	return r.Tell(remark.New("entry-"+string(e.Kind), "text", e.Text, "state", e.Ref, "id", id))
}

//go:embed templates
var templates embed.FS

var (
	markdown = template.Must(
		template.New("").Funcs(template.FuncMap{"md": escapeMarkdown, "readable": place.Readable}).ParseFS(templates, "templates/*.md"),
	)
	html = htmltemplate.Must(
		htmltemplate.New("").Funcs(htmltemplate.FuncMap{"readable": place.Readable}).ParseFS(templates, "templates/*.html"),
	)
)

// escapeMarkdown keeps names from being taken for markup.
func escapeMarkdown(v any) string {
	s := fmt.Sprint(v)
	var b strings.Builder
	for _, r := range s {
		if strings.ContainsRune("\\`*_{}[]<>#|", r) {
			b.WriteByte('\\')
		}
		if r == '\n' || r == '\r' {
			r = ' '
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Markdown writes the report as Markdown.
func (r Report) Markdown(w io.Writer) error {
	return markdown.ExecuteTemplate(w, string(r.Reader)+".md", r)
}

// HTML writes it as a page that prints well and loads nothing.
func (r Report) HTML(w io.Writer) error { return html.ExecuteTemplate(w, string(r.Reader)+".html", r) }
