// Package cases is the work on requests for help: what was lost, what was found and done, by whom, and what the user is
// told. It ties the advice, first aid and receipts to a case and lets those who look at one see each other's work at once.
package cases

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/choosing"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/firstaid"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/drives"
	"humble-rewind/internal/site"
)

// Book is where cases are kept, as somebody may know them. It is safe for concurrent use.
type Book struct {
	Site    *site.Site
	Adviser *choosing.Adviser // of whoever asks
	Now     func() time.Time

	changed func(id int64) // a case
}

// NewBook opens the book of a site. changed is called whenever a case has changed.
func NewBook(s *site.Site, adviser *choosing.Adviser, now func() time.Time, changed func(id int64)) *Book {
	return &Book{s, adviser, now, changed}
}

// For returns the book as somebody else may know it.
func (b *Book) For(view catalogue.View) *Book {
	return &Book{b.Site, b.Adviser.For(view), b.Now, b.changed}
}

func (b *Book) view() catalogue.View { return b.Adviser.Past.View }

// ByID returns a case with what was done in it.
func (b *Book) ByID(ctx context.Context, id int64) (catalogue.Case, error) {
	return b.view().Cases.ByID(ctx, id)
}

// kept is a case as whoever asks may know it, once something of it was kept.
func (b *Book) kept(ctx context.Context, k catalogue.Case, err error) (catalogue.Case, error) {
	if err != nil {
		return k, err
	}
	b.changed(k.ID)
	return b.ByID(ctx, k.ID)
}

// Changes are what to change about a case; nil fields stay.
type Changes struct {
	State    *catalogue.CaseState
	Person   *string
	Place    *place.Place
	Words    *string
	Loss     *advice.Loss
	Happened *string
	Good     *time.Time // the zero time: not known
	Noticed  *time.Time
	Hints    *advice.Hints
}

func refuse(what string, err error, next string, do ...problem.Step) error {
	return &problem.Input{What: what, Err: err, Next: next, Do: do}
}

// Open opens a case.
func (b *Book) Open(ctx context.Context, k catalogue.Case, by string) (catalogue.Case, error) {
	const what = "open the case"
	if err := b.check(ctx, what, &k); err != nil {
		return k, err
	}
	if k.Place.Path == "" && strings.TrimSpace(k.Words) == "" && k.Person == "" {
		return k, refuse(what, errors.New("nothing says what was lost"), "Give its place, some words of its name, or at least whose it is.")
	}
	k.OpenedAt, k.OpenedBy = b.Now(), by
	k, err := b.Site.Catalogue.Cases.Add(ctx, k)
	return b.kept(ctx, k, err)
}

func (b *Book) check(ctx context.Context, what string, k *catalogue.Case) error {
	if !slices.Contains(advice.Losses, k.Loss) {
		return refuse(what, fmt.Errorf("%q is not one of the losses that cases are of", k.Loss), "Choose deleted, overwritten, damaged, misplaced or unsaved.")
	}
	if k.Place.Machine != "" {
		if _, err := b.view().Machines.Named(ctx, k.Place.Machine); err != nil {
			return refuse(what, fmt.Errorf("machine %s: %w", k.Place.Machine, err), "List the machines.",
				problem.Step{Do: problem.ListMachines})
		}
	}
	if k.Place.Path != "" && k.Place.Machine == "" {
		return refuse(what, errors.New("a place is a machine and a path, and the machine is missing"), "Write the place as machine:/path.")
	}
	if k.Place.Path == "" {
		return nil
	}
	if k.Person == "" { // whose home it is in
		m, err := b.view().Machines.Named(ctx, k.Place.Machine)
		if err != nil {
			return err
		}
		for _, p := range m.People {
			if place.Under(k.Place.Path, p.Home) {
				k.Person = p.Name
			}
		}
	}
	return nil
}

// Change changes a case that is still as it was at version; 0 is for whatever version. Else it fails with
// catalogue.ErrChangedMeanwhile.
func (b *Book) Change(ctx context.Context, id, version int64, by string, c Changes) (catalogue.Case, error) {
	k, err := b.ByID(ctx, id)
	if err != nil {
		return k, err
	}
	var entries []catalogue.CaseEntry
	if c.State != nil && *c.State != k.State {
		if !slices.Contains([]catalogue.CaseState{catalogue.CaseOpen, catalogue.CaseWaiting, catalogue.CaseDone}, *c.State) {
			return k, refuse("change the case", fmt.Errorf("%q is not a state of a case", *c.State), "Choose open, waiting or done.")
		}
		k.State = *c.State
		entries = append(entries, catalogue.CaseEntry{At: b.Now(), By: by, Kind: catalogue.EntryState, Ref: string(k.State)})
	}
	if what := c.apply(&k); len(what) > 0 {
		entries = append(entries, catalogue.CaseEntry{At: b.Now(), By: by, Kind: catalogue.EntryChanged, Text: strings.Join(what, ", ")})
	}
	if len(entries) == 0 {
		return k, nil
	}
	if err := b.check(ctx, "change the case", &k); err != nil {
		return k, err
	}
	k, err = b.Site.Catalogue.Cases.Change(ctx, k, version, b.Now(), entries...)
	return b.kept(ctx, k, err)
}

// apply takes the changes over and names what they change.
func (c Changes) apply(k *catalogue.Case) (what []string) {
	set(&what, "whose it is", &k.Person, c.Person)
	set(&what, "the place", &k.Place, c.Place)
	set(&what, "the words", &k.Words, c.Words)
	set(&what, "the loss", &k.Loss, c.Loss)
	set(&what, "what happened", &k.Happened, c.Happened)
	set(&what, "when it was last right", &k.Good, c.Good)
	set(&what, "when it was noticed", &k.Noticed, c.Noticed)
	if c.Hints != nil && !reflect.DeepEqual(*c.Hints, k.Hints) {
		k.Hints = *c.Hints
		what = append(what, "the hints")
	}
	return what
}

func set[T comparable](what *[]string, name string, old, wanted *T) {
	if wanted != nil && *old != *wanted {
		*old = *wanted
		*what = append(*what, name)
	}
}

// Add adds what was done to a case.
func (b *Book) Add(ctx context.Context, id int64, by string, kind catalogue.EntryKind, text, ref string) (catalogue.Case, error) {
	const what = "add to the case"
	if k, err := b.ByID(ctx, id); err != nil {
		return k, err
	}
	switch kind {
	case catalogue.EntryNote:
		if strings.TrimSpace(text) == "" {
			return catalogue.Case{}, refuse(what, errors.New("the note is empty"), "Write what is to be remembered.")
		}
	case catalogue.EntryCopy, catalogue.EntryWrong, catalogue.EntryRight:
		n, err := strconv.ParseInt(strings.TrimPrefix(ref, "c"), 10, 64)
		if err != nil {
			return catalogue.Case{}, refuse(what, fmt.Errorf("%q is not a copy", ref), "Name a copy by its id, such as c12.")
		}
		c, err := b.view().Copies.ByID(ctx, copies.ID(n))
		if err != nil {
			return catalogue.Case{}, err
		}
		if text == "" {
			text = c.Place.String()
		}
		if kind != catalogue.EntryCopy {
			sum, err := b.Adviser.Contents.DigestKept(ctx, c)
			if err != nil {
				return catalogue.Case{}, refuse("remember that copy", err, "Survey its source again, and look at it once more.")
			}
			ref += " " + sum.Hex()
		}
	case catalogue.EntryStep, catalogue.EntryUnstep:
		if ref == "" {
			return catalogue.Case{}, refuse(what, errors.New("no step was named"), "Name a step by its id, as first aid lists them.")
		}
	default:
		return catalogue.Case{}, refuse(what, fmt.Errorf("%q cannot be added", kind), "Choose note, copy, wrong, right, step or unstep.")
	}
	k, err := b.Site.Catalogue.Cases.AddEntry(ctx, id, catalogue.CaseEntry{At: b.Now(), By: by, Kind: kind, Text: text, Ref: ref})
	return b.kept(ctx, k, err)
}

// Wrong lists the contents that were said not to be the right ones, each with a copy's id.
func Wrong(k catalogue.Case) map[digest.Sum]string {
	wrong := map[digest.Sum]string{}
	for _, e := range k.Entries {
		id, text, _ := strings.Cut(e.Ref, " ")
		sum := digest.Parse(text)
		switch e.Kind {
		case catalogue.EntryWrong:
			wrong[sum] = id
		case catalogue.EntryRight:
			delete(wrong, sum)
		}
	}
	return wrong
}

// Ticked lists the first aid steps that were done, by whom.
func Ticked(k catalogue.Case) map[string]catalogue.CaseEntry {
	done := map[string]catalogue.CaseEntry{}
	for _, e := range k.Entries {
		switch e.Kind {
		case catalogue.EntryStep:
			done[e.Ref] = e
		case catalogue.EntryUnstep:
			delete(done, e.Ref)
		}
	}
	return done
}

// Receipts lists the receipts of a case.
func Receipts(k catalogue.Case) (ids []int64) {
	for _, e := range k.Entries {
		if id, ok := receiptOf(e); ok {
			ids = append(ids, id)
		}
	}
	return ids
}

// receiptOf is the receipt that an entry put into a case.
func receiptOf(e catalogue.CaseEntry) (id int64, ok bool) {
	id, err := strconv.ParseInt(strings.TrimPrefix(e.Ref, "r"), 10, 64)
	return id, err == nil && e.Kind == catalogue.EntryReceipt
}

// Advise asks for advice with what the case knows.
func (b *Book) Advise(ctx context.Context, k catalogue.Case, zone *time.Location) (choosing.Answer, error) {
	p, err := b.place(ctx, k)
	if err != nil {
		return choosing.Answer{}, err
	}
	q := choosing.Question{
		Place:    p,
		Zone:     zone,
		Question: advice.Question{Loss: k.Loss, Good: k.Good, Noticed: k.Noticed, Hints: k.Hints, Wrong: map[digest.Sum]bool{}},
	}
	for sum := range Wrong(k) {
		q.Wrong[sum] = true
	}
	return b.Adviser.Advise(ctx, q)
}

// place is the case's place, or the only one that its words find.
func (b *Book) place(ctx context.Context, k catalogue.Case) (place.Place, error) {
	if k.Place.Path != "" {
		return k.Place, nil
	}
	found, err := b.Candidates(ctx, k)
	if err != nil {
		return place.Place{}, err
	}
	what := fmt.Sprintf("advise on case k%d", k.ID)
	switch len(found) {
	case 0:
		return place.Place{}, refuse(
			what,
			fmt.Errorf("nothing known is called %q: %w", k.Words, catalogue.ErrNotFound),
			"Look for it with fewer words, and give the case its place.",
			problem.Step{Do: problem.Find}, problem.Step{Do: problem.ChangeCase, About: fmt.Sprintf("k%d", k.ID)},
		)
	case 1:
		return found[0], nil
	}
	names := make([]string, min(5, len(found)))
	for i := range names {
		names[i] = found[i].String()
	}
	return place.Place{}, refuse(
		what,
		fmt.Errorf("%d places fit the words: %s", len(found), strings.Join(names, ", ")),
		"Give the case the right one.",
		problem.Step{Do: problem.ChangeCase, About: fmt.Sprintf("k%d", k.ID)},
	)
}

// maxCandidates bounds how many places are offered for a case that has only words.
const maxCandidates = 20

// Candidates are the places that fit a case's words.
func (b *Book) Candidates(ctx context.Context, k catalogue.Case) ([]place.Place, error) {
	if strings.TrimSpace(k.Words) == "" {
		return nil, nil
	}
	var people map[string][]string
	if k.Person != "" {
		var err error
		if people, err = b.view().AccountsOf(ctx, k.Person); err != nil {
			return nil, err
		}
	}
	found, err := b.view().Search.Find(
		ctx,
		catalogue.Query{Words: k.Words, Machine: k.Place.Machine, People: people, Records: true, Limit: 300, Sort: catalogue.ByWritten},
	)
	if err != nil {
		return nil, err
	}
	var all []place.Place
	for _, c := range found.Copies {
		if !c.Lost && !slices.Contains(all, c.Place) && len(all) < maxCandidates {
			all = append(all, c.Place)
		}
	}
	return all, nil
}

// Aid is first aid for a case: what to do, and what it goes by.
type Aid struct {
	Drive firstaid.Drive
	Steps []firstaid.Step
	Done  map[string]catalogue.CaseEntry
}

// FirstAid says what to do first.
func (b *Book) FirstAid(ctx context.Context, k catalogue.Case) (Aid, error) {
	aid := Aid{Done: Ticked(k), Drive: firstaid.Drive{Free: -1}}
	if machine := k.Place.Machine; machine != "" {
		m, err := b.view().Machines.Named(ctx, machine)
		if err != nil && !errors.Is(err, catalogue.ErrNotFound) {
			return aid, err
		}
		files, ferr := b.Site.Files(ctx, machine)
		switch {
		case err != nil || ferr != nil:
			aid.Drive.Notes = []remark.Remark{remark.New("no-machine", "machine", machine)}
		default:
			home, at := "", k.Place.Path
			for _, p := range m.People {
				if p.Name == k.Person || at != "" && place.Under(at, p.Home) {
					home = p.Home
				}
			}
			if at == "" {
				at = home
			}
			if at == "" {
				at = "/"
			}
			machineZone, err := time.LoadLocation(m.Zone)
			if err != nil {
				machineZone = time.UTC
			}
			aid.Drive = drives.Of(ctx, files, at, home, machineZone, b.Now())
		}
	}
	aid.Steps = firstaid.Steps(k.Loss, aid.Drive, b.Now())
	return aid, nil
}
