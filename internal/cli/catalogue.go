package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
)

func (p *Program) catalogueCommand() *cli.Command {
	return &cli.Command{Name: "catalogue", Usage: "the service's own records", Commands: []*cli.Command{
		{Name: "check", Usage: "check all records now", Flags: []cli.Flag{jsonFlag()}, Action: p.client(0, 0, "no words", catalogueCheck)},
		{Name: "export", Usage: "write everything that is known to standard output, as JSON lines",
			Action: p.client(0, 0, "no words", catalogueExport)},
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

// lastLine is the most that the last line of an export takes.
const lastLine = 200

func catalogueExport(ctx context.Context, s *session, _ *cli.Command, _ []string) error {
	response, err := s.api.ExportCatalogue(ctx)
	if err != nil || response.StatusCode >= 400 {
		_, err := s.body(response, err)
		return err
	}
	defer response.Body.Close()
	tail := &tail{to: s.Stdout}
	if _, err = io.Copy(tail, response.Body); err == nil && !bytes.Contains(tail.last, []byte(`"record":"end"`)) {
		err = errors.New("the service stopped in the middle")
	}
	if err != nil {
		return fmt.Errorf("export the records: %w. Next: try again; what was written is not all", err)
	}
	return nil
}

// tail remembers the end of what is written.
type tail struct {
	to   io.Writer
	last []byte
}

func (t *tail) Write(p []byte) (int, error) {
	t.last = append(t.last, p[max(0, len(p)-lastLine):]...)
	t.last = t.last[max(0, len(t.last)-lastLine):]
	return t.to.Write(p)
}
