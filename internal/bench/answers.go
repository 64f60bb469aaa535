package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"humble-rewind/api"
)

const asked = 40 // times, where nineteen of twenty answers count

// answers measures nineteen of twenty answers, after one that reads what is not known yet.
func (r *row) answers(s *server, ask func() error) error {
	if err := ask(); err != nil {
		return err
	}
	all := make([]cost, asked)
	_, memory, err := s.measure(func() error {
		for n := range all {
			begun := time.Now()
			if err := ask(); err != nil {
				return err
			}
			all[n].clock = time.Since(begun)
		}
		return nil
	})
	r.ours, r.memory = []cost{p95(all)}, memory
	if r.most > 0 {
		r.limit = fmt.Sprintf("≤ %d ms: %s", r.most.Milliseconds(), met(r.ours[0].clock <= r.most))
	}
	return err
}

// layVersions lays a file with a hundred versions in each of ten stores of snapshots, from a moment on.
func layVersions(root string, first time.Time) error {
	for store := range 10 {
		for n := range 100 {
			at := first.AddDate(0, 0, n).Add(time.Duration(store) * time.Hour)
			path := filepath.Join(root, fmt.Sprintf("points%d", store), at.Format("2006-01-02T1504"), "home/ines/Quote.odt")
			written := at.Add(-time.Minute)
			if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, fmt.Appendf(nil, "version %d of %d\n", n,
				store), 0o644), os.Chtimes(path, written, written)); err != nil {
				return err
			}
		}
	}
	return nil
}

// trails measures the trail of a place with a thousand sightings in ten sources, and advice on it.
func (b *bench) trails(ctx context.Context) error {
	root := b.path("versions")
	first := time.Now().UTC().Truncate(time.Hour).AddDate(0, 0, -101)
	if err := layVersions(root, first); err != nil {
		return err
	}
	s, err := b.start(ctx, b.path("versions-data"))
	if err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	if err := s.addMachine(ctx, "front-office", root); err != nil {
		return err
	}
	for store := range 10 {
		if err := s.addSource(ctx, "front-office", "snapshots", fmt.Sprintf("/points%d", store)); err != nil {
			return err
		}
	}
	if err := s.survey(ctx, api.NewSurvey{}, 1000); err != nil {
		return err
	}
	const path = "/home/ines/Quote.odt"
	for _, told := range []struct {
		copies api.GetTrailParamsCopies
		work   string
	}{{api.GetTrailParamsCopiesMarks, "what its drawing needs"}, {api.GetTrailParamsCopiesWhole, "all of it"}} {
		trail := row{work: "trail of a place with 1,000 sightings in ten sources, " + told.work + ", p95 through the API", yardstick: "—",
			most: 35 * time.Millisecond}
		err := trail.answers(s, func() error {
			r, err := s.GetTrailWithResponse(ctx, &api.GetTrailParams{Machine: "front-office", Path: new(path), Copies: &told.copies})
			if err == nil && (r.JSON200 == nil || len(r.JSON200.Versions) != 1000) {
				err = fmt.Errorf("trail: %.300s", r.Body)
			}
			return err
		})
		if err != nil {
			return err
		}
		b.rows = append(b.rows, trail)
	}
	good := first.AddDate(0, 0, 50)
	advice := row{work: "advice on it, the same", yardstick: "—", most: 35 * time.Millisecond}
	err = advice.answers(s, func() error {
		r, err := s.AdviseWithResponse(ctx, api.NewAdvice{Place: api.Destination{Machine: "front-office", Path: path},
			Loss: api.LossOverwritten, GoodAt: &good})
		if err == nil && (r.JSON200 == nil || r.JSON200.Recommended == nil) {
			err = fmt.Errorf("advice: %.300s", r.Body)
		}
		return err
	})
	b.rows = append(b.rows, advice)
	if err != nil {
		return err
	}
	return b.leftovers(ctx, s, root, path)
}

// leftovers measures advice where ten thousand leftovers lie in the document's folder, some of them nameless.
func (b *bench) leftovers(ctx context.Context, s *server, root, path string) error {
	const nameless = 200
	n := b.of(10_000)
	home := filepath.Join(root, "home/ines")
	if err := os.MkdirAll(home, 0o755); err != nil {
		return err
	}
	for i := range n {
		name := fmt.Sprintf("Letter %d.odt~", i)
		if i < nameless {
			name = fmt.Sprintf("tmp%04x.tmp", i)
		}
		if err := os.WriteFile(filepath.Join(home, name), fmt.Appendf(nil, "version 99 of 9\nleftover %d\n", i), 0o644); err != nil {
			return err
		}
	}
	if err := errors.Join(s.addSource(ctx, "front-office", "strays", "/home"), s.survey(ctx, api.NewSurvey{}, n)); err != nil {
		return err
	}
	row := row{work: fmt.Sprintf("advice on it with %d leftovers in its folder, deleted, the same", n), yardstick: "—",
		most: 100 * time.Millisecond}
	err := row.answers(s, func() error {
		r, err := s.AdviseWithResponse(ctx, api.NewAdvice{Place: api.Destination{Machine: "front-office", Path: path}, Loss: api.LossDeleted})
		if err == nil && (r.JSON200 == nil || r.JSON200.Recommended == nil) {
			err = fmt.Errorf("advice: %.300s", r.Body)
		}
		return err
	})
	b.rows = append(b.rows, row)
	return err
}

// folders measures the plan for a folder as of a moment, and advice on one of which a third was rewritten within minutes.
func (b *bench) folders(ctx context.Context) error {
	files := b.of(100_000)
	say("making a folder of %d files, a third of them rewritten", files)
	root := b.path("folder")
	at := time.Now().UTC().Truncate(time.Hour).AddDate(0, 0, -3)
	snapped := filepath.Join(root, "big", at.Format("2006-01-02T1504"), "home/tomas/Drawings")
	if err := layTree(snapped, files, at.Add(-time.Hour), true); err != nil {
		return err
	}
	s, err := b.start(ctx, b.path("folder-data"))
	if err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(s.addMachine(ctx, "drawing-loft", root), s.addSource(ctx, "drawing-loft", "snapshots", "/big"),
		s.survey(ctx, api.NewSurvey{}, files)); err != nil {
		return err
	}
	whole := row{work: fmt.Sprintf("folder of %d files as of a moment, whole plan through the client", files),
		yardstick: "`find` of it", bar: 1.5}
	place := api.Destination{Machine: "drawing-loft", Path: "/home/tomas/Drawings"}
	asOf := at.Add(time.Hour)
	for range rounds {
		theirs, err := shell(ctx, "find %s %s >/dev/null", snapped, printed)
		if err != nil {
			return err
		}
		err = whole.take(s, theirs, func() error {
			r, err := s.BringBack(ctx, api.NewBringBack{Place: &place, AsOf: &asOf, DryRun: new(true)})
			if err != nil {
				return err
			}
			defer r.Body.Close()
			items, err := occurrences(r.Body, `"action":"copy"`)
			if err == nil && (r.StatusCode != http.StatusOK || items < files) {
				err = fmt.Errorf("plan: status %d, %d of %d items", r.StatusCode, items, files)
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	live := filepath.Join(root, "home/tomas/Drawings")
	if err := layTree(live, files, at.Add(-time.Hour), true); err != nil {
		return err
	}
	if _, err := shell(ctx, "find %s -type f | awk 'NR%%3==0' | tr '\\n' '\\0' | xargs -0 -n 500 sh -c 'for f; do head -c "+
		"300 /dev/urandom >\"$f\"; done' sh", live); err != nil {
		return err
	}
	if err := errors.Join(s.addSource(ctx, "drawing-loft", "live", "/home"), s.survey(ctx, api.NewSurvey{}, files)); err != nil {
		return err
	}
	mass := row{work: fmt.Sprintf("advice on a folder of %d files, a third of them rewritten at once", files),
		yardstick: "`find` of it", bar: 4}
	for range rounds {
		theirs, err := shell(ctx, "find %s %s >/dev/null", live, printed)
		if err != nil {
			return err
		}
		err = mass.take(s, theirs, func() error {
			r, err := s.AdviseWithResponse(ctx, api.NewAdvice{Place: place, Loss: api.LossDamaged})
			if err == nil && (r.JSON200 == nil || r.JSON200.Folder == nil || r.JSON200.Folder.Certain+r.JSON200.Folder.Assumed < files/4) {
				err = fmt.Errorf("advice: %.600s", r.Body)
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	b.rows = append(b.rows, whole, mass)
	return os.RemoveAll(root)
}

// occurrences reads to the end and counts how often a text occurs.
func occurrences(from io.Reader, text string) (n int, err error) {
	buffer, kept := make([]byte, 256<<10), 0
	for {
		k, err := from.Read(buffer[kept:])
		all := buffer[:kept+k]
		for at := 0; ; {
			i := bytes.Index(all[at:], []byte(text))
			if i < 0 {
				kept = copy(buffer, all[max(at, len(all)-len(text)+1):])
				break
			}
			n, at = n+1, at+i+len(text)
		}
		if errors.Is(err, io.EOF) {
			return n, nil
		}
		if err != nil {
			return n, err
		}
	}
}
