package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"humble-rewind/api"
)

// smallFiles measures bringing back many small files, within a file system and across. It uses the host itself as the machine, so that a
// second file system is at hand: /dev/shm.
func (b *bench) smallFiles(ctx context.Context) error {
	files := b.of(10_000)
	shm, err := os.MkdirTemp("/dev/shm", "humble-rewind-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(shm)
	for _, across := range []bool{false, true} {
		r := row{work: fmt.Sprintf("bring back %d small files within a file system (digested, renamed, synced)", files),
			yardstick: "`cp -a` then `sha256sum -c`", bar: 0.8}
		if across {
			r.work = fmt.Sprintf("bring back %d small files across file systems (copied, read back, synced)", files)
			r.bar = 1.2
		}
		for n := range rounds {
			base := b.path(fmt.Sprintf("drive-%t-%d", across, n))
			store := base
			if across {
				store = filepath.Join(shm, fmt.Sprint(n))
			}
			say("%s, round %d", r.work, n+1)
			if err := b.bringSmall(ctx, &r, files, store, base); err != nil {
				return err
			}
		}
		b.rows = append(b.rows, r)
	}
	return nil
}

func (b *bench) bringSmall(ctx context.Context, r *row, files int, store, base string) error {
	can := filepath.Join(store, ".Trash-0")
	if err := layTrash(can, files, func(name string) string { return "Papers/" + name }); err != nil {
		return err
	}
	// Only the copy and the check cannot be avoided; what they are checked against was made before.
	if _, err := shell(ctx, "mkdir -p %[2]s && cd %[1]s/files && sha256sum * >%[2]s.sums", can, base); err != nil {
		return err
	}
	theirs, err := shell(ctx, "cp -a %[1]s/files %[2]s-copied && cd %[2]s-copied && sha256sum -c --quiet %[2]s.sums", can, base)
	if err != nil {
		return err
	}
	s, err := b.start(ctx, base+"-data")
	if err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(s.addMachine(ctx, "host", "/"), s.addSource(ctx, "host", "trash", store),
		s.survey(ctx, api.NewSurvey{}, files)); err != nil {
		return err
	}
	ids, err := s.all(ctx)
	if err != nil {
		return err
	}
	if _, err := shell(ctx, "sync"); err != nil { // what the yardstick wrote is not ours to wait for
		return err
	}
	back := filepath.Join(base, "Back")
	if err := r.take(s, theirs, func() error {
		return s.bringBack(ctx, api.NewBringBack{Copies: &ids, To: &api.Destination{Machine: "host", Path: back + "/"}}, files)
	}); err != nil {
		return err
	}
	_, err = shell(ctx, "cd %s && sha256sum -c --quiet %s.sums", back, base)
	return err
}

// all returns the ids of all copies.
func (s *server) all(ctx context.Context) (ids []string, err error) {
	for cursor := (*string)(nil); ; {
		page, err := s.FindCopiesWithResponse(ctx, &api.FindCopiesParams{Limit: new(1000), Cursor: cursor})
		if err != nil {
			return nil, err
		}
		if page.JSON200 == nil {
			return nil, fmt.Errorf("find: %s", page.Body)
		}
		for _, c := range page.JSON200.Copies {
			ids = append(ids, c.Id)
		}
		if cursor = page.JSON200.Next; cursor == nil {
			return ids, nil
		}
	}
}

// bigFile measures bringing back one large file.
func (b *bench) bigFile(ctx context.Context) error {
	size := b.of(4 << 30)
	root := b.path("film")
	at := time.Now().UTC().AddDate(0, 0, -1).Truncate(time.Minute)
	kept := filepath.Join(root, "points", at.Format("2006-01-02T1504"), "home/ines/film")
	say("making a file of %d MiB", size>>20)
	if _, err := shell(ctx, "mkdir -p %s/home/ines %s && head -c %d /dev/urandom >%s && sync", root, filepath.Dir(kept), size,
		kept); err != nil {
		return err
	}
	s, err := b.start(ctx, b.path("film-data"))
	if err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(s.addMachine(ctx, "front-office", root), s.addSource(ctx, "front-office", "snapshots", "/points"),
		s.survey(ctx, api.NewSurvey{}, 1)); err != nil {
		return err
	}
	asOf := time.Now()
	work := fmt.Sprintf("bring back one file of %d MiB, read back from the drive, synced", size>>20)
	for _, tool := range []struct {
		name string
		bar  float64
	}{{"sha256sum", 0.6}, {"openssl dgst -sha256", 1.2}} {
		r := row{work: work, yardstick: "`cp` then `" + tool.name + "`", bar: tool.bar}
		theirs, err := shell(ctx, "cp %[1]s %[2]s/copied && %[3]s %[2]s/copied >/dev/null", kept, root, tool.name)
		if err != nil {
			return err
		}
		if _, err := shell(ctx, "rm %s/copied && sync", root); err != nil {
			return err
		}
		film := filepath.Join(root, "home/ines/film")
		if err := r.take(s, theirs, func() error {
			return s.bringBack(ctx, api.NewBringBack{Place: &api.Destination{Machine: "front-office", Path: "/home/ines/film"}, AsOf: &asOf}, 1)
		}); err != nil {
			return err
		}
		if _, err := shell(ctx, "cmp %s %s && rm %s && sync", kept, film, film); err != nil {
			return err
		}
		b.rows = append(b.rows, r)
	}
	return os.RemoveAll(root)
}
