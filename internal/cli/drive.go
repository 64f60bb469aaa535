package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"humble-rewind/internal/core/place"
)

// Drive is a small cloud drive in a folder.
type Drive interface {
	// Serve serves it until ctx is done; it calls ready with its address and what tells its certificate.
	Serve(ctx context.Context, options DriveOptions, ready func(url, certificate string)) error
	// Admit lets somebody sign in with a password or token, for ever where lasts is 0.
	Admit(ctx context.Context, dir, name, secret string, lasts time.Duration) error
}

// DriveOptions say how a cloud drive is served.
type DriveOptions struct {
	Dir       string
	Listen    string
	Quota     int64 // bytes; 0: none
	TrashDays int   // 0: for ever
}

func (p *Program) driveCommand() *cli.Command {
	dir := func() cli.Flag {
		return &cli.StringFlag{Name: "dir", Required: true, Usage: "the `DIR` of the drive; made where it is not there"}
	}
	return &cli.Command{Name: "drive", Usage: "a small cloud drive (WebDAV with versions and a trash), to try things on", Commands: []*cli.Command{
		{
			Name: "serve", Usage: "serve a drive over TLS",
			Flags: []cli.Flag{
				dir(),
				&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8718", Usage: "the `ADDRESS` to listen on"},
				&cli.StringFlag{Name: "quota", Value: "0", Usage: "how much it may hold, such as 5GiB; 0: any amount (`SIZE`)"},
				&cli.IntFlag{Name: "trash-days", Value: 30, Usage: "how many `DAYS` its trash keeps things; 0: for ever"},
			},
			Action: p.driveServe,
		},
		{
			Name: "admit", Usage: "let somebody sign in to a drive", ArgsUsage: "NAME",
			Flags: []cli.Flag{
				dir(),
				passwordFlag(),
				&cli.DurationFlag{Name: "lasts", Usage: "for how long the password or token is good, such as 24h (default: for ever)"},
			},
			Action: p.driveAdmit,
		},
	}}
}

func (p *Program) driveServe(ctx context.Context, c *cli.Command) error {
	if _, err := arguments(c, 0, 0, "no words"); err != nil {
		return err
	}
	quota, err := humanize.ParseBytes(c.String("quota"))
	if err != nil || quota > 1<<62 {
		return usage("--quota %s is not a size; write it like 5GiB", place.Quote(c.String("quota")))
	}
	options := DriveOptions{Dir: c.String("dir"), Listen: c.String("listen"), Quota: int64(quota), TrashDays: int(c.Int("trash-days"))}
	return p.Drive.Serve(ctx, options, func(url, certificate string) {
		fmt.Fprintf(p.Stderr, "The drive in %s is served at %s\nIts certificate is %s\n", quotePath(options.Dir), url, certificate)
	})
}

func (p *Program) driveAdmit(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, 1, 1, "the name to sign in with")
	if err != nil {
		return err
	}
	s := &session{Program: p}
	secret, err := s.passwordFrom(c.String(passwordFile), "Password for "+args[0]+": ")
	if err != nil {
		return err
	}
	if err := p.Drive.Admit(ctx, c.String("dir"), args[0], secret, c.Duration("lasts")); err != nil {
		return err
	}
	fmt.Fprintf(p.Stdout, "%s may sign in.\nNext: humble-rewind drive serve --dir %s\n", args[0], quotePath(c.String("dir")))
	return nil
}
