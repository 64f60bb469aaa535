package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
	"humble-rewind/internal/core/place"
)

// lossFlags are those that say what was lost.
func lossFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "loss", Usage: "what happened: deleted, overwritten, damaged, misplaced or unsaved (`KIND`)"},
		&cli.StringFlag{Name: "good-at", Usage: "when it was last right (`TIME`), such as friday evening or yesterday 17:00"},
		&cli.StringFlag{Name: "noticed-at", Usage: "when the loss was noticed (`TIME`); now where left out"},
		&cli.StringSliceFlag{Name: "containing", Usage: "`WORDS` that must be in it; may be repeated"},
		&cli.StringSliceFlag{Name: "without", Usage: "`WORDS` that must not be in it; may be repeated"},
		&cli.Int64Flag{Name: "least", Usage: "it has this many `BYTES` at least"},
		&cli.Int64Flag{Name: "most", Usage: "it has this many `BYTES` at most"},
		&cli.StringFlag{Name: "media", Usage: "the beginning of its media `TYPE` by content, such as image/"},
	}
}

func hints(c *cli.Command) *api.Hints {
	h := api.Hints{MediaType: set(c.String("media"))}
	if words := c.StringSlice("containing"); len(words) > 0 {
		h.Containing = &words
	}
	if words := c.StringSlice("without"); len(words) > 0 {
		h.Without = &words
	}
	for name, to := range map[string]**int64{"least": &h.Least, "most": &h.Most} {
		if n := c.Int64(name); n > 0 {
			*to = &n
		}
	}
	if h == (api.Hints{}) {
		return nil
	}
	return &h
}

func (p *Program) adviseCommand() *cli.Command {
	return &cli.Command{
		Name: "advise", Usage: "which copy is the right one, and why", ArgsUsage: "PLACE --loss KIND | --case CASE",
		Flags: append(lossFlags(),
			&cli.StringFlag{Name: "case", Usage: "for this `CASE`"},
			&cli.StringSliceFlag{Name: "wrong", Usage: "a `COPY` whose content is known not to be the one; may be repeated"},
			jsonFlag()),
		Action: p.client(
			0,
			1,
			"a place with --loss, or --case",
			func(ctx context.Context, s *session, c *cli.Command, args []string) error {
				if id := c.String("case"); id != "" {
					if len(args) > 0 {
						return usage("a case has its own place; leave one of them out")
					}
					response, err := s.api.AdviseCase(ctx, id, &api.AdviseCaseParams{Zone: s.zoneName()})
					return s.showAdvice(id)(shown[api.Advice](s, response, err))
				}
				body, err := s.adviceQuestion(c, args)
				if err != nil {
					return err
				}
				response, err := s.api.Advise(ctx, body)
				return s.showAdvice("")(shown[api.Advice](s, response, err))
			},
		),
	}
}

func (s *session) adviceQuestion(c *cli.Command, args []string) (api.NewAdvice, error) {
	if len(args) == 0 {
		return api.NewAdvice{}, usage("name the place of what was lost, or a case with --case")
	}
	at, err := typedPlace(args[0])
	if err != nil {
		return api.NewAdvice{}, err
	}
	loss := api.Loss(c.String("loss"))
	if !loss.Valid() {
		return api.NewAdvice{}, usage(
			"say what happened with --loss deleted, overwritten, damaged, misplaced or unsaved; %s is none of them",
			place.Quote(string(loss)),
		)
	}
	body := api.NewAdvice{Place: pathDestination(at), Loss: loss, Hints: hints(c), Zone: s.zoneName()}
	if wrong := c.StringSlice("wrong"); len(wrong) > 0 {
		body.Wrong = &wrong
	}
	if body.GoodAt, err = s.time(c.String("good-at")); err != nil {
		return body, err
	}
	body.NoticedAt, err = s.time(c.String("noticed-at"))
	return body, err
}

func pathDestination(p place.Place) api.Destination {
	raw := []byte(p.Path)
	return api.Destination{Machine: p.Machine, Path: place.Readable(p.Path), PathBytes: &raw}
}

// zoneName names the zone in which the service is to say times; nil where this machine's own has no name.
func (s *session) zoneName() *string {
	name := s.zone.String()
	if name != "Local" {
		return &name
	}
	if name = s.Env("TZ"); name != "" {
		return &name
	}
	if target, err := os.Readlink("/etc/localtime"); err == nil {
		if _, name, ok := strings.Cut(target, "zoneinfo/"); ok {
			return &name
		}
	}
	return nil
}

// showAdvice prints advice for reading aloud. Nothing to recommend is exit status 3.
func (s *session) showAdvice(forCase string) func(a api.Advice, err error) error {
	return func(a api.Advice, err error) error {
		if err != nil {
			return err
		}
		if !s.json {
			s.printAdvice(a, forCase)
		}
		if a.Recommended == nil {
			return silent(ExitNothing)
		}
		return nil
	}
}

func (s *session) sentences(head string, all []string) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintln(s.Stdout, head)
	for _, line := range all {
		fmt.Fprintln(s.Stdout, "  "+inert(line))
	}
}

func (s *session) printAdvice(a api.Advice, forCase string) {
	was := "was " + string(a.Loss)
	if a.Loss == api.LossUnsaved {
		was = "was never saved"
	}
	fmt.Fprintf(s.Stdout, "%s %s.\n\n", quoted(a.Place), was)
	switch r := a.Recommended; {
	case r != nil && r.Copy != nil && r.Standing != nil && *r.Standing:
		fmt.Fprintf(s.Stdout, "It is there: copy %s, %s.\n", r.Copy.Id, quoted(r.Copy.Place))
	case r != nil && r.Copy != nil && r.CapturedAt != nil:
		fmt.Fprintf(
			s.Stdout,
			"Bring back %s whole from %s, as it was on %s, to %s.\n",
			r.Copy.Id,
			r.Copy.Source.Kind,
			s.at(r.CapturedAt),
			quoted(*r.To),
		)
	case r != nil && r.Copy != nil:
		fmt.Fprintf(
			s.Stdout,
			"Bring back %s from %s, written %s, %s, %s.\n",
			r.Copy.Id,
			r.Copy.Source.Kind,
			s.at(r.Copy.WrittenAt),
			sizeOf(r.Copy.Size),
			r.Copy.Condition.State,
		)
	case r != nil && a.Folder.AsOf != nil:
		fmt.Fprintf(
			s.Stdout,
			"Bring back %s as they were on %s.\n",
			count(int64(a.Folder.Certain+a.Folder.Assumed), "file", "files"),
			s.at(a.Folder.AsOf),
		)
	case r != nil:
		fmt.Fprintf(s.Stdout, "Bring back %s.\n", count(int64(a.Folder.Certain+a.Folder.Assumed), "file", "files"))
	default:
		fmt.Fprintln(s.Stdout, "Nothing is recommended.")
	}
	if r := a.Recommended; r != nil {
		fmt.Fprintln(s.Stdout, howSure(r.Sure))
		s.printQuestion(a, forCase)
		s.sentences("Because:", r.Because)
		s.sentences("What it costs:", r.Costs)
	} else {
		s.sentences("Because:", a.Because)
	}
	for _, p := range a.FoundAt {
		fmt.Fprintf(s.Stdout, "It is at: %s\n", quoted(p))
	}
	s.printFolderAdvice(a.Folder)
	if len(a.Others) > 0 {
		fmt.Fprintln(s.Stdout, "\nOthers:")
		t := table{head: []string{"COPY", "FROM", "CONDITION", "SIZE", "WHY NOT"}, right: map[int]bool{3: true}}
		const most = 6
		for _, o := range a.Others[:min(most, len(a.Others))] {
			t.add(o.Copy.Id, o.Copy.Source.Kind, string(o.Copy.Condition.State), sizeOf(o.Copy.Size), inert(o.Why))
		}
		t.print(s.Stdout)
		if n := len(a.Others) - most; n > 0 {
			fmt.Fprintf(s.Stdout, "… and %d more; --json lists them, and trail shows all versions.\n", n)
		}
	}
	fmt.Fprintln(s.Stdout, "\nWhere we looked:")
	for _, l := range a.Looked {
		had := "nothing"
		if l.Found {
			had = "found  "
		}
		name := "any source of the kind " + l.Source.Kind
		if l.Name != nil {
			name = *l.Name
		}
		fmt.Fprintf(s.Stdout, "  %s  %s: %s\n", had, name, inert(l.Note))
	}
	s.sentences("To be known:", a.Notes)
	s.sentences("Still to be tried:", tried(a.Next, a.Place.Machine))
	s.printNext(a, forCase)
	fmt.Fprintln(s.Stdout, s.zoneLine())
}

// howSure says how sure an advice is.
func howSure(sure api.Sure) string {
	switch sure {
	case api.SureCertain:
		return "This is certain."
	case api.SureLikely:
		return "This is likely; the reasons say what it stands on."
	}
	return "This is open: it takes an answer from the user, or a look."
}

// printQuestion prints the one question that would settle an advice, with what each answer gives and how it is asked again.
func (s *session) printQuestion(a api.Advice, forCase string) {
	q := a.Question
	if q == nil {
		return
	}
	fmt.Fprintln(s.Stdout, "Ask the user: "+inert(q.Text))
	for _, answer := range q.Answers {
		line := fmt.Sprintf("  %s: it is %s", inert(answer.Text), answer.Copy)
		if h := answer.Hints; h != nil {
			if option := hintOption(h); forCase != "" {
				line += fmt.Sprintf("; note that with humble-rewind case change %s %s", forCase, option)
			} else {
				line += "; ask again with " + option
			}
		}
		fmt.Fprintln(s.Stdout, line)
	}
}

// hintOption writes one hint as the option that gives it.
func hintOption(h *api.Hints) string {
	switch {
	case h.Containing != nil:
		return "--containing " + place.Quote(strings.Join(*h.Containing, " "))
	case h.Without != nil:
		return "--without " + place.Quote(strings.Join(*h.Without, " "))
	case h.Least != nil:
		return fmt.Sprintf("--least %d", *h.Least)
	case h.Most != nil:
		return fmt.Sprintf("--most %d", *h.Most)
	}
	return ""
}

// partWord says what becomes of a file, in the product's words.
func partWord(part api.FolderPart) string {
	if part == api.FolderPartAssumed {
		return string(api.SureLikely)
	}
	return string(part)
}

func (s *session) printFolderAdvice(f *api.FolderAdvice) {
	if f == nil || len(f.Entries) == 0 {
		return
	}
	fmt.Fprintf(
		s.Stdout,
		"\n%d certain, %d likely, %d missing, %d kept as they are, %d came with it, %d the same.\n",
		f.Certain,
		f.Assumed,
		f.Missing,
		f.Kept,
		f.Came,
		f.Same,
	)
	t := table{head: []string{"COPY", "WHAT", "SIZE", "NAME", "NOTE"}, right: map[int]bool{2: true}}
	const most = 40
	for n, e := range f.Entries {
		if n == most {
			break
		}
		t.add(dash(text(e.Copy)), partWord(e.Part), sizeOf(e.Size), quotePath(e.Name), inert(e.Note))
	}
	t.print(s.Stdout)
	if len(f.Entries) > most {
		fmt.Fprintf(s.Stdout, "… and %d more; --json lists up to a thousand.\n", len(f.Entries)-most)
	}
}

func sizeOf(bytes *int64) string {
	if bytes == nil {
		return "—"
	}
	return size(*bytes)
}

// printNext says how to go on.
func (s *session) printNext(a api.Advice, forCase string) {
	r := a.Recommended
	switch {
	case r == nil || r.Standing != nil && *r.Standing:
	case forCase != "":
		fmt.Fprintf(s.Stdout, "Next: humble-rewind bring-back --case %s --dry-run\n", forCase)
	case r.Copy != nil && r.To != nil && r.CapturedAt != nil:
		fmt.Fprintf(
			s.Stdout,
			"Next: humble-rewind bring-back %s --captured-at %s --to %s --dry-run\n",
			r.Copy.Id,
			r.CapturedAt.Format(time.RFC3339Nano),
			quoted(*r.To),
		)
	case r.Copy != nil && r.To != nil:
		fmt.Fprintf(s.Stdout, "Next: humble-rewind bring-back %s --to %s --dry-run\n", r.Copy.Id, quoted(*r.To))
	default:
		fmt.Fprintf(
			s.Stdout,
			"Next: humble-rewind case open --place %s --loss %s, and then bring back with --case\n",
			quoted(a.Place),
			a.Loss,
		)
	}
}

func (p *Program) examineCommand() *cli.Command {
	return &cli.Command{
		Name: "examine", Usage: "the condition of a copy, or of what stands at a place, read now", ArgsUsage: "COPY | PLACE",
		Flags: []cli.Flag{jsonFlag()},
		Action: p.client(
			1,
			1,
			"a copy's id, such as c12, or a place",
			func(ctx context.Context, s *session, c *cli.Command, args []string) error {
				var e api.Examination
				if strings.Contains(args[0], ":") {
					at, err := typedPlace(args[0])
					if err != nil {
						return err
					}
					response, err := s.api.ExaminePlace(ctx, &api.ExaminePlaceParams{Machine: at.Machine, PathBytes: encoded(at.Path)})
					if e, err = shown[api.Examination](s, response, err); err != nil {
						return err
					}
				} else {
					response, err := s.api.ExamineCopy(ctx, args[0])
					if e, err = shown[api.Examination](s, response, err); err != nil {
						return err
					}
				}
				if s.json {
					return nil
				}
				fmt.Fprintf(s.Stdout, "%s\n%s: %s\n", quoted(e.Place), e.Condition.State, e.MediaType)
				for _, reason := range e.Condition.Reasons {
					fmt.Fprintln(s.Stdout, "  "+inert(reason))
				}
				if e.Rename != nil {
					fmt.Fprintf(s.Stdout, "It should be called %s\n", quotePath(*e.Rename))
				}
				return nil
			},
		),
	}
}

func (p *Program) originsCommand() *cli.Command {
	return &cli.Command{
		Name: "origins", Usage: "where a copy without a recorded origin likely came from", ArgsUsage: "COPY",
		Flags: []cli.Flag{jsonFlag()},
		Action: p.client(1, 1, "one copy's id, such as c12", func(ctx context.Context, s *session, c *cli.Command, args []string) error {
			response, err := s.api.FindOrigins(ctx, args[0])
			found, err := shown[api.OriginList](s, response, err)
			if err != nil {
				return err
			}
			if len(found.Origins) == 0 {
				if !s.json {
					fmt.Fprintf(s.Stdout, "Nothing known is like %s; ask the user where it belongs.\n", args[0])
				}
				return silent(ExitNothing)
			}
			if s.json {
				return nil
			}
			fmt.Fprintf(s.Stdout, "%s lies at %s. It likely came from:\n", args[0], quoted(found.Copy.LiesAt))
			for n, o := range found.Origins {
				fmt.Fprintf(s.Stdout, "%d. %s\n", n+1, quoted(o.Place))
				for _, e := range o.Evidence {
					fmt.Fprintln(s.Stdout, "     "+inert(e))
				}
			}
			fmt.Fprintf(s.Stdout, "Next: humble-rewind bring-back %s --to %s --dry-run\n", args[0], quoted(found.Origins[0].Place))
			return nil
		}),
	}
}
