package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
)

const trashItems = 100_000

func surveys(ctx context.Context, binary, dir string) ([]row, error) {
	say("making a trash of %d items", trashItems)
	root := filepath.Join(dir, "surveyed")
	home := filepath.Join(root, "home/ines")
	if err := makeTrash(home, trashItems); err != nil {
		return nil, err
	}
	defer os.RemoveAll(root)
	find := fmt.Sprintf(`find %s -printf '%%p %%y %%s %%T@ %%C@ %%i %%U %%G %%m\n' >/dev/null`, home)
	if _, err := shell(ctx, find); err != nil { // warms both
		return nil, err
	}
	var first, repeat, finds []time.Duration
	var firstPeak, repeatPeak string
	for n := range 3 {
		say("survey %d", n+1)
		s, err := start(ctx, binary, filepath.Join(dir, fmt.Sprint("survey-data-", n)))
		if err != nil {
			return nil, err
		}
		if err := errors.Join(s.addMachine(ctx, "front-office", root), s.addTrash(ctx, "front-office", "/home/ines")); err != nil {
			return nil, err
		}
		s.peak()
		for _, into := range []*[]time.Duration{&first, &repeat} {
			took, err := shell(ctx, find)
			if err != nil {
				return nil, err
			}
			finds = append(finds, took)
			took, err = timed(func() error { _, err := s.survey(ctx); return err })
			if err != nil {
				return nil, err
			}
			*into = append(*into, took)
			if into == &first {
				firstPeak = s.peak()
			} else {
				repeatPeak = s.peak()
			}
		}
		if err := s.stop(); err != nil {
			return nil, err
		}
	}
	f := median(finds)
	var reads []time.Duration
	for range 3 {
		took, err := shell(ctx, find+fmt.Sprintf(` && find %s/.local/share/Trash/info -type f -exec cat {} + >/dev/null`, home))
		if err != nil {
			return nil, err
		}
		reads = append(reads, took)
	}
	return []row{
		{
			"first survey of a trash of 100,000 items, every name searchable",
			"`find -printf` of the same fields",
			median(first),
			f,
			"—",
			firstPeak,
		},
		{
			"the same, whose 100,000 records have to be read",
			"that `find` and `cat` of the records",
			median(first),
			median(reads),
			"≤ 0.8×",
			firstPeak,
		},
		{"repeat survey, nothing changed", "the same `find`", median(repeat), f, "≤ 0.8×", repeatPeak},
	}, nil
}

const sightings = 1_000_000

// fill records a million made-up sightings straight into a catalogue and writes their paths to a list.
func fill(ctx context.Context, data, machine, list string) error {
	c, err := catalogue.Open(ctx, data)
	if err != nil {
		return err
	}
	defer c.Close()
	if _, err := c.AddMachine(ctx, catalogue.Machine{Name: "front-office", At: machine, Zone: "UTC", RetentionDays: 30,
		Notes: []string{}}); err != nil {
		return err
	}
	src, err := c.AddSource(ctx, catalogue.Source{Machine: "front-office", AtMachine: "front-office", Kind: "trash", At: "/home/ines"})
	if err != nil {
		return err
	}
	survey := c.Survey(ctx, src, time.Now(), catalogue.Following{Owner: func(string, entry.Maybe[int64]) string { return "ines" }})
	defer survey.Abandon()
	f, err := os.Create(list)
	if err != nil {
		return err
	}
	defer f.Close()
	w := bufio.NewWriter(f)
	what := []string{"Quote", "Order", "Delivery note", "Offsets", "Lines", "Mould", "Ledger", "Minutes", "Photograph", "Timber list"}
	boats := []string{"Marsh Wren", "Grey Heron", "Little Tern", "Sea Campion", "Sanderling", "Turnstone", "Samphire", "Curlew"}
	ext := []string{"odt", "ods", "csv", "svg", "jpg", "txt"}
	now := time.Now()
	var all []sighting.Sighting
	for i := range sightings {
		k := i * 7919 % sightings
		name := fmt.Sprintf("%s %s %06d.%s", what[k%len(what)], boats[k/10%len(boats)], k, ext[k/80%len(ext)])
		path := fmt.Sprintf("/home/ines/Documents/%s/%03d/%s", boats[k%len(boats)], k%997, name)
		if _, err := fmt.Fprintln(w, path); err != nil {
			return err
		}
		all = append(all, sighting.Sighting{At: sighting.Locator{Dir: ".local/share/Trash/files", Name: name}, Mark: entry.Mark{Size: 1},
			Origin: path, Type: entry.File, Size: int64(k % 100_000), Written: now.Add(-time.Duration(k) * time.Minute),
			GoneAt: now.Add(-time.Duration(i) * time.Second), Readable: true})
	}
	slices.SortFunc(all, func(a, b sighting.Sighting) int { return strings.Compare(a.At.Name, b.At.Name) })
	for _, s := range all {
		if err := survey.Sight(s); err != nil {
			return err
		}
	}
	if _, err := survey.End(nil); err != nil {
		return err
	}
	return w.Flush()
}

func searches(ctx context.Context, binary, dir string) ([]row, error) {
	say("recording %d sightings", sightings)
	data, machine, list := filepath.Join(dir, "search-data"), filepath.Join(dir, "search-machine"), filepath.Join(dir, "paths.txt")
	for _, d := range []string{data, machine} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, err
		}
	}
	took, err := timed(func() error { return fill(ctx, data, machine, list) })
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(filepath.Join(data, "catalogue.sqlite"))
	if err != nil {
		return nil, err
	}
	say("recorded in %s; the catalogue holds %d MiB", short(took), info.Size()>>20)
	s, err := start(ctx, binary, data)
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.stop() }()
	s.peak()
	var rows []row
	for _, q := range []struct{ name, bar, words, alone string }{
		{"rare words", "≤ 0.03×", "campion 0042", "campion.*0042"},
		{"common words", "≤ 0.05×", "marsh", "marsh"},
		{"two letters", "≤ 0.1×", "tu", "tu"},
		{"two letters that nothing has", "—", "zq", "zq"},
	} {
		r, err := search(ctx, s, list, q.words, q.alone)
		if err != nil {
			return nil, err
		}
		r.work = fmt.Sprintf("`find %s` (%s) among 1,000,000 sightings, p95 through the API", q.words, q.name)
		r.bar, r.peak = q.bar, s.peak()
		rows = append(rows, r)
	}
	return rows, nil
}

func search(ctx context.Context, s *server, list, words, pattern string) (row, error) {
	say("searching for %s", words)
	// Through a pipe, because grep stops at its first match where it sees that nobody reads its output.
	grep := fmt.Sprintf("grep -i -e '%s' %s | cat >/dev/null", pattern, list)
	var ours, theirs []time.Duration
	for n := range 40 {
		took, err := timed(func() error {
			r, err := s.FindCopiesWithResponse(ctx, &api.FindCopiesParams{Words: &words})
			if err == nil && r.StatusCode() != http.StatusOK {
				err = fmt.Errorf("find: %s", r.Body)
			}
			return err
		})
		if err != nil {
			return row{}, err
		}
		ours = append(ours, took)
		if n%8 == 0 {
			took, err := shell(ctx, grep)
			if err != nil {
				return row{}, err
			}
			theirs = append(theirs, took)
		}
	}
	slices.Sort(ours)
	return row{ours: ours[len(ours)*95/100], theirs: median(theirs), yardstick: "`grep -i` over the list of paths"}, nil
}

const smallFiles = 10_000

// bringBacks uses the host itself as the machine, so that a second file system is at hand: /dev/shm.
func bringBacks(ctx context.Context, binary, dir string) ([]row, error) {
	shm, err := os.MkdirTemp("/dev/shm", "humble-rewind-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(shm)
	var rows []row
	for _, across := range []bool{false, true} {
		var ours, theirs []time.Duration
		var peak string
		for n := range 3 {
			base := filepath.Join(dir, fmt.Sprintf("drive-%t-%d", across, n))
			store := base
			work := "bring back 10,000 small files within a file system (renamed, digest taken, synced)"
			bar := "≤ 0.8×"
			if across {
				bar = "≤ 1.2×"
				store = filepath.Join(shm, fmt.Sprint(n))
				work = "bring back 10,000 small files across file systems (copied, read back, compared, synced)"
			}
			say("%s, run %d", work, n+1)
			can := filepath.Join(store, ".Trash-0")
			if err := fillCan(can, smallFiles, func(name string) string { return "Papers/" + name }); err != nil {
				return nil, err
			}
			if _, err := shell(ctx, fmt.Sprintf("mkdir -p %[2]s && cd %[1]s/files && sha256sum * >%[2]s.sums", can, base)); err != nil {
				return nil, err
			}
			// Only the copy and the check cannot be avoided; what they are checked against was made before.
			took, err := shell(
				ctx,
				fmt.Sprintf("cp -a %[1]s/files %[2]s-copied && cd %[2]s-copied && sha256sum -c --quiet %[2]s.sums", can, base),
			)
			if err != nil {
				return nil, err
			}
			theirs = append(theirs, took)
			took, peak, err = bringAll(
				ctx,
				binary,
				filepath.Join(dir, fmt.Sprintf("back-data-%t-%d", across, n)),
				store,
				filepath.Join(base, "Back"),
			)
			if err != nil {
				return nil, err
			}
			ours = append(ours, took)
			rows = slices.DeleteFunc(rows, func(r row) bool { return r.work == work })
			rows = append(
				rows,
				row{work, "`cp -a` then `sha256sum -c`", median(slices.Clone(ours)), median(slices.Clone(theirs)), bar, peak},
			)
		}
	}
	return rows, nil
}

func bringAll(ctx context.Context, binary, data, store, to string) (time.Duration, string, error) {
	s, err := start(ctx, binary, data)
	if err != nil {
		return 0, "", err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(s.addMachine(ctx, "host", "/"), s.addTrash(ctx, "host", store)); err != nil {
		return 0, "", err
	}
	if _, err := s.survey(ctx); err != nil {
		return 0, "", err
	}
	var ids []string
	limit := 1000
	for cursor := (*string)(nil); ; {
		page, err := s.FindCopiesWithResponse(ctx, &api.FindCopiesParams{Limit: &limit, Cursor: cursor})
		if err != nil {
			return 0, "", err
		}
		for _, c := range page.JSON200.Copies {
			ids = append(ids, c.Id)
		}
		if cursor = page.JSON200.Next; cursor == nil {
			break
		}
	}
	s.peak()
	took, err := timed(func() error {
		r, err := s.BringBackWithResponse(ctx, api.NewBringBack{Copies: &ids, To: &api.Destination{Machine: "host", Path: to + "/"}})
		if err != nil {
			return err
		}
		j, err := s.wait(ctx, r.JSON202, r.Body)
		if err == nil && int(j.Done) != smallFiles {
			err = fmt.Errorf("brought back %d of %d", j.Done, smallFiles)
		}
		return err
	})
	return took, s.peak(), err
}
