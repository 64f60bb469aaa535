package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
)

func (p *Program) surveyCommand() *cli.Command {
	return &cli.Command{
		Name: "survey", Usage: "bring the catalogue up to date with what the stores hold", ArgsUsage: "[MACHINE...]",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "source", Usage: "only the source with this `ID`"},
			&cli.BoolFlag{Name: "read-all", Usage: "also digest all content that is not known yet"},
			&cli.BoolFlag{Name: "examine", Usage: "also examine all content that was not examined yet"},
			&cli.BoolFlag{Name: "wait", Usage: "show the progress and wait for the end"},
			jsonFlag(),
		},
		Action: p.client(0, -1, "machines", func(ctx context.Context, s *session, c *cli.Command, machines []string) error {
			readAll, examine := c.Bool("read-all"), c.Bool("examine")
			waited := c.Bool("wait")
			response, err := s.api.StartSurvey(
				ctx,
				api.NewSurvey{Machines: &machines, Source: set(c.String("source")), ReadAll: &readAll, Examine: &examine,
					Waited: &waited},
			)
			if !c.Bool("wait") {
				j, err := shown[api.Job](s, response, err)
				if err == nil && !s.json {
					fmt.Fprintf(
						s.Stdout,
						"Survey %s has begun. Next: humble-rewind job show %s --wait\n",
						j.Id, j.Id,
					)
				}
				return err
			}
			j, err := answer[api.Job](s, response, err)
			if err == nil {
				j, err = s.ended(ctx, j, s.showOutcomes)
			}
			if err != nil {
				return err
			}
			return jobEnd(j)
		}),
	}
}

func (s *session) showOutcomes(j api.Job) {
	if j.Outcomes == nil {
		return
	}
	t := table{head: []string{"SOURCE", "MACHINE", "COPIES", "NEW", "GONE", "AT"}, right: map[int]bool{2: true, 3: true, 4: true}}
	var remarks []string
	for _, o := range *j.Outcomes {
		at := quotePath(o.At)
		if o.Source.Drive != nil {
			at += " (drive " + *o.Source.Drive + ")"
		}
		t.add(o.Source.Id, o.Machine, fmt.Sprint(o.Found), fmt.Sprint(o.Fresh), fmt.Sprint(o.Gone), at)
		if o.Error != nil {
			remarks = append(remarks, o.Source.Id+": "+*o.Error)
		}
		if o.Notes != nil {
			for _, note := range *o.Notes {
				remarks = append(remarks, o.Source.Id+": "+note)
			}
		}
	}
	t.print(s.Stdout)
	for _, remark := range remarks {
		fmt.Fprintln(s.Stdout, "  "+remark)
	}
}

// showParts shows the sources of a survey that have not ended: which are read, and which wait for their turn.
func (s *session) showParts(j api.Job) {
	if j.Parts == nil || j.EndedAt != nil {
		return
	}
	t := table{head: []string{"SOURCE", "ON", "STATE", "COPIES", "READ", "AT"}, right: map[int]bool{3: true}}
	for _, p := range *j.Parts {
		state, read := "waiting for its turn", ""
		switch {
		case p.State == api.JobStateRunning:
			state = "at work"
		case p.State != api.JobStateWaiting:
			continue
		}
		if p.Total > 0 {
			read = fmt.Sprintf("%d of %d", p.Read, p.Total)
		}
		t.add(p.Source, dash(p.Machine), state, fmt.Sprint(p.Done), read, text(p.Doing))
	}
	if len(t.rows) > 0 {
		t.print(s.Stdout)
	}
}

// jobEnd turns how a job ended into an exit status.
func jobEnd(j api.Job) error {
	switch j.State {
	case api.JobStateDone:
		return nil
	case api.JobStatePart:
		return &statusError{status: ExitPart, err: fmt.Errorf("%s %s: %s", j.Kind, j.Id, text(j.Error))}
	}
	return fmt.Errorf("%s %s: %s", j.Kind, j.Id, text(j.Error))
}
