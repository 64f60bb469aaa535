package cli

import (
	"context"
	"fmt"

	docs "github.com/urfave/cli-docs/v3"
	"github.com/urfave/cli/v3"
)

// manualCommand prints the manual page, which is made from the commands themselves.
func (p *Program) manualCommand() *cli.Command {
	return &cli.Command{
		Name: "manual", Usage: "print the manual page (troff), for man -l - or /usr/share/man/man1",
		Action: func(_ context.Context, c *cli.Command) error {
			if _, err := arguments(c, 0, 0, "no words"); err != nil {
				return err
			}
			page, err := docs.ToManWithSection(c.Root(), 1)
			if err != nil {
				return fmt.Errorf("make the manual page: %w", err)
			}
			_, err = fmt.Fprintln(p.Stdout, page)
			return err
		},
	}
}
