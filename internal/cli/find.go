package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"humble-rewind/api"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/typedtime"
)

func (p *Program) findCommand() *cli.Command {
	return &cli.Command{
		Name: "find", Usage: "find copies by words in their names and by filters", ArgsUsage: "[WORDS...]",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "machine", Usage: "only from this `MACHINE`"},
			&cli.StringFlag{Name: "person", Usage: "only what belongs to this `PERSON`"},
			&cli.StringFlag{Name: "under", Usage: "only from under this folder `PATH` (or machine:/path)"},
			&cli.StringFlag{
				Name: "type",
				Usage: "only this `TYPE`: documents, spreadsheets, drawings, pictures, contacts, calendars, mail, archives, sound, " +
					"video, programs, folders, other",
			},
			&cli.StringFlag{Name: "state", Usage: "only what is gone, present or changed (`STATE`)"},
			&cli.StringFlag{
				Name:  "condition",
				Usage: "only what was examined and found sound, doubtful or broken, or is unread (`CONDITION`)",
			},
			&cli.StringSliceFlag{
				Name: "intact",
				Usage: "only traces of which so much is intact: whole, if-in-one-piece, in-part, unread, wiped or overwritten (`STATE`); " +
					"may be repeated",
			},
			&cli.StringFlag{Name: "named", Usage: "yes: only what has a name; no: only what has lost it (`YES|NO`)"},
			&cli.StringFlag{Name: "least", Usage: "only what has at least so many bytes, such as 50KiB (`SIZE`)"},
			&cli.StringFlag{Name: "most", Usage: "only what has at most so many bytes (`SIZE`)"},
			&cli.StringFlag{Name: "gone-since", Usage: "only what was deleted since `TIME`, such as 3d ago or yesterday 17:00"},
			&cli.StringFlag{Name: "source", Usage: "only from this `KIND` of source"},
			&cli.BoolFlag{Name: "records", Usage: "also what only the record is left of"},
			&cli.StringFlag{Name: "sort", Value: "gone", Usage: "the `ORDER`: gone, written, name, size or expires"},
			&cli.IntFlag{Name: "limit", Value: 50, Usage: "how many at most"},
			&cli.StringFlag{Name: "cursor", Usage: "go on where an earlier page ended"},
			jsonFlag(),
		},
		Action: p.client(0, -1, "words", func(ctx context.Context, s *session, c *cli.Command, words []string) error {
			since, err := s.time(c.String("gone-since"))
			if err != nil {
				return err
			}
			limit, records := int(c.Int("limit")), c.Bool("records")
			named, err := yesNo(c, "named")
			if err != nil {
				return err
			}
			least, err := bytesOf(c, "least")
			if err != nil {
				return err
			}
			most, err := bytesOf(c, "most")
			if err != nil {
				return err
			}
			var intact *[]api.IntactState
			for _, state := range c.StringSlice("intact") {
				if intact == nil {
					intact = &[]api.IntactState{}
				}
				*intact = append(*intact, api.IntactState(state))
			}
			return s.find(ctx, api.FindCopiesParams{
				Intact: intact, Named: named, Least: least, Most: most,
				Words: set(
					strings.Join(words, " "),
				), Machine: set(c.String("machine")), Person: set(c.String("person")), Under: set(c.String("under")),
				Type: enum[api.FileClass](
					c.String("type"),
				), State: enum[api.CopyState](c.String("state")), Condition: enum[api.ConditionState](c.String("condition")),
				GoneSince: since, Source: set(c.String("source")),
				Records: &records, Sort: enum[api.Sort](c.String("sort")), Limit: &limit, Cursor: set(c.String("cursor")),
			})
		}),
	}
}

func (p *Program) expiringCommand() *cli.Command {
	return &cli.Command{
		Name: "expiring", Usage: "what will soon be removed from its store for good",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "within", Value: "7d", Usage: "how soon, such as 36h, 7d or 2w"},
			&cli.IntFlag{Name: "limit", Value: 50, Usage: "how many at most"},
			&cli.StringFlag{Name: "cursor", Usage: "go on where an earlier page ended"},
			jsonFlag(),
		},
		Action: p.client(0, 0, "no words", func(ctx context.Context, s *session, c *cli.Command, _ []string) error {
			within, err := typedtime.ParseAge(c.String("within"))
			if err != nil {
				return usage("%w", err)
			}
			before, limit, sort := s.Now().Add(within), int(c.Int("limit")), api.SortExpires
			return s.find(ctx, api.FindCopiesParams{ExpiresBefore: &before, Sort: &sort, Limit: &limit, Cursor: set(c.String("cursor"))})
		}),
	}
}

func (s *session) find(ctx context.Context, params api.FindCopiesParams) error {
	response, err := s.api.FindCopies(ctx, &params)
	found, err := shown[api.CopyList](s, response, err)
	if err != nil {
		return err
	}
	if len(found.Copies) == 0 {
		if !s.json {
			fmt.Fprintln(
				s.Stderr,
				"Nothing was found. Next: try fewer letters or filters, survey again (humble-rewind survey --wait), or add --records "+
					"for what is known by record alone.",
			)
		}
		return silent(ExitNothing)
	}
	if !s.json {
		s.showCopies(found)
	}
	return nil
}

func (s *session) showCopies(found api.CopyList) {
	t := table{
		head:  []string{"COPY", "STATE", "FOUND IN", "WHEN", "EXPIRES", "PERSON", "SIZE", "ORIGINAL PLACE"},
		right: map[int]bool{6: true},
	}
	var remarks []string
	for _, c := range found.Copies {
		where := quoted(c.Place)
		if !c.OriginKnown {
			where = "(unknown; it lies at " + where + ")"
			if c.Claimed != nil {
				where = "(only claimed: " + quoted(*c.Claimed) + "; it lies at " + quoted(c.Place) + ")"
			}
		}
		if c.Type == api.EntryTypeFolder {
			where += " (folder)"
		}
		if c.Source.Drive != nil {
			where += " (drive " + *c.Source.Drive + ")"
		}
		if c.ItemOf != nil {
			where += " (in folder " + *c.ItemOf + ")"
		}
		if c.Sealed != nil {
			where += " (part of " + quotePath(c.Sealed.Place.Path) + ", which comes back whole)"
		}
		expires := s.until(c.ExpiresAt)
		if !c.Readable {
			expires = "gone"
		}
		bytes := "—"
		if c.Size != nil {
			bytes = size(*c.Size)
		}
		when := "deleted " + s.at(c.GoneAt)
		switch {
		case c.GoneAt != nil:
		case c.WrittenAt != nil:
			when = "written " + s.at(c.WrittenAt)
		default:
			when = "seen " + s.at(&c.LastSeenAt)
		}
		if c.Intact != nil {
			remarks = append(remarks, c.Id+": "+intactWords(*c.Intact))
		}
		t.add(c.Id, string(c.State)+conditionWord(&c.Condition.State), c.Source.Kind, when, expires, dash(text(c.Person)), bytes, where)
		for _, note := range c.Notes {
			remarks = append(remarks, c.Id+": "+note)
		}
	}
	t.print(s.Stdout)
	for _, remark := range remarks {
		fmt.Fprintln(s.Stdout, "  "+remark)
	}
	total := count(int64(found.Total), "copy", "copies")
	if !found.TotalExact {
		total = "more than " + total
	}
	fmt.Fprintf(s.Stdout, "%d of %s. %s\n", len(found.Copies), total, s.zoneLine())
	if found.Next != nil {
		fmt.Fprintf(s.Stdout, "Next page: --cursor %s\n", *found.Next)
	}
}

// yesNo reads an option that is yes or no; nil where it was not given.
func yesNo(c *cli.Command, name string) (*bool, error) {
	switch word := c.String(name); word {
	case "":
		return nil, nil
	case "yes", "no":
		yes := word == "yes"
		return &yes, nil
	default:
		return nil, usage("--%s is yes or no, not %q", name, word)
	}
}

// intactWords says how much of a trace is intact.
func intactWords(i api.Intact) string {
	share := fmt.Sprintf("%.1f %% of its blocks", 100*i.Share)
	if i.State == api.IntactStateInPart && i.Share == 0 {
		return "Nobody has its blocks now, but nothing is promised of them: what lies there is likely something else."
	}
	switch i.State {
	case api.IntactStateWhole:
		return "All of its blocks are known and nobody else's."
	case api.IntactStateIfInOnePiece:
		return "Where it begins is known, and all behind that is free: it is whole if it lies in one piece."
	case api.IntactStateInPart:
		return share + " are still its own; the rest was given to others."
	case api.IntactStateUnread:
		return "The drive could not read some of it; " + share + " are left."
	case api.IntactStateWiped:
		return "There are only zeros where it was: the drive discarded it."
	}
	return "All of its blocks were given to others; only this record is left."
}

// bytesOf reads an option that is a size; nil where it was not given.
func bytesOf(c *cli.Command, name string) (*int64, error) {
	if c.String(name) == "" {
		return nil, nil
	}
	bytes, err := humanize.ParseBytes(c.String(name))
	if err != nil || bytes > 1<<62 {
		return nil, usage("--%s %s is not a size; write it like 50KiB", name, place.Quote(c.String(name)))
	}
	size := int64(bytes)
	return &size, nil
}
