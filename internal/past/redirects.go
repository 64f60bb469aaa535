package past

import (
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/core/userdirs"
)

// redirected follows folders that were put elsewhere as a whole: by a link in their place, by the person's user-dirs.dirs,
// or by another home in the accounts. Both places are then one.
func (g *gatherer) redirected(n trail.Name) error {
	for folder := place.Folder(n.Place.Path); folder != "/"; folder = place.Folder(folder) {
		rest, _ := place.Below(n.Place.Path, folder)
		here := place.Place{Machine: n.Place.Machine, Path: folder}
		seen, err := g.of(here)
		if err != nil {
			return err
		}
		for _, f := range seen {
			if f.Type != entry.Link {
				continue
			}
			if to, ok := linkTarget(folder, f.Target); ok {
				if err := g.redirect(here, to, rest, f.First, remark.New("linked", "folder", place.Readable(here.Path), "link", place.Readable(to))); err != nil {
					return err
				}
			}
		}
		links, err := g.r.View.Search.LinksTo(g.ctx, n.Place.Machine, folder)
		if err != nil {
			return err
		}
		for _, f := range links {
			if err := g.redirect(here, f.Place.Path, rest, f.First, remark.New("linked", "folder", place.Readable(f.Place.Path), "link", place.Readable(here.Path))); err != nil {
				return err
			}
		}
	}
	machine, err := g.r.View.Machines.Named(g.ctx, n.Place.Machine)
	if err != nil {
		return err
	}
	former, err := g.r.View.Machines.FormerHomes(g.ctx, n.Place.Machine)
	if err != nil {
		return err
	}
	for _, p := range machine.People {
		for home, until := range former[p.Name] {
			if err := g.swap(n.Place, home, p.Home, until, remark.New("home-moved", "who", p.Name,
				"from", place.Readable(home), "to", place.Readable(p.Home))); err != nil {
				return err
			}
		}
		if err := g.userDirs(n.Place, p.Home); err != nil {
			return err
		}
	}
	return nil
}

func linkTarget(at, target string) (string, bool) {
	if !strings.HasPrefix(target, "/") {
		var up int
		for strings.HasPrefix(target, "../") {
			target, up = target[3:], up+1
		}
		base := place.Folder(at)
		for range up {
			base = place.Folder(base)
		}
		target = place.Join(base, target)
	}
	clean, err := place.Clean(target)
	return clean, err == nil && clean != "/"
}

// redirect takes up the same path below another folder.
func (g *gatherer) redirect(here place.Place, to, rest string, at time.Time, says remark.Remark) error {
	other := place.Place{Machine: here.Machine, Path: place.Join(to, rest)}
	event := &trail.Event{At: at, Kind: trail.Redirect, From: here, To: place.Place{Machine: here.Machine, Path: to},
		Says: says}
	return g.add(trail.Name{Place: other, Move: event})
}

// swap takes up the path below the other of two folders, whichever it lies in.
func (g *gatherer) swap(p place.Place, old, now string, at time.Time, says remark.Remark) error {
	event := func() *trail.Event {
		return &trail.Event{
			At:   at,
			Kind: trail.Redirect,
			Says: says,
			From: place.Place{Machine: p.Machine, Path: old},
			To:   place.Place{Machine: p.Machine, Path: now},
		}
	}
	for _, pair := range [][2]string{{old, now}, {now, old}} {
		if rest, ok := place.Below(p.Path, pair[0]); ok && pair[0] != pair[1] {
			if err := g.add(trail.Name{Place: place.Place{Machine: p.Machine, Path: place.Join(pair[1], rest)},
				Move: event()}); err != nil {
				return err
			}
		}
	}
	return nil
}

// userDirs follows the changes of a home's user-dirs.dirs.
func (g *gatherer) userDirs(p place.Place, home string) error {
	seen, err := g.of(place.Place{Machine: p.Machine, Path: place.Join(home, ".config/user-dirs.dirs")})
	if err != nil || len(seen) == 0 {
		return err
	}
	seen = slices.DeleteFunc(
		slices.Clone(seen),
		func(f *copies.Copy) bool { return f.Type != entry.File || !f.Readable || f.Size > maxUserDirs },
	)
	slices.SortStableFunc(seen, func(a, b *copies.Copy) int { return a.Written.Compare(b.Written) })
	var before map[string]string
	for _, f := range seen[:min(len(seen), maxVersions)] {
		text, err := g.read(f)
		if err != nil {
			if g.ctx.Err() != nil {
				return g.ctx.Err()
			}
			continue // one version less to tell by
		}
		now := userdirs.Parse(text, home)
		for key, folder := range now {
			old := before[key]
			if old == "" {
				old = userdirs.Usual(key, home)
			}
			if old != "" && old != folder {
				if err := g.swap(p, old, folder, f.Written, remark.New("redirected", "from", place.Readable(old),
					"to", place.Readable(folder))); err != nil {
					return err
				}
			}
		}
		before = now
	}
	return nil
}

func (g *gatherer) read(f *copies.Copy) ([]byte, error) {
	return g.r.Contents.Bytes(g.ctx, f, maxUserDirs)
}
