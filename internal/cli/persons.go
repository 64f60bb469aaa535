package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
)

func (p *Program) personCommand() *cli.Command {
	const accounts = "accounts, such as ines@front-office"
	return &cli.Command{Name: "person", Usage: "who has which accounts on which machines", Commands: []*cli.Command{
		{
			Name: "list", Usage: "list them, and which accounts may be one person's", Flags: []cli.Flag{jsonFlag()},
			Action: p.client(0, 0, "no words", personList),
		},
		{
			Name: "join", Usage: "say that accounts are one person's: of whom the first is", ArgsUsage: "NAME@MACHINE NAME@MACHINE …",
			Flags:  []cli.Flag{jsonFlag()},
			Action: p.client(2, 100, "two or more "+accounts, personJoin),
		},
		{
			Name: "part", Usage: "say that two accounts are two persons', or that one is not its person's", ArgsUsage: "NAME@MACHINE [NAME@MACHINE]",
			Action: p.client(1, 2, "one or two "+accounts, personPart),
		},
	}}
}

func personList(ctx context.Context, s *session, _ *cli.Command, _ []string) error {
	response, err := s.api.ListPersons(ctx)
	all, err := shown[api.PersonList](s, response, err)
	if err != nil {
		return err
	}
	if len(all.Persons) == 0 {
		if !s.json {
			fmt.Fprintln(s.Stdout, "Nobody has a home on a machine that is looked after.")
		}
		return silent(ExitNothing)
	}
	if s.json {
		return nil
	}
	t := table{head: []string{"PERSON", "ACCOUNT", "HOME", "NAME"}}
	for _, p := range all.Persons {
		id := p.Id
		for _, a := range p.Accounts {
			t.add(id, accountText(a), quotePath(*a.Home), text(a.FullName))
			id = ""
		}
	}
	t.print(s.Stdout)
	for _, q := range all.Questions {
		fmt.Fprintf(s.Stdout, "\nAre %s and %s one person? %s\n  Yes: humble-rewind person join %[1]s %[2]s\n  No:  humble-rewind person part %[1]s %[2]s\n",
			accountText(q.One), accountText(q.Other), whyAsked(q))
	}
	return nil
}

// whyAsked says why it is asked whether two accounts are one person's.
func whyAsked(q api.PersonQuestion) string {
	why := make([]string, len(q.Why))
	for i, w := range q.Why {
		why[i] = w.Text
	}
	return strings.Join(why, " ")
}

func accountText(a api.Account) string { return a.Name + "@" + a.Machine }

// accountsOf reads accounts as they are typed.
func accountsOf(args []string) (api.Accounts, error) {
	var all api.Accounts
	for _, arg := range args {
		at := strings.LastIndex(arg, "@")
		if at <= 0 || at == len(arg)-1 {
			return all, usage("%s is not an account; write it as NAME@MACHINE", quotePath(arg))
		}
		all.Accounts = append(all.Accounts, api.Account{Name: arg[:at], Machine: arg[at+1:]})
	}
	return all, nil
}

func personJoin(ctx context.Context, s *session, _ *cli.Command, args []string) error {
	accounts, err := accountsOf(args)
	if err != nil {
		return err
	}
	response, err := s.api.JoinPersons(ctx, accounts)
	p, err := shown[api.KnownPerson](s, response, err)
	if err != nil || s.json {
		return err
	}
	var all []string
	for _, a := range p.Accounts {
		all = append(all, accountText(a))
	}
	fmt.Fprintf(s.Stdout, "%s are one person's now: %s.\n", strings.Join(all, " and "), p.Id)
	return nil
}

func personPart(ctx context.Context, s *session, _ *cli.Command, args []string) error {
	accounts, err := accountsOf(args)
	if err != nil {
		return err
	}
	response, err := s.api.PartPersons(ctx, accounts)
	if _, err := answer[struct{}](s, response, err); err != nil {
		return err
	}
	if len(args) == 1 {
		fmt.Fprintf(s.Stdout, "%s is somebody of its own now.\n", args[0])
	} else {
		fmt.Fprintf(s.Stdout, "%s are two persons; it is not asked again.\n", strings.Join(args, " and "))
	}
	return nil
}
