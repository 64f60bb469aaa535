// Command table plays the corpus and prints, family by family, how many losses are answered right: by the advice, by taking
// the newest copy, and by taking the newest copy before the file was last right.
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"text/tabwriter"
	_ "time/tzdata"

	"humble-rewind/internal/corpus"
)

type counts struct{ all, right, newest, before int }

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "corpus:", err)
		os.Exit(1)
	}
}

func run() error {
	dir, err := os.MkdirTemp("", "corpus")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	families := []string{}
	by := map[string]*counts{}
	total := counts{}
	var wrong []string
	for n, c := range corpus.All() {
		at := filepath.Join(dir, fmt.Sprint(n))
		if err := os.Mkdir(at, 0o755); err != nil {
			return err
		}
		o, err := corpus.Run(context.Background(), at, c)
		if err != nil {
			return err
		}
		k := by[c.Family]
		if k == nil {
			k = &counts{}
			by[c.Family] = k
			families = append(families, c.Family)
		}
		for _, k := range []*counts{k, &total} {
			k.all++
			k.right += one(o.Right)
			k.newest += one(o.Newest)
			k.before += one(o.Before)
		}
		if !o.Right {
			wrong = append(wrong, fmt.Sprintf("%s, %s: got %s", c.Family, c.Variant, o.Got))
		}
		if err := os.RemoveAll(at); err != nil {
			return err
		}
	}
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(w, "LOSSES\tADVICE\tNEWEST\tNEWEST BEFORE IT WAS RIGHT\t  FAMILY")
	for _, f := range families {
		by[f].print(w, f)
	}
	total.print(w, "all")
	if err := w.Flush(); err != nil {
		return err
	}
	for _, line := range wrong {
		fmt.Println("wrong:", line)
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%d of %d losses were answered wrongly", len(wrong), total.all)
	}
	return nil
}

func one(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (k *counts) print(w *tabwriter.Writer, name string) {
	share := func(n int) string { return fmt.Sprintf("%d %%", 100*n/k.all) }
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t  %s\n", k.all, share(k.right), share(k.newest), share(k.before), name)
}
