package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/tmaxmax/go-sse"
	"golang.org/x/term"

	"humble-rewind/api"
)

// follow shows a job's progress until it has ended and returns it: a bar on a terminal, else a plain line now and then.
func (s *session) follow(ctx context.Context, j api.Job) (api.Job, error) {
	response, err := s.api.FollowJob(ctx, j.Id)
	if err != nil || response.StatusCode >= 400 {
		_, err := s.body(response, err)
		return j, err
	}
	defer response.Body.Close()
	show := s.progress(j)
	var broken error
	for event, err := range sse.Read(response.Body, &sse.ReadConfig{MaxEventSize: 16 << 20}) {
		if err != nil {
			broken = err
			break
		}
		j = api.Job{} // what is left out is not as it was before
		if err := json.Unmarshal([]byte(event.Data), &j); err != nil {
			return j, fmt.Errorf("read the job's progress: %w", err)
		}
		show(j)
	}
	if j.EndedAt == nil {
		return j, errors.Join(
			broken,
			fmt.Errorf("the service stopped while job %s was at work. Next: start it again; it then finishes or reports the job", j.Id),
		)
	}
	return j, nil
}

// followOrCancel is follow for work that may be broken off: an interrupt asks the service to stop after the item it is at,
// and the end is then waited for.
func (s *session) followOrCancel(ctx context.Context, j api.Job) (api.Job, error) {
	asked := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(asked)
		fmt.Fprintln(s.Stderr, "Cancelling after the item it is at; the receipt will say what had arrived.")
		response, err := s.api.CancelJob(context.WithoutCancel(ctx), j.Id)
		if _, err := s.body(response, err); err != nil {
			fmt.Fprintln(s.Stderr, err)
		}
	})
	ended, err := s.follow(context.WithoutCancel(ctx), j)
	if !stop() {
		<-asked
	}
	return ended, err
}

func (s *session) progress(j api.Job) func(api.Job) {
	if f, ok := s.Stderr.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return bar(f, j)
	}
	const every = 2 * time.Second
	said := s.Now()
	begun := said
	return func(j api.Job) {
		if now := s.Now(); now.Sub(said) >= every && j.EndedAt == nil {
			said = now
			fmt.Fprintf(s.Stderr, "%s %s: %d%s done%s%s\n", j.Kind, j.Id, j.Done, ofTotal(j), pace(j, now.Sub(begun)), behind(j.Doing))
		}
	}
}

// pace says how fast it goes and how long the rest takes at that.
func pace(j api.Job, passed time.Duration) string {
	if j.Done == 0 || passed < time.Second {
		return ""
	}
	text := fmt.Sprintf(", %.0f a second", float64(j.Done)/passed.Seconds())
	if j.Bytes > 0 {
		text += fmt.Sprintf(" and %s", size(int64(float64(j.Bytes)/passed.Seconds())))
	}
	if left := j.Total - j.Done; j.Total > 0 && left > 0 {
		text += fmt.Sprintf(", %s left", (time.Duration(float64(passed) / float64(j.Done) * float64(left))).Round(time.Second))
	}
	return text
}

func bar(w io.Writer, j api.Job) func(api.Job) {
	total := j.Total
	if total == 0 {
		total = -1
	}
	b := progressbar.NewOptions64(
		total,
		progressbar.OptionSetWriter(w),
		progressbar.OptionSetDescription(string(j.Kind)),
		progressbar.OptionShowCount(),
		progressbar.OptionSetWidth(
			30,
		),
		progressbar.OptionClearOnFinish(),
		progressbar.OptionSetPredictTime(total > 0),
		progressbar.OptionThrottle(50*time.Millisecond),
	)
	return func(j api.Job) {
		// What the bar cannot draw is not worth failing for.
		_ = b.Set64(j.Done)
		if j.EndedAt != nil {
			_ = b.Clear()
		}
	}
}

func ofTotal(j api.Job) string {
	if j.Total == 0 {
		return ""
	}
	return fmt.Sprintf(" of %d", j.Total)
}

func behind(doing *string) string {
	if doing == nil {
		return ""
	}
	return ", at " + *doing
}
