// Command bench measures the program against the operating system's own tools doing the part of the work that cannot
// be avoided, in one run on one machine, and prints one table of ratios. Absolute times mean nothing on shared
// hardware; each figure is the median of several runs, ours and the yardstick's taken in turn.
//
//	bench BINARY [WORK-FOLDER [surveys|live|snapshots|trails|advice|reads|searches|bring-backs]]
//
// Measured are: surveys of a trash of 100,000 items and of a live tree against find printing the same fields; what one
// more snapshot costs after 1, 10, 30 and 60, and how the catalogue grows; a trail of a thousand sightings, and advice on it;
// examining 10,000 documents; advice on a folder of 100,000 files of which a third were rewritten at once; the plan for a
// folder of 100,000 files as of a moment; digests and one big file against cp, sha256sum and openssl; name search among 1,000,000
// sightings, p95 through the API, against grep -i over the plain list of paths; bringing back 10,000 small files,
// within a file system (renamed) and across two (copied, read back, compared, synced), against cp -a and sha256sum -c.
// The service runs as a process of its own; its peak memory is read from /proc after each row.
package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// row is one line of the table.
type row struct {
	work, yardstick string
	ours, theirs    time.Duration
	bar             string
	peak            string
}

func main() {
	if len(os.Args) < 2 {
		fmt.Fprintln(os.Stderr, "usage: bench BINARY [WORK-FOLDER]")
		os.Exit(2)
	}
	parent := os.TempDir()
	if len(os.Args) > 2 {
		parent = os.Args[2]
	}
	dir, err := os.MkdirTemp(parent, "humble-rewind-bench-")
	if err == nil {
		defer os.RemoveAll(dir)
		only := ""
		if len(os.Args) > 3 {
			only = os.Args[3]
		}
		err = run(os.Args[1], dir, only)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.RemoveAll(dir)
		os.Exit(1)
	}
}

func run(binary, dir, only string) error {
	ctx := context.Background()
	var rows []row
	for _, part := range []struct {
		name    string
		measure func(context.Context, string, string) ([]row, error)
	}{{"surveys", surveys}, {"live", live}, {"snapshots", snapshots}, {"trails", trails}, {"advice", advices}, {"reads", reads},
		{"searches", searches}, {"bring-backs", bringBacks}} {
		if only != "" && only != part.name {
			continue
		}
		more, err := part.measure(ctx, binary, dir)
		if err != nil {
			return err
		}
		rows = append(rows, more...)
	}
	fmt.Println("| work | ours | yardstick | its time | ratio | bar | peak memory |")
	fmt.Println("|---|---|---|---|---|---|---|")
	for _, r := range rows {
		fmt.Printf(
			"| %s | %s | %s | %s | %.3f× | %s | %s |\n",
			r.work,
			short(r.ours),
			r.yardstick,
			short(r.theirs),
			float64(r.ours)/float64(r.theirs),
			r.bar,
			r.peak,
		)
	}
	return nil
}

func short(d time.Duration) string {
	if d < 10*time.Millisecond {
		return fmt.Sprintf("%.2f ms", float64(d.Microseconds())/1000)
	}
	return fmt.Sprintf("%d ms", d.Milliseconds())
}

func median(all []time.Duration) time.Duration {
	slices.Sort(all)
	return all[len(all)/2]
}

// p95 asks forty times, after once that reads what is not known yet, and returns what nineteen of twenty stay below.
func p95(ask func() error) (time.Duration, error) {
	if err := ask(); err != nil {
		return 0, err
	}
	took := make([]time.Duration, 40)
	for n := range took {
		var err error
		if took[n], err = timed(ask); err != nil {
			return 0, err
		}
	}
	slices.Sort(took)
	return took[len(took)*95/100], nil
}

// timed runs do and returns how long it took.
func timed(do func() error) (time.Duration, error) {
	begun := time.Now()
	err := do()
	return time.Since(begun), err
}

// shell times a command line with its output thrown away.
func shell(ctx context.Context, line string) (time.Duration, error) {
	return timed(func() error {
		out, err := exec.CommandContext(ctx, "sh", "-c", line).CombinedOutput()
		if err != nil {
			err = fmt.Errorf("%s: %w: %s", line, err, out)
		}
		return err
	})
}

func shellOut(line string) ([]byte, error) { return exec.Command("sh", "-c", line).CombinedOutput() }

func say(format string, args ...any) { fmt.Fprintf(os.Stderr, format+"\n", args...) }

// makeTrash lays a home with n deleted files of a few hundred bytes in base.
func makeTrash(home string, n int) error {
	return fillCan(
		filepath.Join(home, ".local/share/Trash"),
		n,
		func(name string) string { return filepath.Join("/home/ines/Documents", name) },
	)
}

// fillCan fills a trash directory with n items whose records give the path that recorded returns.
func fillCan(can string, n int, recorded func(name string) string) error {
	for _, sub := range []string{"files", "info"} {
		if err := os.MkdirAll(filepath.Join(can, sub), 0o700); err != nil {
			return err
		}
	}
	gone := time.Now().Add(-20 * 24 * time.Hour)
	for i := range n {
		name := fmt.Sprintf("Delivery note %06d.txt", i)
		record := fmt.Sprintf(
			"[Trash Info]\nPath=%s\nDeletionDate=%s\n",
			strings.ReplaceAll(recorded(name), " ", "%20"),
			gone.Add(time.Duration(i)*time.Second).Format("2006-01-02T15:04:05"),
		)
		if err := os.WriteFile(filepath.Join(can, "info", name+".trashinfo"), []byte(record), 0o600); err != nil {
			return err
		}
		content := strings.Repeat(fmt.Sprintf("larch plank %06d\n", i), 24)
		if err := os.WriteFile(filepath.Join(can, "files", name), []byte(content), 0o644); err != nil {
			return err
		}
	}
	return nil
}
