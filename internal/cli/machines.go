package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
)

func (p *Program) machineCommand() *cli.Command {
	return &cli.Command{Name: "machine", Usage: "the machines that are looked after", Commands: []*cli.Command{
		{
			Name: "add", Usage: "look after another machine", ArgsUsage: "NAME",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "at", Required: true, Usage: "the `DIR` that holds what the machine's / looks like"},
				&cli.StringFlag{Name: "zone", Usage: "its time `ZONE` (default: from its own files)"},
				&cli.StringFlag{Name: "homes", Usage: "the `PATTERN` of its home folders (default: /home/*)"},
				&cli.IntFlag{Name: "retention", Value: 30, Usage: "after how many `DAYS` its trashes are emptied; 0: never"},
				&cli.BoolFlag{Name: "with-suggested", Usage: "also add the sources found on it"},
				jsonFlag(),
			},
			Action: p.machineAdd,
		},
		{Name: "list", Usage: "list them", Flags: []cli.Flag{jsonFlag()}, Action: p.machineList},
		{Name: "show", Usage: "one machine with its people and sources", ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag()}, Action: p.machineShow},
		{Name: "forget", Usage: "stop looking after a machine; no file of it is touched", ArgsUsage: "NAME", Action: p.machineForget},
	}}
}

func (p *Program) machineAdd(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, 1, 1, "the machine's name")
	if err != nil {
		return err
	}
	s, err := p.session(c.Root())
	if err != nil {
		return err
	}
	s.json = c.Bool("json")
	at := c.String("at")
	if !strings.Contains(at, "://") {
		if at, err = filepath.Abs(at); err != nil {
			return err
		}
	}
	days, suggested := int(c.Int("retention")), c.Bool("with-suggested")
	response, err := s.api.AddMachine(ctx, api.NewMachine{Name: args[0], At: at, Zone: set(c.String("zone")), Homes: set(c.String("homes")), RetentionDays: &days, WithSuggested: &suggested})
	m, err := shown[api.Machine](s, response, err)
	if err != nil || s.json {
		return err
	}
	s.showMachine(m)
	if len(m.Sources) == 0 {
		fmt.Fprintf(p.Stdout, "Next: humble-rewind source suggest %s\n", m.Name)
	} else {
		fmt.Fprintf(p.Stdout, "Next: humble-rewind survey %s --wait\n", m.Name)
	}
	return nil
}

func (p *Program) machineList(ctx context.Context, c *cli.Command) error {
	s, err := p.session(c)
	if err != nil {
		return err
	}
	response, err := s.api.ListMachines(ctx)
	all, err := shown[api.MachineList](s, response, err)
	if err != nil {
		return err
	}
	if len(all.Machines) == 0 {
		if !s.json {
			fmt.Fprintln(p.Stdout, "No machine is looked after yet. Next: humble-rewind machine add NAME --at DIR")
		}
		return silent(ExitNothing)
	}
	if s.json {
		return nil
	}
	t := table{head: []string{"MACHINE", "ZONE", "PEOPLE", "SOURCES", "AT"}}
	for _, m := range all.Machines {
		names := make([]string, len(m.People))
		for i, person := range m.People {
			names[i] = person.Name
		}
		t.add(m.Name, m.Zone, dash(strings.Join(names, ", ")), fmt.Sprint(len(m.Sources)), quotePath(m.At))
	}
	t.print(p.Stdout)
	return nil
}

func (p *Program) machineShow(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, 1, 1, "the machine's name")
	if err != nil {
		return err
	}
	s, err := p.session(c)
	if err != nil {
		return err
	}
	response, err := s.api.GetMachine(ctx, args[0])
	m, err := shown[api.Machine](s, response, err)
	if err == nil && !s.json {
		s.showMachine(m)
	}
	return err
}

func (s *session) showMachine(m api.Machine) {
	retention := "its trashes keep everything"
	if m.RetentionDays > 0 {
		retention = fmt.Sprintf("its trashes keep things for %d days", m.RetentionDays)
	}
	fmt.Fprintf(s.Stdout, "%s, at %s, in %s; %s\n", m.Name, quotePath(m.At), m.Zone, retention)
	for _, note := range m.Notes {
		fmt.Fprintf(s.Stdout, "  note: %s\n", note)
	}
	if len(m.People) > 0 {
		t := table{head: []string{"PERSON", "UID", "HOME", "NAME"}}
		for _, person := range m.People {
			t.add(person.Name, fmt.Sprint(person.Uid), quotePath(person.Home), text(person.FullName))
		}
		t.print(s.Stdout)
	}
	if len(m.Sources) > 0 {
		s.showSources(m.Sources)
	}
}

func (p *Program) machineForget(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, 1, 1, "the machine's name")
	if err != nil {
		return err
	}
	s, err := p.session(c)
	if err != nil {
		return err
	}
	response, err := s.api.ForgetMachine(ctx, args[0])
	if _, err := answer[struct{}](s, response, err); err != nil {
		return err
	}
	fmt.Fprintf(p.Stdout, "%s is no longer looked after; none of its files was touched.\n", args[0])
	return nil
}

func (p *Program) sourceCommand() *cli.Command {
	return &cli.Command{Name: "source", Usage: "the stores that copies are read from", Commands: []*cli.Command{
		{
			Name: "add", Usage: "read copies from another store", ArgsUsage: "MACHINE KIND",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "at", Required: true, Usage: "the `LOCATION`: a path on the machine, or other-machine:/path"},
				&cli.StringFlag{Name: "zone", Usage: "the `ZONE` of its local times (default: the machine's)"},
				&cli.StringSliceFlag{Name: "maps", Usage: "`FROM=TO`: what the store calls FROM is TO on the machine; may be repeated"},
				&cli.IntFlag{Name: "retention", Usage: "after how many `DAYS` it is emptied; 0: never (default: the machine's)"},
				jsonFlag(),
			},
			Action: p.sourceAdd,
		},
		{Name: "list", Usage: "list them", Flags: []cli.Flag{jsonFlag()}, Action: p.sourceList},
		{Name: "suggest", Usage: "look for stores on a machine that are not read yet", ArgsUsage: "MACHINE", Flags: []cli.Flag{jsonFlag()}, Action: p.sourceSuggest},
		{Name: "remove", Usage: "stop reading a store; no file of it is touched", ArgsUsage: "ID", Action: p.sourceRemove},
	}}
}

func (p *Program) sourceAdd(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, 2, 2, "a machine and a kind of source, such as trash")
	if err != nil {
		return err
	}
	s, err := p.session(c.Root())
	if err != nil {
		return err
	}
	s.json = c.Bool("json")
	body := api.NewSource{Machine: args[0], Kind: args[1], At: c.String("at"), Zone: set(c.String("zone"))}
	if maps := c.StringSlice("maps"); len(maps) > 0 {
		body.Maps = &maps
	}
	if c.IsSet("retention") {
		days := int(c.Int("retention"))
		body.RetentionDays = &days
	}
	response, err := s.api.AddSource(ctx, body)
	added, err := shown[api.Source](s, response, err)
	if err != nil || s.json {
		return err
	}
	s.showSources([]api.Source{added})
	fmt.Fprintf(p.Stdout, "Next: humble-rewind survey --source %s --wait\n", added.Id)
	return nil
}

func (p *Program) sourceList(ctx context.Context, c *cli.Command) error {
	s, err := p.session(c)
	if err != nil {
		return err
	}
	response, err := s.api.ListSources(ctx)
	all, err := shown[api.SourceList](s, response, err)
	if err != nil {
		return err
	}
	if len(all.Sources) == 0 {
		if !s.json {
			fmt.Fprintln(p.Stdout, "No source is read yet. Next: humble-rewind source suggest MACHINE")
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

func (p *Program) sourceSuggest(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, 1, 1, "a machine")
	if err != nil {
		return err
	}
	s, err := p.session(c)
	if err != nil {
		return err
	}
	response, err := s.api.SuggestSources(ctx, args[0])
	found, err := shown[api.SuggestionList](s, response, err)
	if err != nil {
		return err
	}
	if len(found.Suggestions) == 0 {
		if !s.json {
			fmt.Fprintf(p.Stdout, "Nothing was found on %s that is not read already.\n", args[0])
		}
		return silent(ExitNothing)
	}
	if s.json {
		return nil
	}
	for _, f := range found.Suggestions {
		fmt.Fprintf(p.Stdout, "humble-rewind source add %s %s --at %s   # %s\n", f.Machine, f.Kind, quotePath(f.At), f.Why)
	}
	return nil
}

func (p *Program) sourceRemove(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, 1, 1, "a source's id, such as s3")
	if err != nil {
		return err
	}
	s, err := p.session(c)
	if err != nil {
		return err
	}
	response, err := s.api.RemoveSource(ctx, args[0])
	if _, err := answer[struct{}](s, response, err); err != nil {
		return err
	}
	fmt.Fprintf(p.Stdout, "%s is no longer read; none of its files was touched.\n", args[0])
	return nil
}
