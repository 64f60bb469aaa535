package corpus

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"

	"humble-rewind/internal/choosing"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// FolderOutcome is what came of a case of a whole folder, file by file.
type FolderOutcome struct {
	Case   FolderCase
	Answer choosing.Answer
	Got    map[string][]byte // what would come back
	// Right are files that come back as they should, or that rightly do not; Harmful are those that would bring back something that is
	// not right, Unanswered those that should come back and do not, and Overclaimed those that are wrong and called certain.
	Right                            int
	Harmful, Unanswered, Overclaimed []string
}

// wholeFolders is the family as which folders are played: their snapshots link what did not change, as they are many files.
const wholeFolders = "folders"

// RunFolder plays a case out in an empty folder and judges the answer.
func RunFolder(ctx context.Context, dir string, c FolderCase) (FolderOutcome, error) {
	out := FolderOutcome{Case: c, Got: map[string][]byte{}}
	o, h, reader, err := ask(ctx, dir, Case{Family: wholeFolders, Variant: c.Variant, Play: c.Play, Ask: c.Ask, Path: c.Path})
	out.Answer = o.Answer
	if err != nil {
		return out, err
	}
	defer h.close()
	if out.Answer.Folder == nil {
		return out, fmt.Errorf("%s was not taken for a folder", c.Path)
	}
	if whole := out.Answer.Folder.Whole; whole != nil {
		err = out.whole(h, reader, whole.ID)
	} else {
		for _, e := range out.Answer.Folder.Entries {
			if e.Copy != 0 && err == nil {
				out.Got[e.Path], err = contentOf(h, reader, e.Copy)
			}
		}
	}
	out.judge()
	return out, err
}

// whole reads a folder that comes back as one item.
func (o *FolderOutcome) whole(h *History, reader *contents.Reader, id copies.ID) error {
	c, err := h.records.Everything().Copies.ByID(h.ctx, id)
	if err != nil {
		return err
	}
	if !o.Answer.Folder.WholeAt.IsZero() {
		return nil // by the case itself
	}
	open, err := reader.Open(h.ctx, c)
	if err != nil {
		return err
	}
	defer open.Close()
	return o.walk(h.ctx, open.Folder, "")
}

func (o *FolderOutcome) walk(ctx context.Context, folder reach.Tree, dir string) error {
	entries, err := folder.List(ctx)
	if err != nil {
		return err
	}
	for _, e := range entries {
		path := strings.TrimPrefix(dir+"/"+e.Name, "/")
		if e.Type == entry.Folder {
			inside, err := folder.Enter(ctx, e.Name)
			if err != nil {
				return err
			}
			if err := o.walk(ctx, inside, path); err != nil {
				return err
			}
			_ = inside.Close()
			continue
		}
		c, err := source.OpenEntry(ctx, folder, e.Name)
		if err != nil {
			return err
		}
		s, err := c.File.Stream(ctx)
		if err != nil {
			return err
		}
		o.Got[path], err = io.ReadAll(s)
		_ = s.Close()
		c.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func (o *FolderOutcome) judge() {
	if o.Case.Want == nil {
		return
	}
	certain := map[string]bool{}
	for _, e := range o.Answer.Folder.Entries {
		certain[e.Path] = e.Part == advice.PartCertain
	}
	paths := slices.Sorted(maps.Keys(o.Case.Want))
	for path := range o.Got {
		if _, ok := o.Case.Want[path]; !ok {
			paths = append(paths, path)
		}
	}
	for _, path := range paths {
		want, wanted := o.Case.Want[path]
		got, comes := o.Got[path]
		switch {
		case wanted && comes && bytes.Equal(want, got):
			o.Right++
		case comes:
			o.Harmful = append(o.Harmful, path)
			if certain[path] || o.Answer.Folder.Whole != nil {
				o.Overclaimed = append(o.Overclaimed, path)
			}
		default:
			o.Unanswered = append(o.Unanswered, path)
		}
	}
	for _, path := range o.Case.Missing {
		if !slices.ContainsFunc(o.Answer.Folder.Entries, func(e advice.FolderEntry) bool { return e.Path == path && e.Part == advice.PartMissing }) {
			o.Unanswered = append(o.Unanswered, path)
		} else {
			o.Right++
		}
	}
}

// wrong tells whether anything is not as it should be.
func (o *FolderOutcome) wrong() bool { return len(o.Harmful)+len(o.Unanswered) > 0 }

// writeFolderTable writes, family by family, what came of the files.
func writeFolderTable(out io.Writer, outcomes []FolderOutcome) error {
	type tally struct{ scenes, whole, right, harmful, unanswered, overclaimed int }
	var families []string
	by := map[string]*tally{}
	total := &tally{}
	for i := range outcomes {
		o := &outcomes[i]
		if by[o.Case.Family] == nil {
			by[o.Case.Family] = &tally{}
			families = append(families, o.Case.Family)
		}
		for _, t := range []*tally{by[o.Case.Family], total} {
			t.scenes++
			t.whole += one(!o.wrong())
			t.right += o.Right
			t.harmful += len(o.Harmful)
			t.unanswered += len(o.Unanswered)
			t.overclaimed += len(o.Overclaimed)
		}
	}
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(w, "SCENES\tRIGHT\tFILES RIGHT\tHARMFUL\tUNANSWERED\tWRONG AND CERTAIN\t  FAMILY")
	line := func(t *tally, name string) {
		fmt.Fprintf(w, "%d\t%d\t%d\t%d\t%d\t%d\t  %s\n", t.scenes, t.whole, t.right, t.harmful, t.unanswered, t.overclaimed, name)
	}
	for _, f := range families {
		line(by[f], f)
	}
	line(total, "all")
	return w.Flush()
}
