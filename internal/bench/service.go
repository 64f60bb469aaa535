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
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"humble-rewind/api"
)

// server is a service in a process of its own.
type server struct {
	*api.ClientWithResponses
	process *exec.Cmd
	url     string
	token   string
}

// start starts a service on the data in a folder.
func (b *bench) start(ctx context.Context, data string) (*server, error) {
	process := exec.CommandContext(ctx, b.binary, "serve", "--listen", "127.0.0.1:0", "--data", data)
	stderr, err := process.StderrPipe()
	if err != nil {
		return nil, err
	}
	if err := process.Start(); err != nil {
		return nil, err
	}
	lines, said := bufio.NewScanner(stderr), ""
	for lines.Scan() {
		said = lines.Text()
		_, rest, found := strings.Cut(lines.Text(), "listens on ")
		if !found {
			continue
		}
		url, _, _ := strings.Cut(rest, ";")
		go func() { _, _ = io.Copy(io.Discard, stderr) }() // so that the service never waits for its log
		token, err := os.ReadFile(filepath.Join(data, "technician.token"))
		if err != nil {
			return nil, err
		}
		s := &server{process: process, url: url, token: strings.TrimSpace(string(token))}
		s.ClientWithResponses, err = api.NewClientWithResponses(url+"/api/v1", api.WithRequestEditorFn(s.signed))
		return s, err
	}
	return nil, errors.Join(fmt.Errorf("the service did not start: %s", said), process.Wait())
}

func (s *server) signed(_ context.Context, r *http.Request) error {
	r.Header.Set("Authorization", "Bearer "+s.token)
	return nil
}

func (s *server) stop() error {
	if err := s.process.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	return s.process.Wait()
}

// measure does something that the service works on, and returns what it cost and the most memory that the service and its children held
// meanwhile, in bytes.
func (s *server) measure(do func() error) (cost, int64, error) {
	var children atomic.Int64
	ended, watched := make(chan struct{}), make(chan struct{})
	s.resetPeak()
	go func() {
		defer close(watched)
		for {
			children.Store(max(children.Load(), s.childrenMemory()))
			select {
			case <-ended:
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}()
	before := s.processor()
	begun := time.Now()
	err := do()
	c := cost{clock: time.Since(begun)}
	c.processor = s.processor() - before
	close(ended)
	<-watched
	return c, s.peak() + children.Load(), err
}

// tree lists the service and its children.
func (s *server) tree() []string {
	all := []string{strconv.Itoa(s.process.Process.Pid)}
	for n := 0; n < len(all); n++ {
		tasks, _ := filepath.Glob("/proc/" + all[n] + "/task/*/children")
		for _, task := range tasks {
			content, _ := os.ReadFile(task)
			all = append(all, strings.Fields(string(content))...)
		}
	}
	return all
}

// processor is the time that the service and its children have taken, those that ended included.
func (s *server) processor() (total time.Duration) {
	for _, pid := range s.tree() {
		stat, _ := os.ReadFile("/proc/" + pid + "/stat")
		_, rest, _ := strings.Cut(string(stat), ") ")
		fields := strings.Fields(rest)
		for n := 11; n <= 14 && n < len(fields); n++ { // utime, stime, cutime, cstime of proc_pid_stat(5)
			ticks, _ := strconv.ParseInt(fields[n], 10, 64)
			total += time.Duration(ticks) * 10 * time.Millisecond
		}
	}
	return total
}

// memoryOf reads a field of the status of a process, in bytes.
func memoryOf(pid, field string) int64 {
	status, _ := os.ReadFile("/proc/" + pid + "/status")
	for line := range strings.Lines(string(status)) {
		if kib, ok := strings.CutPrefix(line, field+":"); ok {
			n, _ := strconv.ParseInt(strings.Fields(kib)[0], 10, 64)
			return n << 10
		}
	}
	return 0
}

// peak is the most that the service has held since resetPeak.
func (s *server) peak() int64 { return memoryOf(strconv.Itoa(s.process.Process.Pid), "VmHWM") }

// resetPeak resets the high-water mark, see proc_pid_clear_refs(5); without the right to do so marks only grow.
func (s *server) resetPeak() {
	_ = os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", s.process.Process.Pid), []byte("5"), 0)
}

func (s *server) childrenMemory() (total int64) {
	for _, pid := range s.tree()[1:] {
		total += memoryOf(pid, "VmRSS")
	}
	return total
}

func (s *server) addMachine(ctx context.Context, name, at string) error {
	r, err := s.AddMachineWithResponse(ctx, api.NewMachine{Name: name, At: at})
	if err == nil && r.JSON201 == nil {
		err = fmt.Errorf("add machine: %s", r.Body)
	}
	return err
}

func (s *server) addSource(ctx context.Context, machine, kind, at string) error {
	zone := "UTC"
	r, err := s.AddSourceWithResponse(ctx, api.NewSource{Machine: machine, Kind: kind, At: &at, Zone: &zone})
	if err == nil && r.JSON201 == nil {
		err = fmt.Errorf("add %s source: %s", kind, r.Body)
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

// survey surveys all sources and checks how many entries were seen; fewer than least is an error.
func (s *server) survey(ctx context.Context, how api.NewSurvey, least int) error {
	r, err := s.StartSurveyWithResponse(ctx, how)
	if err != nil {
		return err
	}
	j, err := s.wait(ctx, r.JSON202, r.Body)
	if err == nil && int(j.Done) < least {
		err = fmt.Errorf("the survey saw %d entries of at least %d", j.Done, least)
	}
	return err
}

// bringBack brings back and checks how many items arrived.
func (s *server) bringBack(ctx context.Context, what api.NewBringBack, items int) error {
	r, err := s.BringBackWithResponse(ctx, what)
	if err != nil {
		return err
	}
	j, err := s.wait(ctx, r.JSON202, r.Body)
	if err == nil && int(j.Done) != items {
		err = fmt.Errorf("brought back %d of %d", j.Done, items)
	}
	return err
}
