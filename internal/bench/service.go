package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"

	"humble-rewind/api"
)

// server is a service in a process of its own.
type server struct {
	*api.ClientWithResponses
	process *exec.Cmd
}

func start(ctx context.Context, binary, data string) (*server, error) {
	process := exec.CommandContext(ctx, binary, "serve", "--listen", "127.0.0.1:0", "--data", data)
	output, err := process.StderrPipe()
	if err != nil {
		return nil, err
	}
	if err := process.Start(); err != nil {
		return nil, err
	}
	lines := bufio.NewScanner(output)
	for lines.Scan() {
		_, rest, found := strings.Cut(lines.Text(), "listens on ")
		if !found {
			continue
		}
		url, _, _ := strings.Cut(rest, ";")
		go func() { _, _ = io.Copy(io.Discard, output) }() // so that the service never waits for its log
		token, err := os.ReadFile(filepath.Join(data, "technician.token"))
		if err != nil {
			return nil, err
		}
		client, err := api.NewClientWithResponses(url+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
			return nil
		}))
		return &server{client, process}, err
	}
	return nil, errors.Join(errors.New("the service did not start"), process.Wait())
}

func (s *server) stop() error {
	if err := s.process.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	return s.process.Wait()
}

// peak reads the most memory that the service has held since the last call, in MiB, and begins anew.
func (s *server) peak() string {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.process.Process.Pid))
	if err != nil {
		return "unknown"
	}
	// Resets the high-water mark, see proc_pid_clear_refs(5); without the right to do so marks only grow.
	_ = os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", s.process.Process.Pid), []byte("5"), 0)
	for line := range strings.Lines(string(status)) {
		if kib, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			var n int
			if _, err := fmt.Sscanf(kib, "%d", &n); err == nil {
				return fmt.Sprintf("%d MiB", n/1024)
			}
		}
	}
	return "unknown"
}

func (s *server) addMachine(ctx context.Context, name, at string) error {
	r, err := s.AddMachineWithResponse(ctx, api.NewMachine{Name: name, At: at})
	if err == nil && r.JSON201 == nil {
		err = fmt.Errorf("add machine: %s", r.Body)
	}
	return err
}

func (s *server) addTrash(ctx context.Context, machine, at string) error {
	r, err := s.AddSourceWithResponse(ctx, api.NewSource{Machine: machine, Kind: "trash", At: &at})
	if err == nil && r.JSON201 == nil {
		err = fmt.Errorf("add source: %s", r.Body)
	}
	return err
}

// wait follows a job to its end and returns it; anything but a whole success is an error.
func (s *server) wait(ctx context.Context, j *api.Job, body []byte) (api.Job, error) {
	if j == nil {
		return api.Job{}, fmt.Errorf("begin a job: %s", body)
	}
	events, err := s.FollowJob(ctx, j.Id)
	if err != nil {
		return *j, err
	}
	_, err = io.Copy(io.Discard, events.Body)
	if err := errors.Join(err, events.Body.Close()); err != nil {
		return *j, err
	}
	ended, err := s.GetJobWithResponse(ctx, j.Id)
	if err != nil {
		return *j, err
	}
	if ended.JSON200 == nil || ended.JSON200.State != api.JobStateDone {
		return *j, fmt.Errorf("job %s: %s", j.Id, ended.Body)
	}
	return *ended.JSON200, nil
}

func (s *server) survey(ctx context.Context) (api.Job, error) {
	r, err := s.StartSurveyWithResponse(ctx, api.NewSurvey{})
	if err != nil {
		return api.Job{}, err
	}
	return s.wait(ctx, r.JSON202, r.Body)
}
