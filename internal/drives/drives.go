// Package drives reads from a machine's own files which drive a place is on and what that means for deleted files:
// whether it rotates, whether freed blocks are discarded and when, how much room is left, and whether it is being written.
//
// The files are those that Linux keeps: a table of mounts as fstab(5) has it, /sys/block for the device's queue, systemd's
// unit and stamp of the periodic trim (systemd.timer(5)). What is not there is not known, and is said.
package drives

import (
	"context"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/firstaid"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/reach"
)

// Of reads what is known of the drive that a path is on. home is the person's, "" for none.
func Of(ctx context.Context, files reach.Session, at, home string, zone *time.Location, now time.Time) firstaid.Drive {
	r := &reader{ctx: ctx, files: files, Drive: firstaid.Drive{Free: -1}}
	r.mount(at)
	if r.Node != "" {
		r.queue()
	}
	r.discard(zone)
	r.room(at)
	if home != "" {
		r.newest(home, now)
	}
	return r.Drive
}

type reader struct {
	firstaid.Drive
	ctx     context.Context
	files   reach.Session
	options string
}

func (r *reader) note(code string, pairs ...any) {
	r.Notes = append(r.Notes, remark.New(code, pairs...))
}

const maxFile = 256 << 10

// read returns a small file's content; links on the way are followed within the machine, since /proc and /sys are full
// of them.
func (r *reader) read(at string) (string, error) {
	folder, name, err := r.parent(at, 0)
	if err != nil {
		return "", err
	}
	defer folder.Close()
	content, err := reach.ReadFile(r.ctx, folder, name, maxFile)
	return string(content), err
}

const maxLinks = 8

// parent opens the folder of a path whose last part is no link.
func (r *reader) parent(at string, links int) (reach.Tree, string, error) {
	if links > maxLinks {
		return nil, "", fmt.Errorf("%s: too many links", at)
	}
	done := "/"
	for rest := strings.TrimPrefix(at, "/"); rest != ""; {
		part, after, _ := strings.Cut(rest, "/")
		folder, err := r.files.Tree(r.ctx, done)
		if err != nil {
			return nil, "", err
		}
		info, err := folder.Look(r.ctx, part)
		if err != nil {
			folder.Close()
			return nil, "", err
		}
		if info.Type == entry.Link {
			target, err := folder.Target(r.ctx, part)
			folder.Close()
			if err != nil {
				return nil, "", err
			}
			if !strings.HasPrefix(target, "/") {
				target = path.Join(done, target)
			}
			return r.parent(path.Join(target, after), links+1)
		}
		if after == "" {
			return folder, part, nil
		}
		folder.Close()
		done = place.Join(done, part)
		rest = after
	}
	return nil, "", fs.ErrNotExist
}

// mount finds the file system in a table of mounts: the running one, else the one that is read at start.
func (r *reader) mount(at string) {
	for _, table := range []string{"/proc/1/mounts", "/proc/mounts", "/etc/mtab", "/etc/fstab"} {
		content, err := r.read(table)
		if err != nil || content == "" {
			continue
		}
		best := -1
		for line := range strings.Lines(content) {
			fields := strings.Fields(line)
			if len(fields) < 4 || fields[0][0] == '#' {
				continue
			}
			point := unescape(fields[1])
			if !strings.HasPrefix(point, "/") || !place.Under(at, point) || len(point) < best {
				continue
			}
			best = len(point)
			r.Node, r.Mount, r.FileSystem, r.options = unescape(fields[0]), point, fields[2], fields[3]
		}
		if best >= 0 {
			if networks[r.FileSystem] {
				r.Medium = firstaid.Network
			}
			return
		}
	}
	r.note("no-mounts")
}

var networks = map[string]bool{"nfs": true, "nfs4": true, "cifs": true, "smb3": true, "fuse.sshfs": true, "9p": true, "ceph": true}

// unescape reads the octal escapes of such tables (fstab(5)).
func unescape(s string) string {
	return strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`).Replace(s)
}

var partition = regexp.MustCompile(`^(nvme\d+n\d+|mmcblk\d+|loop\d+|md\d+|dm-\d+|[a-z]+)`)

// queue reads whether the device rotates and takes discards.
func (r *reader) queue() {
	if r.Medium == firstaid.Network {
		return
	}
	name := partition.FindString(strings.TrimPrefix(r.Node, "/dev/"))
	if !strings.HasPrefix(r.Node, "/dev/") || name == "" {
		r.note("no-device", "node", r.Node)
		return
	}
	rotating, err := r.read("/sys/block/" + name + "/queue/rotational")
	if err != nil {
		r.note("no-medium", "node", r.Node)
		return
	}
	r.Medium = firstaid.Solid
	if strings.TrimSpace(rotating) == "1" {
		r.Medium = firstaid.Rotating
	}
	if most, err := r.read("/sys/block/" + name + "/queue/discard_max_bytes"); err == nil && strings.TrimSpace(most) == "0" {
		r.Discard = firstaid.Never
	}
}

// discard reads whether freed blocks are discarded at once, or by the timer.
func (r *reader) discard(zone *time.Location) {
	if r.Medium == firstaid.Rotating || r.Medium == firstaid.Network || r.Discard == firstaid.Never {
		return
	}
	for option := range strings.SplitSeq(r.options, ",") {
		if option == "discard" || strings.HasPrefix(option, "discard=") && option != "discard=none" {
			r.Discard = firstaid.AtOnce
			return
		}
	}
	if folder, name, err := r.parent("/var/lib/systemd/timers/stamp-fstrim.timer", 0); err == nil {
		if info, err := folder.Look(r.ctx, name); err == nil {
			r.TrimLast = info.Written
		}
		folder.Close()
	}
	enabled := false
	if folder, name, err := r.parent("/etc/systemd/system/timers.target.wants/fstrim.timer", 0); err == nil {
		_, err = folder.Look(r.ctx, name)
		enabled = err == nil
		folder.Close()
	}
	switch {
	case enabled || !r.TrimLast.IsZero():
		r.Discard = firstaid.Periodically
		r.TrimNext = r.next(zone)
	default:
		for _, at := range []string{"/etc/cron.weekly/fstrim", "/etc/cron.daily/fstrim"} {
			if _, err := r.read(at); err == nil {
				r.Discard = firstaid.Periodically
				r.note("trim-run-by", "by", at)
			}
		}
	}
}

// next works out when the timer elapses after its last run (systemd.time(7): weekly is Monday, 00:00).
func (r *reader) next(zone *time.Location) time.Time {
	when := "weekly"
	for _, at := range []string{"/etc/systemd/system/fstrim.timer", "/usr/lib/systemd/system/fstrim.timer",
		"/lib/systemd/system/fstrim.timer"} {
		if unit, err := r.read(at); err == nil {
			for line := range strings.Lines(unit) {
				if value, ok := strings.CutPrefix(strings.TrimSpace(line), "OnCalendar="); ok && value != "" {
					when = value
				}
			}
			break
		}
	}
	if r.TrimLast.IsZero() {
		return time.Time{}
	}
	last := r.TrimLast.In(zone)
	midnight := time.Date(last.Year(), last.Month(), last.Day(), 0, 0, 0, 0, zone)
	switch when {
	case "daily":
		return midnight.AddDate(0, 0, 1)
	case "weekly":
		return midnight.AddDate(0, 0, 7-(int(last.Weekday())+6)%7)
	case "monthly":
		return time.Date(last.Year(), last.Month()+1, 1, 0, 0, 0, 0, zone)
	}
	r.note("trim-calendar", "when", when)
	return time.Time{}
}

// room asks the file system for its free space, at the nearest folder that still stands.
func (r *reader) room(at string) {
	for dir := place.Folder(at); ; dir = place.Folder(dir) {
		folder, err := r.files.Folder(r.ctx, dir)
		if err == nil {
			if free, readOnly, err := folder.Room(r.ctx); err == nil {
				r.Free, r.ReadOnly = free, readOnly
			}
			folder.Close()
			return
		}
		if dir == "/" {
			return
		}
	}
}

// maxSeen bounds how many entries of a home are looked at.
const maxSeen = 4000

// newest finds the last write below a home, in its upper folders: what is busy shows there, or in the write times of the
// folders themselves.
func (r *reader) newest(home string, now time.Time) {
	seen := 0
	var look func(dir string, depth int)
	look = func(dir string, depth int) {
		folder, err := r.files.Folder(r.ctx, dir)
		if err != nil {
			return
		}
		defer folder.Close()
		entries, err := folder.List(r.ctx)
		if err != nil {
			return
		}
		for _, e := range entries {
			if seen++; seen > maxSeen {
				return
			}
			at := place.Join(dir, e.Name)
			if e.Written.After(r.Newest) && !e.Written.After(now.Add(time.Minute)) {
				r.Newest, r.NewestPath = e.Written, place.Readable(at)
			}
			if e.Type == entry.Folder && depth < 3 {
				look(at, depth+1)
			}
		}
	}
	look(home, 0)
}
