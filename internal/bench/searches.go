package main

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
)

var (
	kinds = []string{"Quote", "Order", "Delivery note", "Offsets", "Lines", "Mould", "Ledger", "Minutes", "Photograph", "Timber list"}
	boats = []string{"Marsh Wren", "Grey Heron", "Little Tern", "Sea Campion", "Sanderling", "Turnstone", "Samphire", "Curlew"}
	ends  = []string{"odt", "ods", "csv", "svg", "jpg", "txt"}
)

// named is the name of the kth of many made-up files.
func named(k int) string {
	return fmt.Sprintf("%s %s %07d.%s", kinds[k%len(kinds)], boats[k/10%len(boats)], k, ends[k/80%len(ends)])
}

// filled is a catalogue whose sightings were recorded straight into it, with the list of their paths.
type filled struct {
	data, machine, list string
	count               int
	one                 string // the path of one of them
	deleted             string // the name of what was deleted last
}

// fill records n made-up sightings: nine of ten of a person's own files, a hundred a folder, the others in a trash.
func (b *bench) fill(ctx context.Context, name string, n int) (filled, error) {
	f := filled{data: b.path(name + "-data"), machine: b.path(name + "-machine"), list: b.path(name + "-paths"), count: n}
	for _, dir := range []string{f.data, f.machine} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return f, err
		}
	}
	c, err := catalogue.Open(ctx, f.data)
	if err != nil {
		return f, err
	}
	defer c.Close()
	if _, err := c.Machines.Add(ctx, catalogue.Machine{Name: "front-office", At: f.machine, Zone: "UTC", RetentionDays: 30,
		Notes: []string{}}); err != nil {
		return f, err
	}
	out, err := os.Create(f.list)
	if err != nil {
		return f, err
	}
	defer out.Close()
	list := bufio.NewWriterSize(out, 1<<20)
	now := time.Now()
	thrown := n / 10
	f.deleted = named(n - thrown)
	own := sightings(n-thrown, 100, func(i int) sighting.Sighting {
		dir := fmt.Sprintf("Documents/%04d/%s", i/10_000, fmt.Sprintf("%02d %s", i/100%100, boats[i/100%len(boats)]))
		return sighting.Sighting{At: sighting.Locator{Dir: dir, Name: named(i)}, Origin: "/home/ines/" + dir + "/" + named(i)}
	})
	gone := sightings(thrown, thrown, func(i int) sighting.Sighting {
		k := n - thrown + i*7919%max(1, thrown)
		return sighting.Sighting{At: sighting.Locator{Dir: ".local/share/Trash/files", Name: named(k)},
			Origin: fmt.Sprintf("/home/ines/Documents/%s/%03d/%s", boats[k%len(boats)], k%997, named(k)),
			GoneAt: now.Add(-time.Duration(i) * time.Second)}
	})
	for _, store := range []struct {
		kind string
		all  func(yield func(sighting.Sighting) bool)
	}{{"live", own}, {"trash", gone}} {
		src, err := c.Sources.Add(ctx, catalogue.Source{Source: copies.Source{Machine: "front-office", AtMachine: "front-office", Kind: store.kind, At: "/home/ines"}})
		if err != nil {
			return f, err
		}
		survey := c.Surveys.Begin(ctx, src, now, catalogue.Following{Owner: func(string, entry.Maybe[int64]) string { return "ines" }})
		k := 0
		for s := range store.all {
			k++
			f.one = s.Origin
			s.Mark, s.Type, s.Size, s.Readable = entry.Mark{Type: entry.File, Size: int64(k % 100_000)}, entry.File, int64(k%100_000), true
			s.Written = now.Add(-time.Duration(k*7919%n) * time.Second)
			if err := survey.Sight(s); err != nil {
				survey.Abandon()
				return f, err
			}
			if _, err := fmt.Fprintln(list, s.Origin); err != nil {
				survey.Abandon()
				return f, err
			}
		}
		if _, err := survey.End(nil); err != nil {
			return f, err
		}
	}
	return f, list.Flush()
}

// huge is a catalogue with as many sightings as there are in this run, made once.
func (b *bench) huge(ctx context.Context) (filled, error) {
	if b.most.count > 0 {
		return b.most, nil
	}
	n := b.of(5_000_000)
	say("recording %d sightings", n)
	begun := time.Now()
	f, err := b.fill(ctx, "huge", n)
	if err == nil {
		b.most = f
		say("recorded in %s", time.Since(begun).Round(time.Second))
	}
	return f, err
}

// sightings yields n sightings, those of each folder in the order of their names.
func sightings(n, folder int, of func(i int) sighting.Sighting) func(yield func(sighting.Sighting) bool) {
	return func(yield func(sighting.Sighting) bool) {
		for first := 0; first < n; first += folder {
			var all []sighting.Sighting
			for i := first; i < min(n, first+folder); i++ {
				all = append(all, of(i))
			}
			slices.SortFunc(all, func(a, b sighting.Sighting) int { return strings.Compare(a.At.Name, b.At.Name) })
			for _, s := range all {
				if !yield(s) {
					return
				}
			}
		}
	}
}

// searches measures finding by parts of names.
func (b *bench) searches(ctx context.Context) error {
	f, err := b.huge(ctx)
	if err != nil {
		return err
	}
	n := f.count
	s, err := b.start(ctx, f.data)
	if err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	rare := fmt.Sprintf("campion %07d", 34*n/100/80*80+30)
	for _, q := range []struct {
		name, words, pattern string
		bar                  float64
	}{
		{"rare words", rare, strings.ReplaceAll(rare, " ", ".*"), 0.03},
		{"common words", "marsh", "marsh", 0.05},
		{"two letters", "tu", "tu", 0.1},
		{"two letters that nothing has", "zq", "zq", 0.1},
	} {
		say("searching for %s", q.words)
		r := row{work: fmt.Sprintf("`find %s` (%s) among %d sightings, p95 through the API", q.words, q.name, n),
			yardstick: "`grep -i` over the list of paths", bar: q.bar}
		// Through a pipe, because grep stops at its first match where it sees that nobody reads its output.
		for range rounds {
			theirs, err := shell(ctx, "grep -i -e '%s' %s | cat >/dev/null", q.pattern, f.list)
			if err != nil {
				return err
			}
			r.theirs = append(r.theirs, theirs)
		}
		there, err := number(ctx, "grep -ic -e '%s' %s || true", q.pattern, f.list)
		if err != nil {
			return err
		}
		if err := r.answers(s, func() error { return s.finds(ctx, q.words, min(there, 50)) }); err != nil {
			return err
		}
		b.rows = append(b.rows, r)
	}
	return nil
}
