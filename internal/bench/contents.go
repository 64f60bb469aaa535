package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"humble-rewind/api"
)

// digests measures digests of content not yet known: of many small files, and of a gigabyte and a half in few.
func (b *bench) digests(ctx context.Context) error {
	small, large := b.path("digested/small"), b.path("digested/large")
	if err := layTrash(filepath.Join(small, "home/ines/notes"), b.of(10_000), func(name string) string { return name }); err != nil {
		return err
	}
	if _, err := shell(ctx, "mkdir -p %[1]s/home/ines && head -c %[2]d /dev/urandom >%[1]s/home/ines/film && "+
		"for n in $(seq 64); do head -c %[3]d /dev/urandom >%[1]s/home/ines/clip$n; done", large, b.of(1<<30), b.of(8<<20)); err != nil {
		return err
	}
	for _, work := range []struct {
		root, name, tool string
		bar              float64
	}{
		{small, fmt.Sprintf("digest of %d small files not yet known (`survey --read-all`)", 2*b.of(10_000)), "sha256sum", 0.6},
		{large, fmt.Sprintf("digest of %d MiB in 65 files not yet known", b.of(1536)), "openssl dgst -sha256", 0.8},
	} {
		r := row{work: work.name, yardstick: "`" + work.tool + "` of the same files", bar: work.bar}
		for n := range rounds {
			data := fmt.Sprintf("%s-data-%d", work.root, n)
			s, err := b.start(ctx, data)
			if err != nil {
				return err
			}
			if err := errors.Join(s.addMachine(ctx, "front-office", work.root), s.addSource(ctx, "front-office", "live", "/home"),
				s.survey(ctx, api.NewSurvey{}, 65)); err != nil {
				return err
			}
			theirs, err := shell(ctx, "find %s/home -type f -print0 | xargs -0 %s >/dev/null", work.root, work.tool)
			if err != nil {
				return err
			}
			all := true
			if err := r.take(s, theirs, func() error { return s.survey(ctx, api.NewSurvey{ReadAll: &all}, 65) }); err != nil {
				return err
			}
			if err := errors.Join(s.digestsRight(ctx, work.root), s.stop(), os.RemoveAll(data)); err != nil {
				return err
			}
		}
		b.rows = append(b.rows, r)
	}
	return os.RemoveAll(b.path("digested"))
}

// digestsRight compares the digests of some copies with sha256sum's.
func (s *server) digestsRight(ctx context.Context, root string) error {
	limit := 20
	r, err := s.FindCopiesWithResponse(ctx, &api.FindCopiesParams{Limit: &limit, Words: new("i")})
	if err != nil || r.JSON200 == nil {
		return fmt.Errorf("find: %w %.300s", err, r.Body)
	}
	for _, c := range r.JSON200.Copies {
		want, err := output(ctx, "sha256sum '%s' | cut -c1-64", filepath.Join(root, c.Place.Path))
		if err != nil {
			return err
		}
		if c.Sha256 == nil || *c.Sha256 != want {
			return fmt.Errorf("the digest of %s is not %s", c.Place.Path, want)
		}
	}
	return nil
}

// conditions measures digesting and examining documents.
func (b *bench) conditions(ctx context.Context) error {
	documents := b.of(10_000)
	say("making %d documents", documents)
	root := b.path("examined")
	folder := filepath.Join(root, "home/ines/Documents")
	if err := layDocuments(folder, documents); err != nil {
		return err
	}
	r := row{work: fmt.Sprintf("digest and condition of %d mixed documents (`survey --examine`)", documents),
		yardstick: "`sha256sum` of them", bar: 3}
	s, err := b.start(ctx, b.path("condition-data"))
	if err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(s.addMachine(ctx, "front-office", root), s.addSource(ctx, "front-office", "live", "/home"),
		s.survey(ctx, api.NewSurvey{}, documents)); err != nil {
		return err
	}
	theirs, err := shell(ctx, "find %s -type f -print0 | xargs -0 sha256sum >/dev/null", folder)
	if err != nil {
		return err
	}
	examine := true
	if err := r.take(s, theirs, func() error { return s.survey(ctx, api.NewSurvey{Examine: &examine}, documents) }); err != nil {
		return err
	}
	unread := api.ConditionState("unread")
	left, err := s.FindCopiesWithResponse(ctx, &api.FindCopiesParams{Condition: &unread, Words: new("document")})
	if err != nil {
		return err
	}
	if left.JSON200 == nil || len(left.JSON200.Copies) > 0 {
		return fmt.Errorf("some documents were not examined: %.300s", left.Body)
	}
	b.rows = append(b.rows, r)
	return nil
}
