package cli_test

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"humble-rewind/internal/cli"
	"humble-rewind/internal/servicetest"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"humble-rewind": func() {
			p := cli.Program{Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, Env: os.Getenv, Now: time.Now, Version: "test"}
			os.Exit(p.Run(context.Background(), os.Args))
		},
	})
}

// Each script runs against a service of its own on a sample world of its own; $WORLD is where its machines are.
func TestScripts(t *testing.T) {
	t.Parallel()
	testscript.Run(t, testscript.Params{
		Dir:                "testdata/script",
		RequireUniqueNames: true,
		Setup: func(e *testscript.Env) error {
			s := servicetest.StartDemo(e.T().(testing.TB), servicetest.Page)
			e.Setenv("HUMBLE_REWIND_URL", s.URL)
			e.Setenv("HUMBLE_REWIND_TOKEN", s.Token)
			e.Setenv("WORLD", filepath.Join(s.World.Dir, "machines"))
			e.Setenv("TZ", "UTC")
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"exits": exits, "snapshot": snapshot},
	})
}

// exits runs a command that must end with the given status: exits 3 humble-rewind find nothing.
func exits(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: exits STATUS COMMAND...")
	}
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	got := 0
	if err := ts.Exec(args[1], args[2:]...); err != nil {
		exit, ok := errors.AsType[*exec.ExitError](err)
		if !ok {
			ts.Fatalf("%v", err)
		}
		got = exit.ExitCode()
	}
	if got != want {
		ts.Fatalf("%v exited with %d, not %d", args[1:], got, want)
	}
}

// snapshot writes the digests and names of all files below a directory to a file: snapshot DIR FILE.
func snapshot(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 2 {
		ts.Fatalf("usage: snapshot DIR FILE")
	}
	out, err := exec.Command("sh", "-c",
		`cd "$1" && find . \( -type f -printf '%p %m %U %s %T@\n' -o -printf '%p %y %m %U\n' \) | sort && find . -type f -print0 | sort -z | xargs -0 sha256sum`, "sh", args[0]).
		Output()
	ts.Check(err)
	ts.Check(os.WriteFile(ts.MkAbs(args[1]), out, 0o644))
}
