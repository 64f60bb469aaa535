// Package cli is the command line: the technician's client of the service, and the commands that start one. It reaches
// files and records through the service's API alone.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/urfave/cli/v3"

	"humble-rewind/internal/core/place"
)

// The exit statuses.
const (
	ExitDone    = 0
	ExitFailed  = 1
	ExitUsage   = 2
	ExitNothing = 3 // nothing found
	ExitPart    = 4 // done in part
)

// Program is what the command line is put together from.
type Program struct {
	Stdin          io.Reader
	Stdout, Stderr io.Writer
	Env            func(string) string
	Now            func() time.Time
	Version        string
	// Serve runs the service until ctx is done; it calls ready with the console's address.
	Serve func(ctx context.Context, options Serving, ready func(url string)) error
	// Demo builds the sample world in dir, where it is not there yet or a fresh one is wanted, and serves it.
	Demo func(ctx context.Context, listen, dir string, fresh bool, say func(string)) error
	// Drive is the cloud drive that stands in for outside ones.
	Drive Drive
}

// statusError carries the exit status of an error.
type statusError struct {
	status int
	err    error // nil: all has been said
	leads  bool  // it says what to do next
}

func (e *statusError) Error() string {
	if e.err == nil {
		return fmt.Sprintf("exit status %d", e.status)
	}
	return e.err.Error()
}

func (e *statusError) Unwrap() error { return e.err }

func usage(format string, args ...any) error {
	return &statusError{status: ExitUsage, err: fmt.Errorf(format, args...)}
}

// silent is an exit status about which everything has been said.
func silent(status int) error { return &statusError{status: status} }

// Run runs the command line and returns the exit status.
func (p *Program) Run(ctx context.Context, args []string) int {
	err := p.command().Run(ctx, args)
	if err == nil {
		return ExitDone
	}
	var status *statusError
	if !errors.As(err, &status) {
		status = &statusError{status: ExitFailed, err: err}
	}
	if status.err != nil {
		fmt.Fprintln(p.Stderr, p.lead(args)+status.err.Error())
		if status.status == ExitUsage && !status.leads {
			fmt.Fprintln(p.Stderr, "Next: humble-rewind help, or the command with --help, says how it is used.")
		}
	}
	return status.status
}

// lead is what an error begins with: the program, and the command that was asked for.
func (p *Program) lead(args []string) string {
	lead := program
	c := p.command()
	for _, word := range args[min(1, len(args)):] {
		sub := c.Command(word)
		if sub == nil {
			if strings.HasPrefix(word, "-") {
				continue
			}
			break
		}
		c = sub
		lead += " " + sub.Name
	}
	return lead + ": "
}

// program is what the program is called.
const program = "humble-rewind"

func (p *Program) command() *cli.Command {
	root := &cli.Command{
		Name:                  program,
		Usage:                 "get people's files back",
		Version:               p.Version,
		Writer:                p.Stdout,
		ErrWriter:             p.Stderr,
		EnableShellCompletion: true,
		Suggest:               false,
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:        "url",
				Usage:       "the service's address (HUMBLE_REWIND_URL)",
				Value:       firstNonEmpty(p.Env("HUMBLE_REWIND_URL"), "http://127.0.0.1:8717"),
				HideDefault: true,
			},
			&cli.StringFlag{Name: "token-file", Usage: "a `FILE` that holds the technician's token (or set HUMBLE_REWIND_TOKEN)"},
			&cli.StringFlag{Name: "zone", Usage: "the time `ZONE` in which times are read and shown (default: local)"},
		},
		Commands: []*cli.Command{
			p.serveCommand(), p.demoCommand(), p.machineCommand(), p.sourceCommand(), p.surveyCommand(), p.findCommand(),
			p.trailCommand(), p.folderCommand(),
			p.peekCommand(), p.examineCommand(), p.compareCommand(), p.adviseCommand(), p.originsCommand(), p.bringBackCommand(),
			p.caseCommand(), p.jobCommand(), p.personCommand(),
			p.expiringCommand(), p.receiptCommand(), p.catalogueCommand(), p.driveCommand(), p.manualCommand(),
		},
		CommandNotFound: nil,
	}
	p.harden(root)
	return root
}

// harden sets on every command what is not inherited: usage errors as ours, list flags that do not split at commas
// (which names may hold), no exiting from inside, and an error for words that are no command.
func (p *Program) harden(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, cmd *cli.Command, err error, _ bool) error { return wrongOption(cmd, err) }
	c.ExitErrHandler = func(context.Context, *cli.Command, error) {}
	c.DisableSliceFlagSeparator = true
	if len(c.Commands) > 0 && c.Action == nil {
		c.Action = func(_ context.Context, cmd *cli.Command) error {
			if word := cmd.Args().First(); word != "" {
				return usage("there is no command %s%s", place.Quote(word), meant(word, commandNames(cmd)))
			}
			_ = cli.ShowSubcommandHelp(cmd)
			return silent(ExitUsage)
		}
	}
	for _, sub := range c.Commands {
		p.harden(sub)
	}
}

// wrongOption words an error about an option, and names the one that was likely meant.
func wrongOption(c *cli.Command, err error) error {
	name, ok := strings.CutPrefix(err.Error(), "flag provided but not defined: ")
	if !ok {
		return usage("%w", err)
	}
	name = strings.TrimLeft(name, "-")
	var known []string
	for _, of := range []*cli.Command{c, c.Root()} {
		for _, f := range of.Flags {
			for _, n := range f.Names() {
				known = append(known, "--"+n)
			}
		}
	}
	return usage("there is no option --%s%s", name, meant("--"+name, known))
}

func commandNames(c *cli.Command) (all []string) {
	for _, sub := range c.VisibleCommands() {
		all = append(all, sub.Name)
	}
	return all
}

// meant names the word that was likely meant, for the end of a sentence: one that begins so, or is written nearly so; "" where none is.
func meant(word string, known []string) string {
	const far = 3 // letters changed, of which a word must have more
	best, nearest := "", far
	for _, k := range known {
		n := levenshtein.ComputeDistance(word, k)
		if len(strings.TrimLeft(word, "-")) >= 2 && strings.HasPrefix(k, word) {
			n = 1
		}
		if n < nearest && n < len(strings.TrimLeft(k, "-")) {
			best, nearest = k, n
		}
	}
	if best == "" {
		return ""
	}
	return "; did you mean " + best + "?"
}

func firstNonEmpty(values ...string) string {
	for _, v := range values {
		if v != "" {
			return v
		}
	}
	return ""
}

// arguments checks how many words a command was given; most < 0 is any number.
func arguments(c *cli.Command, least, most int, what string) ([]string, error) {
	args := c.Args().Slice()
	if len(args) < least || most >= 0 && len(args) > most {
		given := "and nothing was given"
		if len(args) > 0 {
			given = fmt.Sprintf("and was given %s", strings.Join(quotedAll(args), " "))
		}
		return nil, usage("it takes %s, %s", what, given)
	}
	return args, nil
}

func quotedAll(words []string) []string {
	all := make([]string, len(words))
	for i, w := range words {
		all[i] = place.Quote(w)
	}
	return all
}

func jsonFlag() cli.Flag {
	return &cli.BoolFlag{Name: "json", Usage: "print exactly what the API answers"}
}
