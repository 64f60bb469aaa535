package cli

import (
	"bufio"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/typedtime"
)

func (p *Program) caseCommand() *cli.Command {
	about := append([]cli.Flag{
		&cli.StringFlag{Name: "who", Usage: "whose it is (`PERSON`)"},
		&cli.StringFlag{Name: "machine", Usage: "on which `MACHINE`, where no place is known"},
		&cli.StringFlag{Name: "place", Usage: "where it was (`PLACE`, machine:/path)"},
		&cli.StringFlag{Name: "words", Usage: "`WORDS` of its name, where no place is known"},
		&cli.StringFlag{Name: "happened", Usage: "what happened, in the user's `WORDS`"},
	}, lossFlags()...)
	return &cli.Command{
		Name: "case", Usage: "open requests for help, work on them, close them",
		Commands: []*cli.Command{
			{
				Name:   "open",
				Usage:  "open a case; without any option it asks",
				Flags:  append(about, jsonFlag()),
				Action: p.client(0, 0, "no words, only options", caseOpen),
			},
			{Name: "list", Usage: "cases, the one changed last first", ArgsUsage: "[WORDS...]", Flags: []cli.Flag{
				&cli.StringFlag{Name: "state", Usage: "only those open, waiting or done (`STATE`)"},
				&cli.IntFlag{Name: "limit", Value: 50, Usage: "how many at most"},
				&cli.StringFlag{Name: "cursor", Usage: "go on where an earlier page ended"},
				jsonFlag()}, Action: p.client(0, -1, "words", caseList)},
			{
				Name:      "show",
				Usage:     "a case: first aid, what is known, who did what",
				ArgsUsage: "CASE",
				Flags:     []cli.Flag{jsonFlag()},
				Action:    p.client(1, 1, "one case's id, such as k3", caseShow),
			},
			{
				Name:      "change",
				Usage:     "change what a case says",
				ArgsUsage: "CASE",
				Flags:     append(about, jsonFlag()),
				Action:    p.client(1, 1, "one case's id, such as k3", caseChange),
			},
			{
				Name:      "note",
				Usage:     "add a note",
				ArgsUsage: "CASE TEXT...",
				Flags:     []cli.Flag{jsonFlag()},
				Action: p.client(
					2,
					-1,
					"a case's id and a note",
					func(ctx context.Context, s *session, _ *cli.Command, args []string) error {
						note := strings.Join(args[1:], " ")
						return s.add(ctx, args[0], api.NewCaseEntry{Kind: api.CaseEntryKindNote, Text: &note})
					},
				),
			},
			entryCommand(p, "attach", "put a copy into the case", "COPY", api.CaseEntryKindCopy),
			entryCommand(p, "wrong", "say that a copy is not the one; its like is not advised again", "COPY", api.CaseEntryKindWrong),
			entryCommand(p, "right", "take that back", "COPY", api.CaseEntryKindRight),
			entryCommand(p, "tick", "say that a step of first aid was done", "STEP", api.CaseEntryKindStep),
			stateCommand(p, "wait", "the case waits for the user", api.CaseStateWaiting),
			stateCommand(p, "close", "the case is done", api.CaseStateDone),
			stateCommand(p, "reopen", "the case goes on", api.CaseStateOpen),
			{Name: "report", Usage: "what a case came to, for the user or for the file", ArgsUsage: "CASE", Flags: []cli.Flag{
				&cli.StringFlag{Name: "for", Value: "user", Usage: "the `READER`: user (one page in plain words) or file (everything)"},
				&cli.BoolFlag{
					Name:  "html",
					Usage: "as a page that prints well, instead of Markdown",
				}}, Action: p.client(1, 1, "one case's id, such as k3", caseReport)},
		},
	}
}

func entryCommand(p *Program, name, use, what string, kind api.CaseEntryKind) *cli.Command {
	return &cli.Command{Name: name, Usage: use, ArgsUsage: "CASE " + what, Flags: []cli.Flag{jsonFlag()},
		Action: p.client(
			2,
			2,
			"a case's id and a "+strings.ToLower(what),
			func(ctx context.Context, s *session, _ *cli.Command, args []string) error {
				return s.add(ctx, args[0], api.NewCaseEntry{Kind: kind, Ref: &args[1]})
			},
		)}
}

func stateCommand(p *Program, name, use string, state api.CaseState) *cli.Command {
	return &cli.Command{Name: name, Usage: use, ArgsUsage: "CASE", Flags: []cli.Flag{jsonFlag()},
		Action: p.client(1, 1, "one case's id, such as k3", func(ctx context.Context, s *session, _ *cli.Command, args []string) error {
			response, err := s.api.ChangeCase(ctx, args[0], api.CaseChanges{State: &state})
			return s.confirm(shown[api.Case](s, response, err))
		})}
}

func (s *session) add(ctx context.Context, id string, e api.NewCaseEntry) error {
	response, err := s.api.AddToCase(ctx, id, e)
	return s.confirm(shown[api.Case](s, response, err))
}

// confirm prints the last thing that was done in a case.
func (s *session) confirm(k api.Case, err error) error {
	if err != nil || s.json {
		return err
	}
	fmt.Fprintf(s.Stdout, "%s, %s: %s\n", k.Id, stateWords[k.State], entryWords(k.Entries[len(k.Entries)-1]))
	return nil
}

var stateWords = map[api.CaseState]string{
	api.CaseStateOpen:    "open",
	api.CaseStateWaiting: "waiting for the user",
	api.CaseStateDone:    "done",
}

func caseOpen(ctx context.Context, s *session, c *cli.Command, _ []string) error {
	var body api.NewCase
	var err error
	if c.NumFlags() == 0 || c.NumFlags() == 1 && s.json {
		body, err = s.askCase()
	} else {
		body, err = s.typedCase(c)
	}
	if err != nil {
		return err
	}
	response, err := s.api.OpenCase(ctx, body)
	k, err := shown[api.Case](s, response, err)
	if err != nil || s.json {
		return err
	}
	s.printCase(k)
	if err := s.firstAid(ctx, k.Id); err != nil {
		return err
	}
	fmt.Fprintf(s.Stdout, "Next: humble-rewind advise --case %s\n", k.Id)
	return nil
}

func (s *session) typedCase(c *cli.Command) (api.NewCase, error) {
	body := api.NewCase{
		Loss:     api.Loss(c.String("loss")),
		Person:   set(c.String("who")),
		Machine:  set(c.String("machine")),
		Words:    set(c.String("words")),
		Happened: set(c.String("happened")),
		Hints:    hints(c),
	}
	if !body.Loss.Valid() {
		return body, usage("say what happened with --loss deleted, overwritten, damaged, misplaced or unsaved")
	}
	var err error
	if body.Place, err = placeFlag(c); err != nil {
		return body, err
	}
	if body.GoodAt, err = s.time(c.String("good-at")); err != nil {
		return body, err
	}
	body.NoticedAt, err = s.time(c.String("noticed-at"))
	return body, err
}

// placeFlag reads --place; nil where it was not given.
func placeFlag(c *cli.Command) (*api.Destination, error) {
	if c.String("place") == "" {
		return nil, nil
	}
	at, err := typedPlace(c.String("place"))
	if err != nil {
		return nil, err
	}
	to := pathDestination(at)
	return &to, nil
}

// askCase asks for everything, one question after the other. What was understood of a time is said back.
func (s *session) askCase() (body api.NewCase, err error) {
	if s.Stdin == nil {
		return body, usage("give at least --loss and --place or --words")
	}
	in := bufio.NewScanner(s.Stdin)
	ask := func(question string) string {
		fmt.Fprint(s.Stderr, question+" ")
		if !in.Scan() {
			return ""
		}
		return strings.TrimSpace(in.Text())
	}
	when := func(question string) *time.Time {
		for {
			typed := ask(question)
			if typed == "" {
				return nil
			}
			at, err := typedtime.Parse(typed, s.Now(), s.zone)
			if err == nil {
				fmt.Fprintf(s.Stderr, "  understood as %s\n", at.In(s.zone).Format("Monday 2 January 2006, 15:04"))
				return &at
			}
			fmt.Fprintf(s.Stderr, "  %v\n", err)
		}
	}
	body.Person = set(ask("Whose is it?"))
	where := ask("Where was it (machine:/path), or what was it called?")
	if at, err := place.Parse(where); err == nil {
		to := pathDestination(at)
		body.Place = &to
	} else {
		body.Words = set(where)
		body.Machine = set(ask("On which machine? (Enter: not known)"))
	}
	for !body.Loss.Valid() {
		typed := ask("What happened: deleted, overwritten, damaged, misplaced or unsaved?")
		if typed == "" {
			return body, usage("a case needs to be told what happened")
		}
		body.Loss = api.Loss(strings.ToLower(typed))
	}
	body.Happened = set(ask("In the user's words? (Enter: nothing to add)"))
	body.GoodAt = when("When was it last right? (Enter: not known)")
	body.NoticedAt = when("When was it noticed? (Enter: now)")
	if words := ask("Words that must be in it? (Enter: none)"); words != "" {
		body.Hints = &api.Hints{Containing: &[]string{words}}
	}
	return body, nil
}

func caseChange(ctx context.Context, s *session, c *cli.Command, args []string) error {
	body := api.CaseChanges{
		Person:   set(c.String("who")),
		Words:    set(c.String("words")),
		Happened: set(c.String("happened")),
		Loss:     enum[api.Loss](c.String("loss")),
		Hints:    hints(c),
	}
	var err error
	if body.Place, err = placeFlag(c); err != nil {
		return err
	}
	if body.GoodAt, err = s.time(c.String("good-at")); err != nil {
		return err
	}
	if body.NoticedAt, err = s.time(c.String("noticed-at")); err != nil {
		return err
	}
	response, err := s.api.ChangeCase(ctx, args[0], body)
	return s.confirm(shown[api.Case](s, response, err))
}

func caseList(ctx context.Context, s *session, c *cli.Command, words []string) error {
	limit := int(c.Int("limit"))
	response, err := s.api.ListCases(
		ctx,
		&api.ListCasesParams{
			Words:  set(strings.Join(words, " ")),
			State:  enum[api.CaseState](c.String("state")),
			Limit:  &limit,
			Cursor: set(c.String("cursor")),
		},
	)
	found, err := shown[api.CaseList](s, response, err)
	if err != nil {
		return err
	}
	if len(found.Cases) == 0 {
		if !s.json {
			fmt.Fprintln(s.Stdout, "There is no such case. Open one with: humble-rewind case open")
		}
		return silent(ExitNothing)
	}
	if s.json {
		return nil
	}
	t := table{head: []string{"CASE", "STATE", "LOSS", "WHO", "CHANGED", "WHAT"}}
	for _, k := range found.Cases {
		t.add(k.Id, stateWords[k.State], string(k.Loss), dash(k.Person), s.at(&k.ChangedAt), caseWhat(k))
	}
	t.print(s.Stdout)
	if found.Next != nil {
		fmt.Fprintf(s.Stdout, "There are more: --cursor %s\n", *found.Next)
	}
	fmt.Fprintln(s.Stdout, s.zoneLine())
	return nil
}

func caseWhat(k api.Case) string {
	if k.Place != nil {
		return quoted(*k.Place)
	}
	return dash(inert(k.Words))
}

func caseShow(ctx context.Context, s *session, _ *cli.Command, args []string) error {
	response, err := s.api.GetCase(ctx, args[0])
	k, err := shown[api.Case](s, response, err)
	if err != nil || s.json {
		return err
	}
	s.printCase(k)
	if err := s.firstAid(ctx, k.Id); err != nil {
		return err
	}
	fmt.Fprintln(s.Stdout, "Who did what:")
	for _, e := range k.Entries {
		fmt.Fprintf(s.Stdout, "  %s  %s: %s\n", s.at(&e.At), e.By, entryWords(e))
	}
	fmt.Fprintln(s.Stdout, s.zoneLine())
	return nil
}

func (s *session) printCase(k api.Case) {
	fmt.Fprintf(s.Stdout, "Case %s, %s: %s %s\n", k.Id, stateWords[k.State], caseWhat(k), k.Loss)
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(s.Stdout, "  %-12s %s\n", name, inert(value))
		}
	}
	line("who", k.Person)
	line("happened", k.Happened)
	if k.GoodAt != nil {
		line("last right", s.at(k.GoodAt))
	}
	if k.NoticedAt != nil {
		line("noticed", s.at(k.NoticedAt))
	}
	if k.Hints != nil && k.Hints.Containing != nil {
		line("containing", strings.Join(*k.Hints.Containing, ", "))
	}
	line("not the one", strings.Join(k.Wrong, ", "))
	line("receipts", strings.Join(k.Receipts, ", "))
	if k.Candidates != nil {
		for _, p := range *k.Candidates {
			line("perhaps", quoted(p))
		}
	}
	fmt.Fprintln(s.Stdout)
}

func (s *session) firstAid(ctx context.Context, id string) error {
	response, err := s.api.FirstAid(ctx, id, &api.FirstAidParams{Zone: s.zoneName()})
	aid, err := answer[api.FirstAid](s, response, err)
	if err != nil {
		return err
	}
	fmt.Fprintln(s.Stdout, "First aid, to be read out:")
	for _, step := range aid.Steps {
		mark := "[ ]"
		if step.Done {
			mark = "[x]"
		}
		urgent := ""
		if step.Urgent {
			urgent = "Now: "
		}
		fmt.Fprintf(s.Stdout, "  %s %-13s %s%s\n      %-13s %s\n", mark, step.Id, urgent, step.Text, "", inert(step.Why))
	}
	if drive := s.driveSaid(aid.Drive); drive != "" {
		fmt.Fprintf(s.Stdout, "  %s\n", inert(drive))
	}
	fmt.Fprintln(s.Stdout)
	return nil
}

// driveSaid says what the first aid goes by.
func (s *session) driveSaid(d api.DriveFacts) string {
	var parts []string
	if d.Mount != nil {
		parts = append(parts, fmt.Sprintf("It is on %s, mounted at %s (%s)", text(d.Device), text(d.Mount), text(d.FileSystem)))
	}
	if d.Medium != nil {
		parts = append(
			parts,
			map[api.DriveFactsMedium]string{api.DriveFactsMediumRotating: "a rotating drive", api.DriveFactsMediumSolidState: "a " +
				"solid-state drive", api.DriveFactsMediumNetwork: "a network drive"}[*d.Medium],
		)
	}
	if d.Discard != nil {
		parts = append(
			parts,
			map[api.DriveFactsDiscard]string{api.DriveFactsDiscardAtOnce: "wiping freed blocks at once",
				api.DriveFactsDiscardPeriodic: "wiping freed blocks from time to time", api.DriveFactsDiscardNever: "not wiping freed " +
					"blocks"}[*d.Discard],
		)
	}
	if d.Free != nil {
		parts = append(parts, size(*d.Free)+" free")
	}
	if d.NewestWrite != nil {
		parts = append(parts, "last written "+s.at(d.NewestWrite))
	}
	said := strings.Join(parts, ", ")
	if said != "" {
		said += "."
	}
	return strings.TrimSpace(said + " " + strings.Join(d.Notes, " "))
}

// entryWords says what was done.
func entryWords(e api.CaseEntry) string {
	ref := text(e.Ref)
	switch e.Kind {
	case api.CaseEntryKindOpened:
		return "opened"
	case api.CaseEntryKindChanged:
		return "changed " + inert(text(e.Text))
	case api.CaseEntryKindState:
		return "set to " + stateWords[api.CaseState(ref)]
	case api.CaseEntryKindNote:
		return "note: " + inert(text(e.Text))
	case api.CaseEntryKindCopy:
		return "copy " + ref + " put in: " + inert(text(e.Text))
	case api.CaseEntryKindWrong:
		return "copy " + ref + " is not the one"
	case api.CaseEntryKindRight:
		return "copy " + ref + " may be the one after all"
	case api.CaseEntryKindStep:
		return "did " + ref
	case api.CaseEntryKindUnstep:
		return "did not do " + ref + " after all"
	case api.CaseEntryKindReceipt:
		return "brought back, receipt " + ref
	}
	return string(e.Kind)
}

func caseReport(ctx context.Context, s *session, c *cli.Command, args []string) error {
	format := api.ReportCaseParamsFormatMarkdown
	if c.Bool("html") {
		format = api.ReportCaseParamsFormatHtml
	}
	response, err := s.api.ReportCase(
		ctx,
		args[0],
		&api.ReportCaseParams{Reader: enum[api.ReportCaseParamsReader](c.String("for")), Format: &format, Zone: s.zoneName()},
	)
	body, err := s.body(response, err)
	if err == nil {
		s.print(body)
	}
	return err
}
