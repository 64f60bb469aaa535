package cli

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
)

func (p *Program) receiptCommand() *cli.Command {
	return &cli.Command{Name: "receipt", Usage: "what was brought back, and undoing it", Commands: []*cli.Command{
		{
			Name: "list", Usage: "list them, newest first",
			Flags: []cli.Flag{
				&cli.IntFlag{Name: "limit", Value: 50, Usage: "how many at most"},
				&cli.StringFlag{Name: "cursor", Usage: "go on where an earlier page ended"},
				jsonFlag(),
			},
			Action: p.client(0, 0, "no words", receiptList),
		},
		{
			Name:      "show",
			Usage:     "one receipt with every item",
			ArgsUsage: "ID",
			Flags:     []cli.Flag{jsonFlag()},
			Action:    p.client(1, 1, "a receipt's id, such as r3", receiptShow),
		},
		{
			Name:      "undo",
			Usage:     "put everything back as it was",
			ArgsUsage: "ID",
			Flags:     []cli.Flag{jsonFlag()},
			Action:    p.client(1, 1, "a receipt's id, such as r3", receiptUndo),
		},
	}}
}

func receiptList(ctx context.Context, s *session, c *cli.Command, args []string) error {
	limit := int(c.Int("limit"))
	response, err := s.api.ListReceipts(ctx, &api.ListReceiptsParams{Limit: &limit, Cursor: set(c.String("cursor"))})
	all, err := shown[api.ReceiptList](s, response, err)
	if err != nil {
		return err
	}
	if len(all.Receipts) == 0 {
		if !s.json {
			fmt.Fprintln(s.Stdout, "Nothing was brought back yet.")
		}
		return silent(ExitNothing)
	}
	if s.json {
		return nil
	}
	t := table{head: []string{"RECEIPT", "AT", "BY", "ITEMS", "ARRIVED", "STATE"}, right: map[int]bool{3: true, 4: true}}
	for _, r := range all.Receipts {
		t.add(r.Id, s.at(&r.At), r.By, fmt.Sprint(r.Count), fmt.Sprint(r.Done), receiptState(r))
	}
	t.print(s.Stdout)
	fmt.Fprintln(s.Stdout, s.zoneLine())
	if all.Next != nil {
		fmt.Fprintf(s.Stdout, "Next page: --cursor %s\n", *all.Next)
	}
	return nil
}

func receiptState(r api.Receipt) string {
	switch r.State {
	case api.ReceiptStateOpen:
		return "being carried out"
	case api.ReceiptStatePart:
		return "done in part"
	case api.ReceiptStateUndoing:
		return "being undone"
	}
	return string(r.State)
}

func receiptShow(ctx context.Context, s *session, c *cli.Command, args []string) error {
	return s.receipt(ctx, args[0])
}

// wholeReceipt reads a receipt with all its items, page after page.
func (s *session) wholeReceipt(ctx context.Context, id string) (r api.Receipt, err error) {
	for cursor := (*string)(nil); ; cursor = r.Next {
		response, err := s.api.GetReceipt(ctx, id, &api.GetReceiptParams{Cursor: cursor})
		body, err := s.body(response, err)
		if err != nil {
			return r, err
		}
		var page api.Receipt
		if err := json.Unmarshal(body, &page); err != nil {
			return r, err
		}
		page.Items = append(r.Items, page.Items...)
		if r = page; r.Next == nil {
			return r, nil
		}
	}
}

func (s *session) receipt(ctx context.Context, id string) error {
	r, err := s.wholeReceipt(ctx, id)
	if err != nil {
		return err
	}
	if s.json {
		return json.NewEncoder(s.Stdout).Encode(r)
	}
	fmt.Fprintf(
		s.Stdout,
		"Receipt %s of %s by %s: %s, %d of %s arrived.",
		r.Id,
		s.at(&r.At),
		r.By,
		receiptState(r),
		r.Done,
		count(int64(r.Count), "item", "items"),
	)
	if r.UndoneAt != nil {
		fmt.Fprintf(s.Stdout, " Undone %s by %s.", s.at(r.UndoneAt), text(r.UndoneBy))
	}
	fmt.Fprintln(s.Stdout)
	t := table{head: []string{"COPY", "OUTCOME", "SIZE", "DIGEST", "TO"}, right: map[int]bool{2: true}}
	var remarks []string
	for _, i := range r.Items {
		digest := "—"
		if i.Sha256 != nil {
			digest = (*i.Sha256)[:12] + "…"
		}
		to := quoted(i.To)
		if i.To.Machine == "" {
			to = "—"
		}
		t.add(i.Copy, string(i.Outcome), size(i.Size), digest, to)
		if i.Note != "" {
			remarks = append(remarks, i.Copy+": "+i.Note)
		}
		if i.SetAside != nil {
			remarks = append(
				remarks,
				fmt.Sprintf(
					"%s: set aside what stood there, a %s of %s; undo puts it back",
					i.Copy,
					i.SetAside.Type,
					size(i.SetAside.Size),
				),
			)
		}
	}
	t.print(s.Stdout)
	for _, remark := range remarks {
		fmt.Fprintln(s.Stdout, "  "+remark)
	}
	fmt.Fprintln(s.Stdout, s.zoneLine())
	if r.State == api.ReceiptStateDone || r.State == api.ReceiptStatePart {
		fmt.Fprintf(s.Stdout, "Undo: humble-rewind receipt undo %s\n", r.Id)
	}
	return nil
}

func receiptUndo(ctx context.Context, s *session, c *cli.Command, args []string) error {
	response, err := s.api.UndoReceipt(ctx, args[0])
	j, err := answer[api.Job](s, response, err)
	if err != nil {
		return err
	}
	if j, err = s.follow(ctx, j); err != nil {
		return err
	}
	if err := s.receipt(ctx, args[0]); err != nil {
		return err
	}
	return jobEnd(j)
}
