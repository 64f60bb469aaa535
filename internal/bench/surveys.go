package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"humble-rewind/api"
)

// rounds is how often most is measured, of which the one in the middle counts; what takes long is measured twice.
const rounds, fewRounds = 3, 2

// live measures surveys of a machine's own files.
func (b *bench) live(ctx context.Context) error {
	files := b.of(1_000_000)
	say("making a tree of %d files", files)
	root := b.path("live")
	if err := layTree(filepath.Join(root, "home/ines"), files, time.Now().Add(-time.Hour), false); err != nil {
		return err
	}
	defer os.RemoveAll(root)
	first := row{work: fmt.Sprintf("first survey of a live tree of %d files, every name searchable", files),
		yardstick: "`find -printf` of the same fields", bar: 1.5}
	repeat := row{work: "repeat survey of it, nothing changed", yardstick: "the same `find`", bar: 0.8}
	for n := range fewRounds {
		s, err := b.start(ctx, b.path(fmt.Sprint("live-data-", n)))
		if err != nil {
			return err
		}
		if err := errors.Join(s.addMachine(ctx, "front-office", root), s.addSource(ctx, "front-office", "live", "/home")); err != nil {
			return err
		}
		for _, r := range []*row{&first, &repeat} {
			theirs, err := shell(ctx, "find %s/home %s >/dev/null", root, printed)
			if err != nil {
				return err
			}
			if err := r.take(s, theirs, func() error { return s.survey(ctx, api.NewSurvey{}, files) }); err != nil {
				return err
			}
		}
		name := filepath.Base(note(files / 2))
		if err := s.finds(ctx, name[len("Delivery note "):len(name)-len(".txt")], 1); err != nil {
			return err
		}
		if err := errors.Join(s.stop(), os.RemoveAll(b.path(fmt.Sprint("live-data-", n)))); err != nil {
			return err
		}
	}
	b.rows = append(b.rows, first, repeat)
	return nil
}

// take measures one round of ours, and keeps the yardstick's of the same round.
func (r *row) take(s *server, theirs cost, do func() error) error {
	ours, memory, err := s.measure(do)
	if err != nil {
		return err
	}
	r.ours, r.theirs, r.memory = append(r.ours, ours), append(r.theirs, theirs), max(r.memory, memory)
	return nil
}

// finds checks how many copies a search finds.
func (s *server) finds(ctx context.Context, words string, count int) error {
	r, err := s.FindCopiesWithResponse(ctx, &api.FindCopiesParams{Words: &words})
	if err != nil {
		return err
	}
	if r.JSON200 == nil || len(r.JSON200.Copies) != count {
		return fmt.Errorf("a search for %q should find %d: %.300s", words, count, r.Body)
	}
	return nil
}

// trash measures surveys of a trash.
func (b *bench) trash(ctx context.Context) error {
	items := b.of(100_000)
	say("making a trash of %d items", items)
	root := b.path("trashed")
	home := filepath.Join(root, "home/ines")
	err := layTrash(filepath.Join(home, ".local/share/Trash"), items, func(name string) string {
		return filepath.Join("/home/ines/Documents", name)
	})
	if err != nil {
		return err
	}
	first := row{work: fmt.Sprintf("first survey of a trash of %d items, every name searchable", items),
		yardstick: "`find` and `cat` of the records", bar: 0.8}
	repeat := row{work: "repeat survey of it, nothing changed", yardstick: "`find -printf`", bar: 0.8}
	find := fmt.Sprintf("find %s %s >/dev/null", home, printed)
	for n := range rounds {
		s, err := b.start(ctx, b.path(fmt.Sprint("trash-data-", n)))
		if err != nil {
			return err
		}
		if err := errors.Join(s.addMachine(ctx, "front-office", root), s.addSource(ctx, "front-office", "trash", "/home/ines")); err != nil {
			return err
		}
		theirs, err := shell(ctx, "%s && find %s/.local/share/Trash/info -type f -exec cat {} + >/dev/null", find, home)
		if err != nil {
			return err
		}
		if err := first.take(s, theirs, func() error { return s.survey(ctx, api.NewSurvey{}, items) }); err != nil {
			return err
		}
		if theirs, err = shell(ctx, "%s", find); err != nil {
			return err
		}
		if err := repeat.take(s, theirs, func() error { return s.survey(ctx, api.NewSurvey{}, items) }); err != nil {
			return err
		}
		if err := errors.Join(s.finds(ctx, fmt.Sprintf("%06d", items-1), 1), s.stop()); err != nil {
			return err
		}
	}
	b.rows = append(b.rows, first, repeat)
	return nil
}

// snapshots measures what one more snapshot costs once there are 1, 10, 30 and 60, and how the catalogue grows.
func (b *bench) snapshots(ctx context.Context) error {
	files := b.of(100_000)
	root := b.path("snapped")
	first := time.Now().UTC().Truncate(time.Hour).AddDate(0, 0, -70)
	at := func(n int) string {
		return filepath.Join(root, "points", first.AddDate(0, 0, n).Format("2006-01-02T1504"))
	}
	say("making snapshots of %d files", files)
	if err := layTree(at(0), files, first.Add(-time.Hour), true); err != nil {
		return err
	}
	data := b.path("snapshot-data")
	s, err := b.start(ctx, data)
	if err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(s.addMachine(ctx, "front-office", root), s.addSource(ctx, "front-office", "snapshots", "/points")); err != nil {
		return err
	}
	measured := []int{1, 10, 30, 60}
	growth := row{work: fmt.Sprintf("catalogue of 60 snapshots of %d files, 0.5 %% changed in each, as bytes", files),
		yardstick: "the catalogue of one", bar: 1.5}
	for n := range 61 {
		if n > 0 {
			every := 200
			if slices.Contains(measured, n) {
				every = 1000
			}
			if err := linkSnapshot(ctx, at(n-1), at(n), files, n, every, first.AddDate(0, 0, n).Add(-time.Hour)); err != nil {
				return err
			}
		}
		r := row{work: fmt.Sprintf("survey of one more snapshot of %d files, 0.1 %% changed, after %d", files, n),
			yardstick: "`find` of that snapshot", bar: 1.1}
		var theirs cost
		if slices.Contains(measured, n) {
			if theirs, err = shell(ctx, "find %s %s >/dev/null", at(n), printed); err != nil {
				return err
			}
		}
		if err := r.take(s, theirs, func() error { return s.survey(ctx, api.NewSurvey{}, files/2) }); err != nil {
			return err
		}
		if slices.Contains(measured, n) {
			b.rows = append(b.rows, r)
		}
		if n != 0 && n != 59 {
			continue
		}
		if err := s.stop(); err != nil { // the log goes into the file with the service's end
			return err
		}
		info, err := os.Stat(filepath.Join(data, "catalogue.sqlite"))
		if err != nil {
			return err
		}
		if bytes := (cost{clock: time.Duration(info.Size())}); n == 0 {
			growth.theirs = []cost{bytes}
		} else {
			growth.ours = []cost{bytes}
		}
		if s, err = b.start(ctx, data); err != nil {
			return err
		}
	}
	b.rows = append(b.rows, growth)
	return nil
}

// linkSnapshot makes a snapshot of hard links in which one file in every so many has changed.
func linkSnapshot(ctx context.Context, from, to string, files, n, every int, at time.Time) error {
	if _, err := shell(ctx, "cp -al %s %s", from, to); err != nil {
		return err
	}
	for i := n % every; i < files; i += every {
		path := filepath.Join(to, note(i))
		if err := errors.Join(os.Remove(path), os.WriteFile(path, fmt.Appendf(nil, "changed in %d\n", n), 0o644),
			os.Chtimes(path, at, at)); err != nil {
			return err
		}
	}
	return nil
}
