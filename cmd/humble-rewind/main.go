// Command humble-rewind is the service, its client and the demo in one.
package main

import (
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	"time"
	_ "time/tzdata" // zones, also on hosts that have none

	"humble-rewind/console"
	"humble-rewind/internal/apart"
	"humble-rewind/internal/cli"
	"humble-rewind/internal/clouddrive"
	"humble-rewind/internal/demo"
	"humble-rewind/internal/kinds"
	"humble-rewind/internal/service"
)

// version is set by the Makefile.
var version = "development"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	program := cli.Program{
		Stdin:   os.Stdin,
		Stdout:  os.Stdout,
		Stderr:  os.Stderr,
		Env:     os.Getenv,
		Now:     time.Now,
		Version: version,
		Serve:   serve,
		Demo:    runDemo,
		Drive:   drives{},
	}
	status := program.Run(ctx, os.Args)
	stop()
	os.Exit(status)
}

// memoryLimit makes the collector work harder before the service grows beyond what it promises (256 MiB in all); what
// SQLite keeps and the program itself come on top. GOMEMLIMIT overrides it.
const memoryLimit = 124 << 20

func serve(ctx context.Context, options cli.Serving, ready func(string)) error {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
	}
	level := slog.LevelInfo
	if options.Verbose {
		level = slog.LevelDebug
	}
	files, err := fs.Sub(console.Built, "dist")
	if err != nil {
		return err
	}
	if err := service.Prepare(options.Dir); err != nil {
		return err
	}
	rules, err := strayRules(options.Dir)
	if err != nil {
		return err
	}
	children := &apart.Pool{}
	ways, err := kinds.Serving(children, options.Dir, options.Secrets...)
	if err != nil {
		return err
	}
	s, err := service.Open(ctx, service.Config{Strays: rules, Dir: options.Dir, SafekeepingLimit: options.SafekeepingLimit,
		SafekeepingDays: options.SafekeepingDays, Rebuild: options.Rebuild, Hosts: options.Hosts, Ways: ways, Apart: children,
		Kinds:   kinds.All(rules),
		Console: files, Now: time.Now,
		Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level}))})
	if err != nil {
		return err
	}
	defer s.Close()
	listener, err := net.Listen("tcp", options.Listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w. Next: choose another address with --listen", options.Listen, err)
	}
	ready("http://" + listener.Addr().String())
	return s.Serve(ctx, listener)
}

// drives serves small cloud drives.
type drives struct{}

func (drives) Serve(ctx context.Context, options cli.DriveOptions, ready func(url, certificate string)) error {
	d, err := clouddrive.Open(ctx, options.Dir)
	if err != nil {
		return err
	}
	defer d.Close()
	d.Quota, d.TrashDays = options.Quota, options.TrashDays
	return d.Serve(ctx, options.Listen, ready)
}

func (drives) Admit(ctx context.Context, dir, name, secret string, lasts time.Duration) error {
	d, err := clouddrive.Open(ctx, dir)
	if err != nil {
		return err
	}
	defer d.Close()
	var until time.Time
	if lasts > 0 {
		until = time.Now().Add(lasts)
	}
	return d.Admit(ctx, name, secret, until)
}

func runDemo(ctx context.Context, listen, dir string, fresh bool, say func(string)) error {
	world, err := demo.Build(dir, time.Now(), fresh)
	if err != nil {
		return err
	}
	return demo.Present(ctx, world, say, func(ctx context.Context, ready func(string)) error {
		return serve(ctx, cli.Serving{Listen: listen, Dir: world.ServiceDir, Secrets: []string{world.Secrets()}}, ready)
	})
}
