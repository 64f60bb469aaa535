package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"humble-rewind/api"
)

// latency asks many times and returns what nineteen of twenty answers stay below.
func latency(ask func() error) (time.Duration, error) {
	all := make([]cost, asked)
	for n := range all {
		begun := time.Now()
		if err := ask(); err != nil {
			return 0, err
		}
		all[n].clock = time.Since(begun)
	}
	return p95(all).clock, nil
}

// bySightings measures searches, a trail and memory with more and more sightings, and searches of many technicians at once with the most.
func (b *bench) bySightings(ctx context.Context) error {
	search := curve{name: "p95 of `find marsh`, and of the trail of one place, by sightings"}
	memory := curve{name: "memory of the service once it has answered, by sightings"}
	together := curve{name: "p95 of `find marsh` by technicians at once, with all sightings"}
	for _, n := range []int{10_000, 100_000, 1_000_000, 5_000_000} {
		n = max(1000, b.of(n))
		f, err := b.huge(ctx)
		if n != f.count && err == nil {
			f, err = b.fill(ctx, fmt.Sprint("curve-", n), n)
		}
		if err != nil {
			return err
		}
		s, err := b.start(ctx, f.data)
		if err != nil {
			return err
		}
		found, err := latency(func() error { return s.finds(ctx, "marsh", 50) })
		if err != nil {
			return err
		}
		trail, err := latency(func() error {
			r, err := s.GetTrailWithResponse(ctx, &api.GetTrailParams{Machine: "front-office", Path: &f.one})
			if err == nil && (r.JSON200 == nil || len(r.JSON200.Versions) != 1) {
				err = fmt.Errorf("trail: %.300s", r.Body)
			}
			return err
		})
		if err != nil {
			return err
		}
		search.points = append(search.points, fmt.Sprintf("%d: %s, %s", n, short(found), short(trail)))
		memory.points = append(memory.points, fmt.Sprintf("%d: %d MiB", n, memoryOf(fmt.Sprint(s.process.Process.Pid), "VmRSS")>>20))
		if n == b.of(5_000_000) {
			for _, technicians := range []int{1, 5, 20} {
				took, err := s.together(ctx, technicians)
				if err != nil {
					return err
				}
				together.points = append(together.points, fmt.Sprintf("%d: %s", technicians, short(took)))
			}
		}
		if err := s.stop(); err != nil {
			return err
		}
	}
	b.curves = append(b.curves, search, memory, together)
	return nil
}

// together lets several search at once.
func (s *server) together(ctx context.Context, technicians int) (time.Duration, error) {
	var group errgroup.Group
	all := make([]cost, technicians)
	for n := range technicians {
		group.Go(func() (err error) {
			all[n].clock, err = latency(func() error { return s.finds(ctx, "marsh", 50) })
			return err
		})
	}
	err := group.Wait()
	return slices.MaxFunc(all, func(a, b cost) int { return int(a.clock - b.clock) }).clock, err
}

// bySources measures the trail of a place that more and more stores of snapshots hold.
func (b *bench) bySources(ctx context.Context) error {
	root := b.path("stores")
	at := time.Now().UTC().Truncate(time.Hour).AddDate(0, 0, -9)
	s, err := b.start(ctx, b.path("stores-data"))
	if err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(os.MkdirAll(root, 0o755), s.addMachine(ctx, "front-office", root)); err != nil {
		return err
	}
	c := curve{name: "survey of all, and p95 of the trail of one place, by stores that each hold a version of it"}
	made := 0
	for _, n := range []int{1, 10, 50, 200} {
		for ; made < n; made++ {
			path := filepath.Join(root, fmt.Sprintf("store%d", made), at.Format("2006-01-02T1504"), "home/ines/Quote.odt")
			written := at.Add(-time.Duration(made) * time.Minute)
			if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, fmt.Appendf(nil, "version %d\n", made), 0o644),
				os.Chtimes(path, written, written), s.addSource(ctx, "front-office", "snapshots", fmt.Sprintf("/store%d", made))); err != nil {
				return err
			}
		}
		begun := time.Now()
		if err := s.survey(ctx, api.NewSurvey{}, n); err != nil {
			return err
		}
		surveyed := time.Since(begun)
		trail, err := latency(func() error {
			r, err := s.GetTrailWithResponse(ctx, &api.GetTrailParams{Machine: "front-office", Path: new("/home/ines/Quote.odt")})
			if err == nil && (r.JSON200 == nil || len(r.JSON200.Versions) != n) {
				err = fmt.Errorf("trail: %.300s", r.Body)
			}
			return err
		})
		if err != nil {
			return err
		}
		c.points = append(c.points, fmt.Sprintf("%d: %s, %s", n, short(surveyed), short(trail)))
	}
	b.curves = append(b.curves, c)
	return nil
}

// byMachines measures a survey of all of more and more machines of ten files each, and a search among them.
func (b *bench) byMachines(ctx context.Context) error {
	s, err := b.start(ctx, b.path("machines-data"))
	if err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	c := curve{name: "survey of all, and p95 of a search, by machines of ten files each"}
	made := 0
	for _, n := range []int{1, 10, 100, 1000} {
		n = max(1, b.of(n))
		for ; made < n; made++ {
			name := fmt.Sprintf("bench-%04d", made)
			root := b.path("machines", name)
			if err := errors.Join(layTree(filepath.Join(root, "home/ines"), 10, time.Now().Add(-time.Hour), false),
				s.addMachine(ctx, name, root), s.addSource(ctx, name, "live", "/home")); err != nil {
				return err
			}
		}
		begun := time.Now()
		if err := s.survey(ctx, api.NewSurvey{}, n*10); err != nil {
			return err
		}
		surveyed := time.Since(begun)
		found, err := latency(func() error { return s.finds(ctx, "000007", min(n, 50)) })
		if err != nil {
			return err
		}
		c.points = append(c.points, fmt.Sprintf("%d: %s, %s", n, short(surveyed), short(found)))
	}
	b.curves = append(b.curves, c)
	return nil
}
