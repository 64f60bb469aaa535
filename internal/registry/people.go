package registry

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
)

const maxPasswd = 16 << 20

// readPeople finds who has a home on a machine: the accounts of /etc/passwd whose home matches the pattern and is
// there, and homes that match without an account, which are named after their folder.
func readPeople(ctx context.Context, files reach.Session, pattern string) ([]catalogue.Account, []string, error) {
	if pattern == "" {
		pattern = "/home/*"
	}
	if _, err := path.Match(pattern, "/"); err != nil || !strings.HasPrefix(pattern, "/") {
		return nil, nil, fmt.Errorf("%s is not a pattern of home folders", place.Quote(pattern))
	}
	var notes []string
	passwd, err := readFile(ctx, files, "/etc/passwd", maxPasswd)
	if err != nil {
		notes = append(notes, fmt.Sprintf("Its accounts could not be read (%v); people are named after their home folders.", err))
	}
	homes, err := matching(ctx, files, pattern)
	if err != nil {
		notes = append(notes, fmt.Sprintf("Its homes could not be listed: %v.", err))
	}
	accounts := parsePasswd(passwd)
	var people []catalogue.Account
	for _, home := range homes {
		i := slices.IndexFunc(accounts, func(p catalogue.Account) bool { return p.Home == home.path })
		if i >= 0 {
			people = append(people, accounts[i])
			continue
		}
		people = append(people, catalogue.Account{Name: place.Readable(place.Name(home.path)), UID: home.info.UID.Or(-1), Home: home.path})
	}
	if len(people) == 0 && err == nil {
		notes = append(notes, fmt.Sprintf("No home matches %s.", pattern))
	}
	return people, notes, nil
}

// RefreshPeople reads again who lives on a machine: new people, and people whose home is elsewhere now.
func (r Registry) RefreshPeople(ctx context.Context, machine string, at time.Time) error {
	files, err := r.Files(ctx, machine)
	if err != nil {
		return nil // the survey says so itself
	}
	m, err := r.Catalogue.Machines.Named(ctx, machine)
	if err != nil {
		return err
	}
	people, _, err := readPeople(ctx, files, "")
	if err != nil {
		return err
	}
	passwd, err := readFile(ctx, files, "/etc/passwd", maxPasswd)
	if err != nil {
		return nil // as when it was added, people are named after their homes
	}
	var now []catalogue.Account
	for _, p := range parsePasswd(passwd) {
		known := slices.ContainsFunc(m.People, func(k catalogue.Account) bool { return k.Name == p.Name })
		found := slices.ContainsFunc(people, func(k catalogue.Account) bool { return k.Name == p.Name && k.Home == p.Home })
		if !known && !found {
			continue
		}
		if info, err := reach.Look(ctx, files, p.Home); err == nil && info.Type == entry.Folder {
			now = append(now, p)
		}
	}
	return r.Catalogue.Machines.UpdatePeople(ctx, m, now, at)
}

// parsePasswd reads passwd(5): seven fields parted by colons. Lines that are not so are passed over.
func parsePasswd(data []byte) []catalogue.Account {
	var people []catalogue.Account
	for line := range strings.Lines(string(data)) {
		fields := strings.Split(strings.TrimRight(line, "\r\n"), ":")
		if len(fields) != 7 {
			continue
		}
		uid, err := strconv.ParseUint(fields[2], 10, 32)
		home, homeErr := place.Clean(fields[5])
		if err != nil || homeErr != nil || fields[0] == "" {
			continue
		}
		fullName, _, _ := strings.Cut(fields[4], ",")
		people = append(people, catalogue.Account{Name: place.Readable(fields[0]), FullName: place.Readable(fullName), UID: int64(uid),
			Home: home})
	}
	return people
}

type match struct {
	path string
	info reach.Info
}

// matching lists the folders that a pattern of absolute paths matches, level by level.
func matching(ctx context.Context, files reach.Session, pattern string) ([]match, error) {
	found := []match{{path: "/"}}
	for part := range strings.SplitSeq(strings.Trim(pattern, "/"), "/") {
		var next []match
		for _, at := range found {
			folder, err := files.Tree(ctx, at.path)
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return nil, err
			}
			entries, err := folder.List(ctx)
			if err := errors.Join(err, folder.Close()); err != nil {
				return nil, err
			}
			for _, e := range entries {
				if ok, _ := path.Match(part, e.Name); ok && e.Type == entry.Folder && e.Name != "lost+found" {
					next = append(next, match{place.Join(at.path, e.Name), e})
				}
			}
		}
		found = next
	}
	slices.SortFunc(found, func(a, b match) int { return strings.Compare(a.path, b.path) })
	return found, nil
}

// readZone reads a machine's time zone: the link /etc/localtime (as tzset(3) and systemd keep it), else /etc/timezone.
func readZone(ctx context.Context, files reach.Session) (zone, note string) {
	if etc, err := files.Tree(ctx, "/etc"); err == nil {
		defer etc.Close()
		if target, err := etc.Target(ctx, "localtime"); err == nil {
			if _, name, ok := strings.Cut(target, "zoneinfo/"); ok && known(name) {
				return name, ""
			}
		}
	}
	if data, err := readFile(ctx, files, "/etc/timezone", 1024); err == nil {
		if name := strings.TrimSpace(string(data)); known(name) {
			return name, ""
		}
	}
	return "UTC", "Its time zone could not be read from /etc/localtime or /etc/timezone; UTC is assumed. Add it again with its zone if " +
		"that is wrong."
}

func known(zone string) bool {
	if zone == "" || zone == "Local" {
		return false
	}
	_, err := time.LoadLocation(zone)
	return err == nil
}

func readFile(ctx context.Context, files reach.Session, path string, limit int64) ([]byte, error) {
	folder, err := files.Tree(ctx, place.Folder(path))
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	return reach.ReadFile(ctx, folder, place.Name(path), limit)
}
