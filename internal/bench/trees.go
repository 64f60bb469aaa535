package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"time"

	"humble-rewind/api"
)

// Sizes of the trees that are measured.
const (
	liveFiles     = 300_000
	snapshotFiles = 20_000
	folderFiles   = 100_000
	bigFile       = 1 << 30
	readFiles     = 2000
	readSize      = 256 << 10
)

const printed = `-printf '%p %y %s %T@ %C@ %i %U %G %m\n'`

// tree lays n small files, a hundred a folder.
func tree(dir string, n int, at time.Time) error {
	for i := range n {
		path := filepath.Join(dir, fmt.Sprintf("d%03d/e%04d", i/10_000, i/100), fmt.Sprintf("Delivery note %06d.txt", i))
		if i%100 == 0 {
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				return err
			}
		}
		if err := os.WriteFile(path, fmt.Appendf(nil, "larch plank %06d\n", i), 0o644); err != nil {
			return err
		}
		if err := os.Chtimes(path, at, at); err != nil {
			return err
		}
	}
	return nil
}

func (s *server) addSource(ctx context.Context, machine, kind, at string) error {
	zone := "UTC"
	r, err := s.AddSourceWithResponse(ctx, api.NewSource{Machine: machine, Kind: kind, At: &at, Zone: &zone})
	if err == nil && r.JSON201 == nil {
		err = fmt.Errorf("add %s source: %s", kind, r.Body)
	}
	return err
}

// live measures surveys of a machine's own files.
func live(ctx context.Context, binary, dir string) ([]row, error) {
	say("making a tree of %d files", liveFiles)
	root := filepath.Join(dir, "live")
	defer os.RemoveAll(root)
	if err := tree(filepath.Join(root, "home/ines"), liveFiles, time.Now().Add(-time.Hour)); err != nil {
		return nil, err
	}
	find := fmt.Sprintf("find %s/home %s >/dev/null", root, printed)
	if _, err := shell(ctx, find); err != nil {
		return nil, err
	}
	s, err := start(ctx, binary, filepath.Join(dir, "live-data"))
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(s.addMachine(ctx, "front-office", root), s.addSource(ctx, "front-office", "live", "/home")); err != nil {
		return nil, err
	}
	var rows []row
	for _, work := range []struct{ name, bar string }{{"first survey of a live tree of 300,000 files, every name searchable",
		"≤ 1.5×"}, {"repeat survey, nothing changed", "≤ 0.8×"}} {
		s.peak()
		theirs, err := shell(ctx, find)
		if err != nil {
			return nil, err
		}
		ours, err := timed(func() error { _, err := s.survey(ctx); return err })
		if err != nil {
			return nil, err
		}
		rows = append(rows, row{work.name, "`find -printf` of the same fields", ours, theirs, work.bar, s.peak()})
	}
	return rows, nil
}

// snapshots measures what one more snapshot costs once there are 1, 10, 30 and 60, and how the catalogue grows.
func snapshots(ctx context.Context, binary, dir string) ([]row, error) {
	root := filepath.Join(dir, "snapped")
	defer os.RemoveAll(root)
	first := time.Now().UTC().Truncate(time.Hour).AddDate(0, 0, -70)
	at := func(n int) string {
		return filepath.Join(root, "points", first.AddDate(0, 0, n).Format("2006-01-02T1504"))
	}
	if err := tree(at(0), snapshotFiles, first.Add(-time.Hour)); err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "snapshot-data")
	s, err := start(ctx, binary, data)
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(s.addMachine(ctx, "front-office", root), s.addSource(ctx, "front-office", "snapshots", "/points")); err != nil {
		return nil, err
	}
	var rows []row
	var one int64
	measured := []int{1, 10, 30, 60}
	for n := range 61 {
		if n > 0 {
			every := 200
			if slices.Contains(measured, n) {
				every = 1000
			}
			if err := link(at(n-1), at(n), n, every, first.AddDate(0, 0, n).Add(-time.Hour)); err != nil {
				return nil, err
			}
		}
		s.peak()
		ours, err := timed(func() error { _, err := s.survey(ctx); return err })
		if err != nil {
			return nil, err
		}
		bytes := int64(0)
		if n == 0 || n == 59 { // the log goes into the file with the service's end
			if err := s.stop(); err != nil {
				return nil, err
			}
			bytes = size(data)
			if s, err = start(ctx, binary, data); err != nil {
				return nil, err
			}
		}
		if n == 0 {
			one = bytes
		}
		if slices.Contains(measured, n) {
			theirs, err := shell(ctx, fmt.Sprintf("find %s %s >/dev/null", at(n), printed))
			if err != nil {
				return nil, err
			}
			rows = append(
				rows,
				row{
					fmt.Sprintf("survey of one more snapshot of 20,000 files, 0.1 %% changed, after %d", n),
					"`find` of that snapshot",
					ours,
					theirs,
					"≤ 1.1×",
					s.peak(),
				},
			)
		}
		if n == 59 {
			rows = append(
				rows,
				row{
					"catalogue of 60 snapshots, 0.5 % changed in each, as bytes",
					"the catalogue of one",
					time.Duration(bytes),
					time.Duration(one),
					"≤ 1.5×",
					"—",
				},
			)
		}
	}
	return rows, nil
}

// link makes a snapshot of hard links in which one file in every so many has changed.
func link(from, to string, n, every int, at time.Time) error {
	if out, err := shellOut(fmt.Sprintf("cp -al %s %s", from, to)); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	for i := n % every; i < snapshotFiles; i += every {
		path := filepath.Join(to, fmt.Sprintf("d%03d/e%04d", i/10_000, i/100), fmt.Sprintf("Delivery note %06d.txt", i))
		if err := errors.Join(os.Remove(path), os.WriteFile(path, fmt.Appendf(nil, "changed in %d\n", n), 0o644), os.Chtimes(path, at,
			at)); err != nil {
			return err
		}
	}
	return nil
}

// size is how many bytes a catalogue takes.
func size(data string) int64 {
	info, err := os.Stat(filepath.Join(data, "catalogue.sqlite"))
	if err != nil {
		return 0
	}
	return info.Size()
}

// trails measures the trail of a place with a thousand sightings in ten sources, and a folder as of a moment.
// tenSources lays a file with a hundred versions in each of ten stores of snapshots, from a moment on, and adds them.
func (s *server) tenSources(ctx context.Context, root string, first time.Time) error {
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
		if err := s.addSource(ctx, "front-office", "snapshots", fmt.Sprintf("/points%d", store)); err != nil {
			return err
		}
	}
	return nil
}

func trails(ctx context.Context, binary, dir string) ([]row, error) {
	root := filepath.Join(dir, "trailed")
	defer os.RemoveAll(root)
	first := time.Now().UTC().Truncate(time.Hour).AddDate(0, 0, -100)
	s, err := start(ctx, binary, filepath.Join(dir, "trail-data"))
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.stop() }()
	if err := os.MkdirAll(root, 0o755); err != nil {
		return nil, err
	}
	if err := s.addMachine(ctx, "front-office", root); err != nil {
		return nil, err
	}
	if err := s.tenSources(ctx, root, first); err != nil {
		return nil, err
	}
	say("making a snapshot of %d files", folderFiles)
	if err := tree(filepath.Join(root, "big", first.Format("2006-01-02T1504"), "home/tomas/Drawings"), folderFiles,
		first.Add(-time.Hour)); err != nil {
		return nil, err
	}
	if err := s.addSource(ctx, "front-office", "snapshots", "/big"); err != nil {
		return nil, err
	}
	if _, err := s.survey(ctx); err != nil {
		return nil, err
	}
	s.peak()
	path := "/home/ines/Quote.odt"
	took, err := p95(func() error {
		r, err := s.GetTrailWithResponse(ctx, &api.GetTrailParams{Machine: "front-office", Path: &path})
		if err == nil && (r.JSON200 == nil || len(r.JSON200.Versions) < 1000) {
			err = fmt.Errorf("trail: %.300s", r.Body)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	rows := []row{
		{
			"trail of a place with 1,000 sightings in ten sources, p95 through the API",
			"35 ms",
			took,
			35 * time.Millisecond,
			"≤ 1.0×",
			s.peak(),
		},
	}
	theirs, err := shell(ctx, fmt.Sprintf("find %s/big %s >/dev/null", root, printed))
	if err != nil {
		return nil, err
	}
	dry, asOf := true, first.AddDate(0, 0, 1)
	ours, err := timed(func() error {
		r, err := s.BringBack(
			ctx,
			api.NewBringBack{Place: &api.Destination{Machine: "front-office", Path: "/home/tomas/Drawings"}, AsOf: &asOf, DryRun: &dry},
		)
		if err != nil {
			return err
		}
		defer r.Body.Close()
		n, err := io.Copy(io.Discard, r.Body)
		if err == nil && (r.StatusCode != http.StatusOK || n < folderFiles*100) {
			err = fmt.Errorf("plan: status %d, %d bytes", r.StatusCode, n)
		}
		return err
	})
	return append(
		rows,
		row{"folder of 100,000 files as of a moment, whole plan through the client", "`find` of it", ours, theirs, "≤ 1.5×", s.peak()},
	), err
}

// reads measures digests of whole sources, and bringing back one big file.
func reads(ctx context.Context, binary, dir string) ([]row, error) {
	root := filepath.Join(dir, "read")
	defer os.RemoveAll(root)
	point := filepath.Join(root, "points", time.Now().UTC().AddDate(0, 0, -1).Format("2006-01-02T1504"), "home/ines")
	block := make([]byte, readSize)
	for n := range readFiles {
		for i := range block {
			block[i] = byte(i*7 + n + i/251)
		}
		path := filepath.Join(point, fmt.Sprintf("f%02d", n/100), fmt.Sprint(n))
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, block, 0o644)); err != nil {
			return nil, err
		}
	}
	if out, err := shellOut(fmt.Sprintf("mkdir -p %[1]s/big %[2]s && head -c %[3]d /dev/urandom >%[1]s/big/film", point,
		root+"/home/ines", bigFile)); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	s, err := start(ctx, binary, filepath.Join(dir, "read-data"))
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(s.addMachine(ctx, "front-office", root), s.addSource(ctx, "front-office", "snapshots", "/points")); err != nil {
		return nil, err
	}
	if _, err := s.survey(ctx); err != nil {
		return nil, err
	}
	s.peak()
	all := true
	ours, err := timed(func() error {
		r, err := s.StartSurveyWithResponse(ctx, api.NewSurvey{ReadAll: &all})
		if err != nil {
			return err
		}
		_, err = s.wait(ctx, r.JSON202, r.Body)
		return err
	})
	if err != nil {
		return nil, err
	}
	peak := s.peak()
	var rows []row
	for _, tool := range []struct{ name, bar string }{{"sha256sum", "—"}, {"openssl dgst -sha256", "≤ 0.8×"}} {
		theirs, err := shell(ctx, fmt.Sprintf("find %s -type f -exec %s {} + >/dev/null", point, tool.name))
		if err != nil {
			return nil, err
		}
		rows = append(
			rows,
			row{
				"digest of 1.5 GiB not yet known (`survey --read-all`)",
				"`" + tool.name + "` of the same files",
				ours,
				theirs,
				tool.bar,
				peak,
			},
		)
	}
	asOf := time.Now()
	ours, err = timed(func() error {
		r, err := s.BringBackWithResponse(
			ctx,
			api.NewBringBack{Place: &api.Destination{Machine: "front-office", Path: "/home/ines/big/film"}, AsOf: &asOf},
		)
		if err != nil {
			return err
		}
		_, err = s.wait(ctx, r.JSON202, r.Body)
		return err
	})
	if err != nil {
		return nil, err
	}
	peak = s.peak()
	for _, tool := range []struct{ name, bar string }{{"sha256sum", "≤ 0.6×"}, {"openssl dgst -sha256", "≤ 1.2×"}} {
		theirs, err := shell(
			ctx,
			fmt.Sprintf("cp %[1]s/big/film %[2]s/copied && %[3]s %[2]s/copied >/dev/null && rm %[2]s/copied", point, root, tool.name),
		)
		if err != nil {
			return nil, err
		}
		rows = append(
			rows,
			row{"bring back one file of 1 GiB, verified, synced", "`cp` then `" + tool.name + "`", ours, theirs, tool.bar, peak},
		)
	}
	return rows, nil
}
