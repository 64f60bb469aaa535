package corpus

import (
	"fmt"
	"io"
	"text/tabwriter"

	"humble-rewind/internal/core/advice"
)

// counts are how many losses of a family each chooser answers right.
type counts struct{ all, right, newest, before int }

// writeTable writes, family by family, the shares answered right: by the advice, by taking the newest copy, and by taking the
// newest copy before the file was last right.
func writeTable(out io.Writer, outcomes []Outcome) error {
	var families []string
	by := map[string]*counts{}
	total := counts{}
	for _, o := range outcomes {
		k := by[o.Case.Family]
		if k == nil {
			k = &counts{}
			by[o.Case.Family] = k
			families = append(families, o.Case.Family)
		}
		for _, k := range []*counts{k, &total} {
			k.all++
			k.right += one(o.Right)
			k.newest += one(o.Newest)
			k.before += one(o.Before)
		}
	}
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(w, "LOSSES\tADVICE\tNEWEST\tNEWEST BEFORE IT WAS RIGHT\t  FAMILY")
	for _, f := range families {
		by[f].print(w, f)
	}
	total.print(w, "all")
	if err := w.Flush(); err != nil {
		return err
	}
	return writeSure(out, outcomes)
}

// writeSure writes how many of the recommendations are right, by how sure they say they are, and what is said where nothing is recommended.
func writeSure(out io.Writer, outcomes []Outcome) error {
	all, right := map[advice.Sure]int{}, map[advice.Sure]int{}
	for _, o := range outcomes {
		sure := advice.Sure("nothing recommended")
		if r := o.Answer.Recommended; r != nil {
			sure = r.Sure
		}
		all[sure]++
		right[sure] += one(o.Right)
	}
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(w, "\nLOSSES\tRIGHT\t  HOW SURE")
	for _, sure := range []advice.Sure{advice.Certain, advice.Likely, advice.Open, "nothing recommended"} {
		if all[sure] > 0 {
			fmt.Fprintf(w, "%d\t%d %%\t  %s\n", all[sure], 100*right[sure]/all[sure], sure)
		}
	}
	return w.Flush()
}

func one(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (k *counts) print(w io.Writer, name string) {
	share := func(n int) string { return fmt.Sprintf("%d %%", 100*n/k.all) }
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t  %s\n", k.all, share(k.right), share(k.newest), share(k.before), name)
}
