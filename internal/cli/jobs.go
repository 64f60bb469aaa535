package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
)

func (p *Program) jobCommand() *cli.Command {
	const one = "a job's id, such as j3"
	return &cli.Command{Name: "job", Usage: "what the service is at work on: surveys, bringing back, undoing", Commands: []*cli.Command{
		{
			Name: "list", Usage: "list them, newest first",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "kind", Usage: "only jobs of a `KIND`: survey, bring-back or undo"},
				&cli.IntFlag{Name: "limit", Value: 50, Usage: "how many at most"},
				&cli.StringFlag{Name: "cursor", Usage: "go on where an earlier page ended"},
				jsonFlag(),
			},
			Action: p.client(0, 0, "no words", jobList),
		},
		{
			Name: "show", Usage: "one job: how far it is, and what came of it", ArgsUsage: "ID",
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "wait", Usage: "show the progress and wait for the end"}, jsonFlag()},
			Action: p.client(1, 1, one, jobShow),
		},
		{
			Name: "stop", Usage: "ask a job to stop after the item it is at", ArgsUsage: "ID",
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "wait", Usage: "wait until it has"}, jsonFlag()},
			Action: p.client(1, 1, one, jobStop),
		},
	}}
}

func jobList(ctx context.Context, s *session, c *cli.Command, args []string) error {
	limit := int(c.Int("limit"))
	params := api.ListJobsParams{Kind: enum[api.JobKind](c.String("kind")), Limit: &limit, Cursor: set(c.String("cursor"))}
	response, err := s.api.ListJobs(ctx, &params)
	all, err := shown[api.JobList](s, response, err)
	if err != nil {
		return err
	}
	if len(all.Jobs) == 0 {
		if !s.json {
			fmt.Fprintln(s.Stdout, "The service was not given anything of that to do yet.")
		}
		return silent(ExitNothing)
	}
	if s.json {
		return nil
	}
	t := table{head: []string{"JOB", "KIND", "BEGUN", "TOOK", "BY", "DONE", "STATE", "AT"}, right: map[int]bool{3: true, 5: true}}
	for _, j := range all.Jobs {
		t.add(j.Id, string(j.Kind), s.at(&j.CreatedAt), s.took(j), text(j.By), fmt.Sprint(j.Done)+ofTotal(j), jobState(j), text(j.Doing))
	}
	t.print(s.Stdout)
	fmt.Fprintln(s.Stdout, s.zoneLine())
	if all.Next != nil {
		fmt.Fprintf(s.Stdout, "Next page: --cursor %s\n", *all.Next)
	}
	return nil
}

// took is for how long a job was, or has been, at work.
func (s *session) took(j api.Job) string {
	end := s.Now()
	if j.EndedAt != nil {
		end = *j.EndedAt
	}
	return max(0, end.Sub(j.CreatedAt)).Round(time.Second).String()
}

func jobState(j api.Job) string {
	switch j.State {
	case api.JobStateWaiting:
		return "waiting for its turn"
	case api.JobStateRunning:
		return "at work"
	case api.JobStatePart:
		return "done in part"
	case api.JobStateCancelled:
		return "stopped"
	}
	return string(j.State)
}

func jobShow(ctx context.Context, s *session, c *cli.Command, args []string) error {
	response, err := s.api.GetJob(ctx, args[0])
	if !c.Bool("wait") {
		j, err := shown[api.Job](s, response, err)
		if err == nil && !s.json {
			s.showJob(j)
		}
		return err
	}
	j, err := answer[api.Job](s, response, err)
	if err == nil {
		j, err = s.ended(ctx, j, s.showJob)
	}
	if err != nil {
		return err
	}
	return jobEnd(j)
}

// ended waits for the end of a job and shows it.
func (s *session) ended(ctx context.Context, j api.Job, show func(api.Job)) (api.Job, error) {
	j, err := s.follow(ctx, j)
	if err != nil {
		return j, err
	}
	if !s.json {
		show(j)
		return j, nil
	}
	response, err := s.api.GetJob(ctx, j.Id)
	return shown[api.Job](s, response, err)
}

func (s *session) showJob(j api.Job) {
	by := ""
	if j.By != nil {
		by = " for " + *j.By
	}
	after := "after"
	if j.EndedAt == nil {
		after = "for"
	}
	fmt.Fprintf(s.Stdout, "Job %s: %s%s, begun %s: %s %s %s, %d%s done%s.\n",
		j.Id, j.Kind, by, s.at(&j.CreatedAt), jobState(j), after, s.took(j), j.Done, ofTotal(j), behind(j.Doing))
	s.showOutcomes(j)
	s.showParts(j)
	if j.Error != nil && j.State != api.JobStateCancelled {
		fmt.Fprintln(s.Stdout, "  "+*j.Error)
	}
	fmt.Fprintln(s.Stdout, s.zoneLine())
	switch {
	case j.EndedAt == nil:
		fmt.Fprintf(s.Stdout, "Next: humble-rewind job show %s --wait, or job stop %s\n", j.Id, j.Id)
	case j.Receipt != nil:
		fmt.Fprintf(s.Stdout, "Next: humble-rewind receipt show %s\n", *j.Receipt)
	}
}

func jobStop(ctx context.Context, s *session, c *cli.Command, args []string) error {
	response, err := s.api.CancelJob(ctx, args[0])
	if c.Bool("wait") {
		j, err := answer[api.Job](s, response, err)
		if err == nil {
			j, err = s.ended(ctx, j, s.showJob)
		}
		if err != nil || j.State == api.JobStateCancelled { // as was asked
			return err
		}
		return jobEnd(j)
	}
	j, err := shown[api.Job](s, response, err)
	if err == nil && !s.json {
		fmt.Fprintf(s.Stdout, "Job %s stops after the item it is at. Next: humble-rewind job show %s --wait\n", j.Id, j.Id)
	}
	return err
}
