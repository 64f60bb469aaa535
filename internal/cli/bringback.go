package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
	"humble-rewind/internal/core/place"
)

func (p *Program) bringBackCommand() *cli.Command {
	return &cli.Command{
		Name: "bring-back", Usage: "bring copies back to where they were, or elsewhere", ArgsUsage: "COPY... | PLACE --as-of TIME | " +
			"--case CASE [COPY...]",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "as-of", Usage: "bring the place back as it was at this `TIME`, such as yesterday 17:00"},
			&cli.StringFlag{
				Name:  "captured-at",
				Usage: "of a copy that its store shows at many points in time: which (`TIME`); the latest where left out",
			},
			&cli.StringFlag{
				Name:  "only",
				Usage: "of a folder: missing, changed (that and what differs) or exact (also setting aside what came later) (`AMOUNT`)",
			},
			&cli.StringFlag{
				Name:  "case",
				Usage: "bring back what is advised for this `CASE`, or the copies named, and put the receipt into it",
			},
			&cli.StringFlag{
				Name:  "to",
				Usage: "to this `PLACE` (machine:/path; a slash at its end, or several copies, make it a folder) instead of where they were",
			},
			&cli.StringFlag{
				Name:  "clash",
				Value: "keep-both",
				Usage: "what to do where something is there already: keep-both, set-aside or skip (`RULE`)",
			},
			&cli.BoolFlag{Name: "keep-owners", Usage: "keep owners and set-id bits also of what comes from a store that users can write"},
			&cli.BoolFlag{Name: "trust-claimed", Usage: "let copies go to the places that records claim which may be forged"},
			&cli.BoolFlag{Name: "dry-run", Usage: "show the plan and write nothing"},
			jsonFlag(),
		},
		Action: p.client(
			0,
			-1,
			"the ids of copies, such as c12 c15, or a place",
			func(ctx context.Context, s *session, c *cli.Command, args []string) error {
				dry := c.Bool("dry-run")
				body := api.NewBringBack{Clash: enum[api.ClashRule](c.String("clash")), DryRun: &dry, Zone: s.zoneName(),
					KeepOwners: new(c.Bool("keep-owners")), TrustClaimed: new(c.Bool("trust-claimed"))}
				if err := s.what(&body, c, args); err != nil {
					return err
				}
				if c.String("to") != "" {
					to, err := destination(c.String("to"))
					if err != nil {
						return err
					}
					body.To = to
				}
				asking := ctx
				if !dry { // an interrupt must find a job that can be cancelled, not leave one unknown
					asking = context.WithoutCancel(ctx)
				}
				response, err := s.api.BringBack(asking, body)
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
				if j, err = s.followOrCancel(ctx, j); err != nil {
					return err
				}
				if err := s.receipt(context.WithoutCancel(ctx), text(j.Receipt)); err != nil {
					return err
				}
				return jobEnd(j)
			},
		),
	}
}

// what fills in what is to be brought back: copies, or a place as of a moment.
func (s *session) what(body *api.NewBringBack, c *cli.Command, args []string) error {
	asOf, err := s.time(c.String("as-of"))
	if err != nil {
		return err
	}
	body.Case = set(c.String("case"))
	body.CapturedAt, err = s.time(c.String("captured-at"))
	switch {
	case err != nil:
		return err
	case len(args) == 0 && body.Case != nil && asOf == nil:
		return nil
	case len(args) == 0:
		return usage("it wants the ids of copies, such as c12 c15, or a place, or a case with --case")
	case asOf == nil && strings.Contains(args[0], ":"):
		return usage("%s is a place; say as of when with --as-of TIME, or name copies by their ids", place.Quote(args[0]))
	case asOf == nil && c.IsSet("only"):
		return usage("--only is for a folder --as-of a time")
	case asOf == nil:
		body.Copies = &args
		return nil
	case len(args) > 1:
		return usage("--as-of is for one place, and %d words were given", len(args))
	}
	p, err := typedPlace(args[0])
	if err != nil {
		return err
	}
	raw := []byte(p.Path)
	body.Place, body.AsOf, body.Only = &api.Destination{
		Machine:   p.Machine,
		Path:      place.Readable(p.Path),
		PathBytes: &raw,
	}, asOf, enum[api.Only](
		c.String("only"),
	)
	return nil
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
	asked := map[api.PlanItemAsks]bool{}
	for _, i := range plan.Items {
		to := quoted(i.To)
		if i.Action == api.ActionRefuse && i.To.Machine == "" {
			to = "—"
		}
		t.add(dash(i.Copy), string(i.Action), size(i.Size), to)
		about := i.Copy
		if about == "" {
			about = to
		}
		if i.Clash != "" {
			remarks = append(remarks, about+": "+i.Clash)
		}
		if i.Note != "" {
			remarks = append(remarks, about+": "+i.Note)
		}
		if i.Asks != nil {
			for _, ask := range *i.Asks {
				asked[ask] = true
			}
		}
		if i.Makes != nil {
			for _, made := range *i.Makes {
				remarks = append(remarks, about+": the folder "+quoted(made)+" is made again")
			}
		}
	}
	if len(plan.Items) == 0 {
		fmt.Fprintln(s.Stdout, "There is nothing to bring back: everything is as it was.")
		return
	}
	t.print(s.Stdout)
	for _, remark := range remarks {
		fmt.Fprintln(s.Stdout, "  "+remark)
	}
	if asked[api.PlanItemAsksKeepOwners] {
		fmt.Fprintln(s.Stdout, "If you know that owners and set-id bits are right: --keep-owners keeps them.")
	}
	if asked[api.PlanItemAsksTrustClaimed] {
		fmt.Fprintln(s.Stdout, "If you know that a record is right in what it claims: --trust-claimed lets its item go there.")
	}
	fmt.Fprintf(
		s.Stdout,
		"%s, %s to copy. Nothing was written; leave out --dry-run to carry it out.\n",
		count(int64(len(plan.Items)), "item", "items"),
		size(plan.Bytes),
	)
}
