package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"humble-rewind/api"
)

func (p *Program) sourceCommand() *cli.Command {
	return &cli.Command{Name: "source", Usage: "the stores that copies are read from", Commands: []*cli.Command{
		{
			Name: "add", Usage: "read copies from another store", ArgsUsage: "MACHINE KIND",
			Flags:  reading("the `LOCATION`: a path on the machine, or other-machine:/path (default of live: the homes)"),
			Action: p.client(2, 2, "a machine and a kind of source, such as trash", sourceAdd),
		},
		{
			Name:      "change",
			Usage:     "change where a store is and how it is read; what is known of it stays, or is read anew. '' takes back what was given",
			ArgsUsage: "ID",
			Flags:     reading("the `LOCATION` at which it is now: a path on the machine, or other-machine:/path"),
			Action:    p.client(1, 1, "a source's id, such as s3", sourceChange),
		},
		{
			Name:   "kinds",
			Usage:  "list the kinds of sources and their options",
			Flags:  []cli.Flag{jsonFlag()},
			Action: p.client(0, 0, "no words", sourceKinds),
		},
		{Name: "list", Usage: "list them", Flags: []cli.Flag{jsonFlag()}, Action: p.client(0, 0, "no words", sourceList)},
		{
			Name:      "suggest",
			Usage:     "look for stores on a machine that are not read yet",
			ArgsUsage: "MACHINE",
			Flags:     []cli.Flag{jsonFlag()},
			Action:    p.client(1, 1, "a machine", sourceSuggest),
		},
		{
			Name: "unlock",
			Usage: "give the password of what is encrypted in a store; it is kept in memory until the service ends, and asked for, or read as " +
				"the first line of the input",
			ArgsUsage: "ID",
			Flags:     []cli.Flag{passwordFlag(), jsonFlag()},
			Action:    p.client(1, 1, "a source's id, such as s3", sourceUnlock),
		},
		{
			Name:      "lock",
			Usage:     "forget a store's password",
			ArgsUsage: "ID",
			Action:    p.client(1, 1, "a source's id, such as s3", sourceLock),
		},
		{
			Name:      "remove",
			Usage:     "stop reading a store; no file of it is touched",
			ArgsUsage: "ID",
			Action:    p.client(1, 1, "a source's id, such as s3", sourceRemove),
		},
	}}
}

// reading are the flags that say where a store is and how it is read.
func reading(at string) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "at", Usage: at},
		&cli.StringFlag{
			Name: "named",
			Usage: "a strftime `PATTERN` that dates its points in time by the names of folders or archives, such as %Y-%m-%dT%H%M " +
				"(default: worked out)",
		},
		&cli.StringSliceFlag{
			Name:  "except",
			Usage: "leave out what this `PATTERN` matches: a name, or a whole path where it holds a slash; may be repeated",
		},
		&cli.StringFlag{Name: "zone", Usage: "the `ZONE` of its local times (default: the machine's)"},
		&cli.StringSliceFlag{Name: "maps", Usage: "`FROM=TO`: what the store calls FROM is TO on the machine; may be repeated"},
		&cli.StringSliceFlag{Name: "option", Usage: "`NAME=VALUE` of its kind, see source kinds; may be repeated"},
		&cli.IntFlag{Name: "retention", Usage: "after how many `DAYS` it is emptied; 0: never (default: the machine's)"},
		jsonFlag(),
	}
}

// optionsOf reads options of a kind; nil where none was given.
func optionsOf(c *cli.Command) (*map[string]string, error) {
	given := c.StringSlice("option")
	if len(given) == 0 {
		return nil, nil
	}
	options := map[string]string{}
	for _, option := range given {
		name, value, ok := strings.Cut(option, "=")
		if !ok {
			return nil, usage("%s is not an option: write it as NAME=VALUE", quotePath(option))
		}
		options[name] = value
	}
	return &options, nil
}

// listed is what a flag was given, one after the other; nil where it was not. Nothing ("") is none.
func listed(c *cli.Command, flag string) *[]string {
	if !c.IsSet(flag) {
		return nil
	}
	all := slices.DeleteFunc(slices.Clone(c.StringSlice(flag)), func(one string) bool { return one == "" })
	return &all
}

// given is what a flag was given, also nothing (""); nil where it was not.
func given(c *cli.Command, flag string) *string {
	if !c.IsSet(flag) {
		return nil
	}
	return new(c.String(flag))
}

func sourceChange(ctx context.Context, s *session, c *cli.Command, args []string) error {
	options, err := optionsOf(c)
	if err != nil {
		return err
	}
	changes := api.SourceChanges{At: set(c.String("at")), Named: given(c, "named"), Zone: given(c, "zone"),
		Exclusions: listed(c, "except"), Maps: listed(c, "maps"), Options: options, RetentionDays: days(c)}
	if changes == (api.SourceChanges{}) {
		return usage("nothing to change was given")
	}
	response, err := s.api.ChangeSource(ctx, args[0], changes)
	changed, err := shown[api.Source](s, response, err)
	if err != nil || s.json {
		return err
	}
	s.showSources([]api.Source{changed})
	if changed.Renew != nil {
		fmt.Fprintln(s.Stdout, "Its points in time are read anew by its next survey.")
	}
	fmt.Fprintf(s.Stdout, "Next: humble-rewind survey --source %s --wait\n", changed.Id)
	return nil
}

func sourceAdd(ctx context.Context, s *session, c *cli.Command, args []string) error {
	options, err := optionsOf(c)
	if err != nil {
		return err
	}
	body := api.NewSource{Machine: args[0], Kind: args[1], At: set(c.String("at")), Named: set(c.String("named")), Zone: set(c.String("zone")),
		Exclusions: listed(c, "except"), Maps: listed(c, "maps"), Options: options, RetentionDays: days(c)}
	response, err := s.api.AddSource(ctx, body)
	added, err := shown[api.Source](s, response, err)
	if err != nil || s.json {
		return err
	}
	s.showSources([]api.Source{added})
	fmt.Fprintf(s.Stdout, "Next: humble-rewind survey --source %s --wait\n", added.Id)
	return nil
}

func sourceKinds(ctx context.Context, s *session, c *cli.Command, args []string) error {
	response, err := s.api.ListKinds(ctx)
	all, err := shown[api.KindList](s, response, err)
	if err != nil || s.json {
		return err
	}
	t := table{head: []string{"KIND", "HOLDS"}}
	for _, k := range all.Kinds {
		t.add(k.Name, holds(k.Shape))
	}
	t.print(s.Stdout)
	for _, k := range all.Kinds {
		for _, o := range k.Options {
			fmt.Fprintf(s.Stdout, "\n%s has the option %s. %s\n", k.Name, o.Name, o.Says)
		}
	}
	return nil
}

// holds says what a shape is.
func holds(shape api.Shape) string {
	switch shape {
	case api.ShapeNow:
		return "the machine's own files as they are now"
	case api.ShapePoints:
		return "files as they were at points in time"
	case api.ShapeVersions:
		return "of each file the contents that it had"
	case api.ShapeKept:
		return "files as they are now, their versions, and what was removed"
	case api.ShapeRemovals:
		return "what was removed"
	}
	return "what may be a copy of something"
}

func sourceList(ctx context.Context, s *session, c *cli.Command, args []string) error {
	response, err := s.api.ListSources(ctx)
	all, err := shown[api.SourceList](s, response, err)
	if err != nil {
		return err
	}
	if len(all.Sources) == 0 {
		if !s.json {
			fmt.Fprintln(s.Stdout, "No source is read yet. Next: humble-rewind source suggest MACHINE")
		}
		return silent(ExitNothing)
	}
	if !s.json {
		s.showSources(all.Sources)
	}
	return nil
}

func (s *session) showSources(sources []api.Source) {
	t := table{head: []string{"SOURCE", "MACHINE", "KIND", "COPIES", "KEEPS", "SURVEYED", "AT"}, right: map[int]bool{3: true}}
	var remarks []string
	for _, src := range sources {
		keeps := fmt.Sprintf("%d days", src.RetentionDays)
		if src.RetentionDays == 0 {
			keeps = "all"
		}
		at := quotePath(src.At)
		if src.AtMachine != src.Machine {
			at = src.AtMachine + ":" + at
		}
		if src.Drive != nil {
			at += " (drive " + *src.Drive + ")"
		}
		t.add(src.Id, src.Machine, src.Kind, fmt.Sprint(src.Copies), keeps, s.at(src.SurveyedAt), at)
		if src.Trouble != nil {
			remarks = append(remarks, fmt.Sprintf("%s could not be read at the last survey: %s", src.Id, *src.Trouble))
		}
		if src.Notes != nil {
			for _, note := range *src.Notes {
				remarks = append(remarks, src.Id+": "+note)
			}
		}
	}
	t.print(s.Stdout)
	for _, remark := range remarks {
		fmt.Fprintln(s.Stdout, "  "+remark)
	}
}

func sourceSuggest(ctx context.Context, s *session, c *cli.Command, args []string) error {
	response, err := s.api.SuggestSources(ctx, args[0])
	found, err := shown[api.SuggestionList](s, response, err)
	if err != nil {
		return err
	}
	if len(found.Suggestions) == 0 {
		if !s.json {
			fmt.Fprintf(s.Stdout, "Nothing was found on %s that is not read already.\n", args[0])
		}
		return silent(ExitNothing)
	}
	if s.json {
		return nil
	}
	for _, f := range found.Suggestions {
		fmt.Fprintf(s.Stdout, "humble-rewind source add %s %s --at %s   # %s\n", f.Machine, f.Kind, quotePath(f.At), f.Why)
	}
	return nil
}

func sourceRemove(ctx context.Context, s *session, c *cli.Command, args []string) error {
	response, err := s.api.RemoveSource(ctx, args[0])
	if _, err := answer[struct{}](s, response, err); err != nil {
		return err
	}
	fmt.Fprintf(s.Stdout, "%s is no longer read; none of its files was touched.\n", args[0])
	return nil
}

func sourceUnlock(ctx context.Context, s *session, c *cli.Command, args []string) error {
	password, err := s.passwordFrom(c.String(passwordFile), "Password of "+args[0]+": ")
	if err != nil {
		return err
	}
	response, err := s.api.UnlockSource(ctx, args[0], api.Password{Password: password})
	u, err := shown[api.Unlocked](s, response, err)
	if err != nil || s.json {
		return err
	}
	fmt.Fprintf(s.Stdout, "It opens %d of %d that were locked in %s, until the service ends.\n", u.Opened, u.Opened+u.Locked, args[0])
	if u.Locked > 0 {
		fmt.Fprintln(s.Stdout, "The others need another password: unlock the source with that when they are wanted.")
	}
	fmt.Fprintf(s.Stdout, "Next: humble-rewind survey --source %s --read-all, which reads what was encrypted for its digests.\n", args[0])
	return nil
}

func sourceLock(ctx context.Context, s *session, _ *cli.Command, args []string) error {
	response, err := s.api.LockSource(ctx, args[0])
	if _, err := answer[struct{}](s, response, err); err != nil {
		return err
	}
	fmt.Fprintf(s.Stdout, "The password of %s is forgotten.\n", args[0])
	return nil
}

const passwordFile = "password-file"

// passwordFlag names where a password is read from.
func passwordFlag() cli.Flag {
	return &cli.StringFlag{Name: passwordFile, Usage: "a `FILE` that holds the password in its first line; - is standard input"}
}

// passwordFrom reads a password from a file, or asks for it where none is named.
func (s *session) passwordFrom(file, prompt string) (string, error) {
	if file == "" {
		return s.password(prompt)
	}
	var from io.Reader = s.Stdin
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return "", fmt.Errorf("read the password: %w", err)
		}
		defer f.Close()
		from = f
	}
	const most = 4096
	line, err := bufio.NewReader(io.LimitReader(from, most)).ReadString('\n')
	if line = strings.TrimRight(line, "\r\n"); line == "" {
		return "", fmt.Errorf("read the password from %s: there is none in its first line", quotePath(file))
	}
	if err != nil && err != io.EOF {
		return "", fmt.Errorf("read the password: %w", err)
	}
	return line, nil
}

// password asks for a password where somebody types, without showing it; else it is the first line of the input.
func (s *session) password(prompt string) (string, error) {
	if f, ok := s.Stdin.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(s.Stderr, prompt)
		typed, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(s.Stderr)
		return string(typed), err
	}
	line, err := bufio.NewReader(io.LimitReader(s.Stdin, 4096)).ReadString('\n')
	if line = strings.TrimRight(line, "\r\n"); line == "" {
		return "", usage("no password was given: %w", cmp.Or(err, io.EOF))
	}
	return line, nil
}
