package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
	"humble-rewind/internal/core/place"
)

func (p *Program) bringBackCommand() *cli.Command {
	return &cli.Command{
		Name: "bring-back", Usage: "bring copies back to where they were, or elsewhere", ArgsUsage: "COPY...",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "to", Usage: "to this `PLACE` (machine:/path; a slash at its end makes it a folder) instead of where they were"},
			&cli.StringFlag{Name: "clash", Value: "keep-both", Usage: "what to do where something stands already: keep-both, set-aside or skip (`RULE`)"},
			&cli.BoolFlag{Name: "dry-run", Usage: "show the plan and write nothing"},
			jsonFlag(),
		},
		Action: p.client(1, -1, "the ids of copies, such as c12 c15", func(ctx context.Context, s *session, c *cli.Command, args []string) error {
			dry := c.Bool("dry-run")
			body := api.NewBringBack{Copies: args, Clash: enum[api.ClashRule](c.String("clash")), DryRun: &dry}
			if c.String("to") != "" {
				to, err := destination(c.String("to"))
				if err != nil {
					return err
				}
				body.To = to
			}
			response, err := s.api.BringBack(ctx, body)
			if dry {
				plan, err := shown[api.Plan](s, response, err)
				if err == nil && !s.json {
					s.showPlan(plan)
				}
				return err
			}
			j, err := answer[api.Job](s, response, err)
			if err != nil {
				return err
			}
			if j, err = s.follow(ctx, j); err != nil {
				return err
			}
			if err := s.receipt(ctx, text(j.Receipt)); err != nil {
				return err
			}
			return jobEnd(j)
		}),
	}
}

func destination(typed string) (*api.Destination, error) {
	p, err := place.Parse(typed)
	if err != nil {
		return nil, usage("--to: %w", err)
	}
	path := p.Path
	if place.EndsInSlash(typed) && path != "/" {
		path += "/"
	}
	raw := []byte(path)
	return &api.Destination{Machine: p.Machine, Path: place.Readable(path), PathBytes: &raw}, nil
}

func (s *session) showPlan(plan api.Plan) {
	t := table{head: []string{"COPY", "DOES", "SIZE", "TO"}, right: map[int]bool{2: true}}
	var remarks []string
	for _, i := range plan.Items {
		to := quoted(i.To)
		if i.Action == api.ActionRefuse && i.To.Machine == "" {
			to = "—"
		}
		t.add(i.Copy, string(i.Action), size(i.Size), to)
		if i.Clash != "" {
			remarks = append(remarks, i.Copy+": "+i.Clash)
		}
		if i.Note != "" {
			remarks = append(remarks, i.Copy+": "+i.Note)
		}
		if i.Makes != nil {
			for _, made := range *i.Makes {
				remarks = append(remarks, i.Copy+": the folder "+quoted(made)+" is made again")
			}
		}
	}
	t.print(s.Stdout)
	for _, remark := range remarks {
		fmt.Fprintln(s.Stdout, "  "+remark)
	}
	fmt.Fprintf(s.Stdout, "%s, %s to copy. Nothing was written; leave out --dry-run to carry it out.\n", count(int64(len(plan.Items)), "item", "items"), size(plan.Bytes))
}
