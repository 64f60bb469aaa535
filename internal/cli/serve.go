package cli

import (
	"context"
	"fmt"
	"math"
	"net"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"humble-rewind/internal/core/place"
)

// Serving says how the service is run.
type Serving struct {
	Listen           string
	Dir              string
	Verbose          bool
	SafekeepingLimit int64 // bytes; 0: no limit
	SafekeepingDays  int   // 0: for ever
	Rebuild          bool  // a damaged catalogue
	Hosts            []string
	Secrets          []string // folders in which addresses may name files, besides the usual ones
}

func (p *Program) serveCommand() *cli.Command {
	return &cli.Command{
		Name: "serve", Usage: "run the service",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8717", Usage: "the `ADDRESS` to listen on"},
			&cli.StringFlag{Name: "data", Value: p.dataDir(), Usage: "the `DIR` of the catalogue, safekeeping and the technician's token"},
			&cli.StringFlag{
				Name:  "safekeeping-limit",
				Value: "50GiB",
				Usage: "how much what is set aside may take at most, such as 500MiB; 0: no limit (`SIZE`)",
			},
			&cli.IntFlag{
				Name:  "safekeeping-days",
				Value: 180,
				Usage: "how many `DAYS` it is kept, and receipts can be undone; 0: for ever",
			},
			&cli.StringSliceFlag{
				Name:  "host",
				Usage: "a `NAME` by which it may be reached, besides localhost and addresses; may be repeated",
			},
			&cli.StringSliceFlag{
				Name: "secrets",
				Usage: "a `FOLDER` in which addresses of drives may name files with passwords and authorities, besides secrets in the data " +
					"folder and /etc/humble-rewind; may be repeated",
			},
			&cli.BoolFlag{
				Name: "rebuild",
				Usage: "put a damaged catalogue aside, take machines, sources, receipts and cases from the daily " +
					"copy, and survey everything anew",
			},
			&cli.BoolFlag{Name: "verbose", Usage: "also log every request"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := arguments(c, 0, 0, "no words"); err != nil {
				return err
			}
			limit, err := humanize.ParseBytes(c.String("safekeeping-limit"))
			if err != nil || limit > math.MaxInt64 {
				return usage("--safekeeping-limit %s is not a size; write it like 50GiB", place.Quote(c.String("safekeeping-limit")))
			}
			if c.Int("safekeeping-days") < 0 {
				return usage("--safekeeping-days must not be negative")
			}
			options := Serving{
				Listen:           c.String("listen"),
				Dir:              c.String("data"),
				Verbose:          c.Bool("verbose"),
				SafekeepingLimit: int64(limit),
				SafekeepingDays:  int(c.Int("safekeeping-days")),
				Rebuild:          c.Bool("rebuild"),
				Hosts:            c.StringSlice("host"),
				Secrets:          c.StringSlice("secrets"),
			}
			return p.Serve(ctx, options, func(url string) {
				if beyondLoopback(options.Listen) {
					fmt.Fprintln(
						p.Stderr,
						"Warning: it can be reached from other machines over plain HTTP, so that tokens and files can be read on "+
							"the way. Put it behind a proxy with TLS, or listen on 127.0.0.1 and reach it through SSH.",
					)
				}
				fmt.Fprintf(
					p.Stderr,
					"Humble Rewind listens on %s; the technician's token is in %s/technician.token\n",
					url,
					c.String("data"),
				)
			})
		},
	}
}

// beyondLoopback tells whether an address can be reached from other machines.
func beyondLoopback(listen string) bool {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return false // which listening itself will say
	}
	ip := net.ParseIP(host)
	return host != "localhost" && (ip == nil || !ip.IsLoopback())
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
