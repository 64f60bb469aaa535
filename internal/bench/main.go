// Command bench measures the program against the operating system's own tools doing the part of the work that cannot be avoided, in one run
// on one machine, and prints one table of ratios. Absolute times mean nothing on shared hardware; ours and the yardstick's are taken in
// turn, each figure is the median of its rounds, and every result is checked before its time counts.
//
//	bench [-scale 0.1] [-only PART] [-work FOLDER] [-write docs/measurements.md] BINARY
//
// At scale 1 the sizes are those that the bars are set for: a live tree of 1,000,000 files, 5,000,000 sightings, a file of 4 GiB.
// The service runs as a process of its own. Of each row the table also tells the processor time that the service, its children and
// the yardstick took, and the most memory that the service and its children held meanwhile. After the table come cost curves: what
// a search, a trail and a survey cost as sightings, sources, machines and technicians grow.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"
)

// bench is one run.
type bench struct {
	binary string
	dir    string  // where everything is made, and removed at the end
	scale  float64 // of all sizes; 1 is what the bars are set for
	most   filled  // the catalogue with most sightings, once it is made
	rows   []row
	curves []curve
}

// of scales a size.
func (b *bench) of(size int) int { return max(1, int(float64(size)*b.scale)) }

// path is a place to work in.
func (b *bench) path(parts ...string) string {
	return filepath.Join(append([]string{b.dir}, parts...)...)
}

func main() {
	scale := flag.Float64("scale", 1, "of all sizes")
	only := flag.String("only", "", "the one part to measure")
	work := flag.String("work", os.TempDir(), "the folder to work in")
	write := flag.String("write", "", "the document whose table is replaced")
	flag.Parse()
	if flag.NArg() != 1 || *scale <= 0 || *scale > 4 {
		fmt.Fprintln(os.Stderr, "usage: bench [-scale 0.1] [-only PART] [-work FOLDER] [-write DOCUMENT] BINARY")
		os.Exit(2)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, flag.Arg(0), *work, *only, *write, *scale); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, binary, work, only, write string, scale float64) (err error) {
	dir, err := os.MkdirTemp(work, "humble-rewind-bench-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	b := &bench{binary: binary, dir: dir, scale: scale}
	known := false
	for _, part := range []struct {
		name    string
		measure func(context.Context) error
	}{
		{"live", b.live}, {"histories", b.histories}, {"trash", b.trash}, {"snapshots", b.snapshots}, {"digests", b.digests}, {"conditions", b.conditions},
		{"trails", b.trails}, {"folders", b.folders}, {"searches", b.searches}, {"small", b.smallFiles}, {"big", b.bigFile},
		{"page", b.page}, {"by-sightings", b.bySightings}, {"by-sources", b.bySources}, {"by-machines", b.byMachines},
	} {
		if only != "" && only != part.name {
			continue
		}
		known = true
		begun := time.Now()
		if err := part.measure(ctx); err != nil {
			return fmt.Errorf("%s: %w", part.name, err)
		}
		say("%s took %s", part.name, time.Since(begun).Round(time.Second))
	}
	if !known {
		return fmt.Errorf("there is no part %q", only)
	}
	text := b.text()
	fmt.Print(text)
	if write != "" {
		return replaceTable(write, text)
	}
	return nil
}

func say(format string, args ...any) { fmt.Fprintf(os.Stderr, format+"\n", args...) }
