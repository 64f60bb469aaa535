package spans

import (
	"context"
	"path/filepath"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/catalogue/names"
	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/core/principal"
)

// records are the room with what stands below it, as the hall puts them together.
type records struct {
	*Spans
	Copies   Copies
	Search   Search
	Machines *rows.Machines
	Sources  *rows.Sources
	f        *file.File
}

func open(ctx context.Context, dir string) (*records, error) {
	s := Make()
	f, err := file.Open(ctx, filepath.Join(dir, file.Name), s.Load, RewriteMarks, MoveSpans, rows.BatchItems, rows.MachinesOfReceipts, CountSteps, names.BySource(SourceOf))
	if err != nil {
		return nil, err
	}
	all, search := s.View(principal.Everything())
	c := &records{s, all, search, rows.NewMachines(f, s.Changed), rows.NewSources(f, s.Changed), f}
	s.Open(ctx, f, c.Sources, rows.NewReceipts(f))
	return c, nil
}

func (c *records) Close() error {
	c.Spans.Close()
	return c.f.Close()
}
