package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
)

func (p *Program) machineCommand() *cli.Command {
	return &cli.Command{Name: "machine", Usage: "the machines that are looked after", Commands: []*cli.Command{
		{
			Name: "add", Usage: "look after another machine", ArgsUsage: "NAME",
			Flags: []cli.Flag{
				&cli.StringFlag{
					Name:     "at",
					Required: true,
					Usage: "the `DIR` that holds what the machine's / looks like, or a cloud drive's address: davs://USER@HOST/PATH, " +
						"with ?certificate=sha256:… where no authority vouches for it",
				},
				passwordFlag(),
				&cli.StringFlag{Name: "zone", Usage: "its time `ZONE` (default: from its own files)"},
				&cli.StringFlag{Name: "homes", Usage: "the `PATTERN` of its home folders (default: /home/*)"},
				&cli.DurationFlag{
					Name:  "clock-ahead",
					Usage: "by how much its clock is ahead, such as 58m or 24h; -5m where it is behind (`TIME`)",
				},
				&cli.IntFlag{Name: "retention", Value: 30, Usage: "after how many `DAYS` its trashes are emptied; 0: never"},
				&cli.BoolFlag{Name: "with-suggested", Usage: "also add the sources found on it"},
				jsonFlag(),
			},
			Action: p.client(1, 1, "the machine's name", machineAdd),
		},
		{Name: "list", Usage: "list them", Flags: []cli.Flag{jsonFlag()}, Action: p.client(0, 0, "no words", machineList)},
		{
			Name:      "show",
			Usage:     "one machine with its people and sources",
			ArgsUsage: "NAME",
			Flags:     []cli.Flag{jsonFlag()},
			Action:    p.client(1, 1, "the machine's name", machineShow),
		},
		{
			Name: "change", Usage: "change how a machine is reached; what is known of it stays", ArgsUsage: "NAME",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "at", Usage: "the `DIR` or address at which it is now; it has to be the same machine"},
				passwordFlag(),
				&cli.IntFlag{Name: "retention", Usage: "after how many `DAYS` its trashes are emptied; 0: never"},
				jsonFlag(),
			},
			Action: p.client(1, 1, "the machine's name", machineChange),
		},
		{
			Name: "try", Usage: "try to reach what is at an address, step by step; nothing is kept", ArgsUsage: "ADDRESS",
			Flags:  []cli.Flag{passwordFlag(), jsonFlag()},
			Action: p.client(1, 1, "a directory, or an address such as davs://USER@HOST/PATH", machineTry),
		},
		{
			Name: "stop", Usage: "leave a machine alone until it is taken up again: nothing reaches it", ArgsUsage: "NAME",
			Action: p.client(1, 1, "the machine's name", machineStopped(true)),
		},
		{
			Name: "start", Usage: "take a machine up again that was stopped", ArgsUsage: "NAME",
			Action: p.client(1, 1, "the machine's name", machineStopped(false)),
		},
		{
			Name:      "unlock",
			Usage:     "give the password of a cloud drive again, after the service was restarted",
			ArgsUsage: "NAME",
			Flags:     []cli.Flag{passwordFlag()},
			Action:    p.client(1, 1, "the machine's name", machineUnlock),
		},
		{
			Name:      "forget",
			Usage:     "stop looking after a machine; no file of it is touched",
			ArgsUsage: "NAME",
			Action:    p.client(1, 1, "the machine's name", machineForget),
		},
	}}
}

// whereAndHow reads at what address a machine is, and with which password it is reached; nil where that was not said.
func (s *session) whereAndHow(c *cli.Command) (at, password *string, err error) {
	if at = set(c.String("at")); at != nil && !strings.Contains(*at, "://") {
		absolute, err := filepath.Abs(*at)
		if err != nil {
			return nil, nil, err
		}
		at = &absolute
	}
	if file := c.String(passwordFile); file != "" {
		given, err := s.passwordFrom(file, "Password: ")
		if err != nil {
			return nil, nil, err
		}
		password = &given
	}
	return at, password, nil
}

func machineChange(ctx context.Context, s *session, c *cli.Command, args []string) error {
	at, password, err := s.whereAndHow(c)
	if err != nil {
		return err
	}
	changes := api.MachineChanges{At: at, Password: password, RetentionDays: days(c)}
	if changes == (api.MachineChanges{}) {
		return usage("nothing to change was given")
	}
	response, err := s.api.ChangeMachine(ctx, args[0], changes)
	m, err := shown[api.Machine](s, response, err)
	if err != nil || s.json {
		return err
	}
	s.showMachine(m)
	fmt.Fprintf(s.Stdout, "Next: humble-rewind survey %s --wait\n", m.Name)
	return nil
}

// days is for how long something is kept; nil where that was not said.
func days(c *cli.Command) *int {
	if !c.IsSet("retention") {
		return nil
	}
	return new(int(c.Int("retention")))
}

func machineAdd(ctx context.Context, s *session, c *cli.Command, args []string) error {
	at, password, err := s.whereAndHow(c)
	if err != nil {
		return err
	}
	days, suggested, ahead := int(c.Int("retention")), c.Bool("with-suggested"), int64(c.Duration("clock-ahead").Seconds())
	response, err := s.api.AddMachine(
		ctx,
		api.NewMachine{
			Name:              args[0],
			At:                text(at),
			Password:          password,
			Zone:              set(c.String("zone")),
			Homes:             set(c.String("homes")),
			RetentionDays:     &days,
			ClockAheadSeconds: &ahead,
			WithSuggested:     &suggested,
		},
	)
	m, err := shown[api.Machine](s, response, err)
	if err != nil || s.json {
		return err
	}
	s.showMachine(m)
	if len(m.Sources) == 0 {
		fmt.Fprintf(s.Stdout, "Next: humble-rewind source suggest %s\n", m.Name)
	} else {
		fmt.Fprintf(s.Stdout, "Next: humble-rewind survey %s --wait\n", m.Name)
	}
	return nil
}

func machineTry(ctx context.Context, s *session, c *cli.Command, args []string) error {
	at := args[0]
	if !strings.Contains(at, "://") {
		absolute, err := filepath.Abs(at)
		if err != nil {
			return err
		}
		at = absolute
	}
	trial := api.NewMachineTrial{At: at}
	if file := c.String(passwordFile); file != "" {
		given, err := s.passwordFrom(file, "Password: ")
		if err != nil {
			return err
		}
		trial.Password = &given
	}
	response, err := s.api.TryMachine(ctx, trial)
	t, err := shown[api.MachineTrial](s, response, err)
	if err != nil {
		return err
	}
	for _, step := range t.Steps {
		if s.json {
			break
		}
		came := "yes"
		if step.Error != nil {
			came = *step.Error
		}
		fmt.Fprintf(s.Stdout, "%s: %s\n", step.Doing, came)
		if step.Shown != nil {
			fmt.Fprintf(s.Stdout, "  %s\n", *step.Shown)
		}
	}
	if !t.Reached {
		return silent(1)
	}
	if !s.json {
		fmt.Fprintf(s.Stdout, "It was reached. Next: humble-rewind machine add NAME --at %s\n", quotePath(args[0]))
	}
	return nil
}

func machineStopped(stopped bool) func(context.Context, *session, *cli.Command, []string) error {
	return func(ctx context.Context, s *session, _ *cli.Command, args []string) error {
		response, err := s.api.ChangeMachine(ctx, args[0], api.MachineChanges{Stopped: &stopped})
		if _, err := answer[api.Machine](s, response, err); err != nil {
			return err
		}
		if stopped {
			fmt.Fprintf(s.Stdout, "%s is left alone; what is known of it stays. Next: humble-rewind machine start %s\n", args[0], args[0])
		} else {
			fmt.Fprintf(s.Stdout, "%s is taken up again. Next: humble-rewind survey %s --wait\n", args[0], args[0])
		}
		return nil
	}
}

func machineUnlock(ctx context.Context, s *session, c *cli.Command, args []string) error {
	password, err := s.passwordFrom(c.String(passwordFile), "Password of "+args[0]+": ")
	if err != nil {
		return err
	}
	response, err := s.api.UnlockMachine(ctx, args[0], api.Password{Password: password})
	if _, err := answer[struct{}](s, response, err); err != nil {
		return err
	}
	fmt.Fprintf(s.Stdout, "It opens %s, until the service ends.\nNext: humble-rewind survey %s --wait\n", args[0], args[0])
	return nil
}

func machineList(ctx context.Context, s *session, c *cli.Command, args []string) error {
	response, err := s.api.ListMachines(ctx)
	all, err := shown[api.MachineList](s, response, err)
	if err != nil {
		return err
	}
	if len(all.Machines) == 0 {
		if !s.json {
			fmt.Fprintln(s.Stdout, "No machine is looked after yet. Next: humble-rewind machine add NAME --at DIR")
		}
		return silent(ExitNothing)
	}
	if s.json {
		return nil
	}
	t := table{head: []string{"MACHINE", "ZONE", "PEOPLE", "SOURCES", "AT", "STATE"}}
	for _, m := range all.Machines {
		names := make([]string, len(m.People))
		for i, person := range m.People {
			names[i] = person.Name
		}
		t.add(m.Name, m.Zone, dash(strings.Join(names, ", ")), fmt.Sprint(len(m.Sources)), quotePath(m.At), sessionState(m.Session))
	}
	t.print(s.Stdout)
	return nil
}

func machineShow(ctx context.Context, s *session, c *cli.Command, args []string) error {
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
	if m.ClockAheadSeconds != nil {
		retention += fmt.Sprintf("; its clock is %s ahead", time.Duration(*m.ClockAheadSeconds)*time.Second)
	}
	fmt.Fprintf(s.Stdout, "%s, at %s, in %s; %s\n", m.Name, quotePath(m.At), m.Zone, retention)
	if m.Session != nil && m.Session.State != api.MachineSessionStateUnasked {
		why := ""
		if m.Session.Why != nil {
			why = ": " + *m.Session.Why
		}
		fmt.Fprintf(s.Stdout, "  %s%s\n", sessionState(m.Session), why)
	}
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

// sessionState says how a machine is reached now.
func sessionState(session *api.MachineSession) string {
	if session == nil || session.State == api.MachineSessionStateUnasked {
		return "-"
	}
	return string(session.State)
}

func machineForget(ctx context.Context, s *session, c *cli.Command, args []string) error {
	response, err := s.api.ForgetMachine(ctx, args[0])
	if _, err := answer[struct{}](s, response, err); err != nil {
		return err
	}
	fmt.Fprintf(s.Stdout, "%s is no longer looked after; none of its files was touched.\n", args[0])
	return nil
}
