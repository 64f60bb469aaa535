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

	"humble-rewind/internal/advise"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
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
	Answer      *advise.Answer // nil where none could be given
	NoAnswer    string
	Aid         Aid
	Receipts    []Brought
	Unprotected []string
	zone        *time.Location
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
	r := Report{Case: inert(k), At: b.Now(), Reader: reader, zone: zone, written: map[copies.ID]time.Time{}}
	var err error
	if r.Aid, err = b.FirstAid(ctx, k, zone); err != nil {
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
		receipt, err := b.Site.Catalogue.Receipts.ByID(ctx, id)
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
		items, err := b.Site.Catalogue.Receipts.Items(ctx, id, 0, 0)
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
			if c, err := b.Site.Catalogue.Copies.ByID(ctx, i.Copy); err == nil {
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
func unprotected(a *advise.Answer, now time.Time) []string {
	var all []string
	p := a.Question.Place
	kept, elsewhere := time.Time{}, false
	for _, l := range a.Looked {
		store := a.Stores[l.Source]
		if l.Found && store.Traits.Keeps() && store.Latest().After(kept) {
			kept = store.Latest()
		}
		elsewhere = elsewhere || l.Found && store.AtMachine != p.Machine
		if l.Excluded != "" {
			all = append(all, fmt.Sprintf("Its folder is left out of %s by the exclusion “%s”.", advise.Name(&store.Source, p.Machine),
				place.Inert(l.Excluded)))
		}
	}
	switch days := int(now.Sub(kept).Hours() / 24); {
	case kept.IsZero():
		all = append(all, "No snapshot, history or drive keeps versions of it: only the trash and luck protect this folder.")
	case days >= 2:
		all = append(all, fmt.Sprintf("What keeps versions of it did so %d days ago for the last time.", days))
	}
	if !elsewhere {
		all = append(all, "Every copy of it is on the same machine; if that is lost, so are they.")
	}
	if r := a.Recommended; r != nil && !r.Copy.Expires.IsZero() && r.Copy.Expires.Sub(now) < 7*24*time.Hour {
		all = append(
			all,
			fmt.Sprintf("The copy in the trash would have expired on %s.", r.Copy.Expires.In(a.Question.Zone).Format("Mon 2 Jan")),
		)
	}
	return all
}

// What the templates ask for.

// Say writes a time, to the minute.
func (r Report) Say(t time.Time) string { return advice.Say(t.Truncate(time.Minute), r.At, r.zone) }

// Zone names the zone of the times.
func (r Report) Zone() string { return r.zone.String() }

// What names what was lost.
func (r Report) What() string {
	if r.Case.Place.Path != "" {
		return place.Readable(r.Case.Place.Name())
	}
	if r.Case.Words != "" {
		return r.Case.Words
	}
	return "something of " + r.Case.Person
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
	return map[advice.Loss]string{advice.Deleted: "was deleted", advice.Overwritten: "was overwritten", advice.Damaged: "was damaged",
		advice.Misplaced: "could not be found",
		advice.Unsaved:   "was not saved"}[r.Case.Loss]
}

// State says how far the case is.
func (r Report) State() string {
	return map[catalogue.CaseState]string{catalogue.CaseOpen: "open", catalogue.CaseWaiting: "waiting for the user",
		catalogue.CaseDone: "done"}[r.Case.State]
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
		return ", as it was saved on " + r.Say(at)
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
	if why := reasonsOf(r.Answer); len(why.Because) > 0 {
		return &why
	}
	return nil
}

// Name says which source one of those looked at is.
func (r Report) Name(l advice.Looked) string {
	return advise.Name(&r.Answer.Stores[l.Source].Source, r.Answer.Question.Place.Machine)
}

// Place writes a place.
func (r Report) Place(p place.Place) string { return p.String() }

// Entry says what an entry of the case is.
func (r Report) Entry(e catalogue.CaseEntry) string {
	id, _, _ := strings.Cut(e.Ref, " ")
	switch e.Kind {
	case catalogue.EntryOpened:
		return "opened the case"
	case catalogue.EntryChanged:
		return "changed " + e.Text
	case catalogue.EntryState:
		return "set it to " + e.Ref
	case catalogue.EntryNote:
		return e.Text
	case catalogue.EntryCopy:
		return fmt.Sprintf("put copy %s in: %s", id, e.Text)
	case catalogue.EntryWrong:
		return fmt.Sprintf("said that copy %s is not the one", id)
	case catalogue.EntryRight:
		return fmt.Sprintf("took back that copy %s is not the one", id)
	case catalogue.EntryStep:
		return fmt.Sprintf("did the first aid step %s", id)
	case catalogue.EntryUnstep:
		return fmt.Sprintf("took back the first aid step %s", id)
	case catalogue.EntryReceipt:
		return fmt.Sprintf("brought back, receipt %s", id)
	}
	return string(e.Kind)
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
