package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
)

func (p *Program) catalogueCommand() *cli.Command {
	return &cli.Command{Name: "catalogue", Usage: "the service's own records", Commands: []*cli.Command{
		{Name: "check", Usage: "check all records now", Flags: []cli.Flag{jsonFlag()}, Action: p.client(0, 0, "no words", catalogueCheck)},
	}}
}

func catalogueCheck(ctx context.Context, s *session, _ *cli.Command, _ []string) error {
	response, err := s.api.CheckCatalogue(ctx)
	h, err := shown[api.CatalogueHealth](s, response, err)
	if err != nil {
		return err
	}
	if !s.json {
		if h.State == api.CatalogueHealthStateSound {
			fmt.Fprintln(s.Stdout, "All records are as they were written.")
		} else {
			fmt.Fprintf(s.Stdout, "The records are %s: %s.\n%s\n", h.State, text(h.Problem), text(h.Next))
		}
		if h.CopiedAt != nil {
			fmt.Fprintf(s.Stdout, "Receipts and cases were last copied %s.\n%s\n", s.at(h.CopiedAt), s.zoneLine())
		}
	}
	if h.State != api.CatalogueHealthStateSound {
		return silent(ExitFailed)
	}
	return nil
}
