package e2e

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"humble-rewind/api"
)

var binary string

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "humble-rewind-e2e-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		binary = filepath.Join(dir, "humble-rewind")
		build := exec.Command("go", "build", "-o", binary, "humble-rewind/cmd/humble-rewind")
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "build the binary: %v\n%s", err, out)
			return 1
		}
		return m.Run()
	}())
}

// process is the service as a process of its own.
type process struct {
	*api.ClientWithResponses
	URL, Token string
	cmd        *exec.Cmd
	t          *testing.T
}

// start starts the service. HUMBLE_REWIND_BEFORE is the program of a version before, which begins where there is no data yet: what follows a kill
// is an upgrade then.
func start(t *testing.T, data string) *process {
	t.Helper()
	if _, err := os.Stat(data); err == nil { // test folders are open to others
		require.NoError(t, os.Chmod(data, 0o700))
	}
	program := binary
	if _, err := os.Stat(data); errors.Is(err, fs.ErrNotExist) && os.Getenv("HUMBLE_REWIND_BEFORE") != "" {
		program = os.Getenv("HUMBLE_REWIND_BEFORE")
	}
	p := &process{t: t, cmd: exec.Command(program, "serve", "--listen", "127.0.0.1:0", "--data", data)}
	output, err := p.cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, p.cmd.Start())
	t.Cleanup(p.kill)
	lines := bufio.NewScanner(output)
	said := ""
	for p.URL == "" {
		require.True(t, lines.Scan(), "the service did not start: %s", said)
		said += lines.Text() + "\n"
		if _, rest, ok := strings.Cut(lines.Text(), "listens on "); ok {
			p.URL, _, _ = strings.Cut(rest, ";")
		}
	}
	go func() { _, _ = io.Copy(io.Discard, output) }()
	token, err := os.ReadFile(filepath.Join(data, "technician.token"))
	require.NoError(t, err)
	p.Token = strings.TrimSpace(string(token))
	p.ClientWithResponses, err = api.NewClientWithResponses(
		p.URL+"/api/v1",
		api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+p.Token)
			return nil
		}),
	)
	require.NoError(t, err)
	return p
}

// kill ends the process as a power cut would, by its own process id.
func (p *process) kill() {
	if p.cmd.ProcessState == nil {
		_ = p.cmd.Process.Signal(syscall.SIGKILL)
		_ = p.cmd.Wait() // says that it was killed
	}
}

func (p *process) add(machine, root, trash string, maps ...string) {
	p.t.Helper()
	m, err := p.AddMachineWithResponse(p.t.Context(), api.NewMachine{Name: machine, At: root})
	require.NoError(p.t, err)
	require.NotNil(p.t, m.JSON201, string(m.Body))
	s, err := p.AddSourceWithResponse(p.t.Context(), api.NewSource{Machine: machine, Kind: "trash", At: &trash, Maps: &maps})
	require.NoError(p.t, err)
	require.NotNil(p.t, s.JSON201, string(s.Body))
}

func (p *process) wait(id string) api.Job {
	p.t.Helper()
	events, err := p.FollowJob(p.t.Context(), id)
	require.NoError(p.t, err)
	_, _ = io.Copy(io.Discard, events.Body)
	events.Body.Close()
	j, err := p.GetJobWithResponse(p.t.Context(), id)
	require.NoError(p.t, err)
	require.NotNil(p.t, j.JSON200, string(j.Body))
	return *j.JSON200
}

func (p *process) beginSurvey() string {
	p.t.Helper()
	r, err := p.StartSurveyWithResponse(p.t.Context(), api.NewSurvey{})
	require.NoError(p.t, err)
	require.NotNil(p.t, r.JSON202, string(r.Body))
	return r.JSON202.Id
}

// all returns every copy that the service knows, page by page.
func (p *process) all() (copies []api.Copy) {
	p.t.Helper()
	limit := 1000
	for cursor := (*string)(nil); ; {
		r, err := p.FindCopiesWithResponse(p.t.Context(), &api.FindCopiesParams{Limit: &limit, Cursor: cursor})
		require.NoError(p.t, err)
		require.NotNil(p.t, r.JSON200, string(r.Body))
		copies = append(copies, r.JSON200.Copies...)
		if cursor = r.JSON200.Next; cursor == nil {
			return copies
		}
	}
}

// receipt returns a receipt with all its items, page by page.
func (p *process) receipt(id string) (whole api.Receipt) {
	p.t.Helper()
	for cursor := (*string)(nil); ; {
		r, err := p.GetReceiptWithResponse(p.t.Context(), id, &api.GetReceiptParams{Cursor: cursor})
		require.NoError(p.t, err)
		require.NotNil(p.t, r.JSON200, string(r.Body))
		items := append(whole.Items, r.JSON200.Items...)
		whole = *r.JSON200
		whole.Items = items
		if cursor = whole.Next; cursor == nil {
			return whole
		}
	}
}
