package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"
)

func (p *Program) serveCommand() *cli.Command {
	return &cli.Command{
		Name: "serve", Usage: "run the service",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8717", Usage: "the `ADDRESS` to listen on"},
			&cli.StringFlag{Name: "data", Value: p.dataDir(), Usage: "the `DIR` of the catalogue, safekeeping and the technician's token"},
			&cli.BoolFlag{Name: "verbose", Usage: "also log every request"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := arguments(c, 0, 0, "no words"); err != nil {
				return err
			}
			return p.Serve(ctx, c.String("listen"), c.String("data"), c.Bool("verbose"), func(url string) {
				fmt.Fprintf(p.Stderr, "Humble Rewind listens on %s; the technician's token is in %s/technician.token\n", url, c.String("data"))
			})
		},
	}
}

func (p *Program) demoCommand() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "build the sample world of Alder Quay Boatyard, serve it, and print a link to the console",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "dir", Value: "demo-data", Usage: "the `DIR` of the sample world; kept where it is there already"},
			&cli.BoolFlag{Name: "fresh", Usage: "make the sample world anew, records and all"},
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8717", Usage: "the `ADDRESS` to listen on"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := arguments(c, 0, 0, "no words"); err != nil {
				return err
			}
			return p.Demo(ctx, c.String("listen"), c.String("dir"), c.Bool("fresh"), func(line string) { fmt.Fprintln(p.Stdout, line) })
		},
	}
}
