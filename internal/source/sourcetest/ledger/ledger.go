// Package ledger is a kind of store for tests alone, unlike any that lies in a file system: a file of entries, each of which says what
// a commit changed, beside a folder of contents that are called by their digests. It has the contents that each file had, tells only
// what changed, tells contents by their digests, has lost the names of some, and may be locked.
//
// The file ledger.jsonl holds a Commit a line; the contents lie in the folder contents.
package ledger

import (
	"bytes"
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// Commit is one line of a ledger.
type Commit struct {
	ID      string    `json:"id"`
	At      time.Time `json:"at"`
	Changes []Change  `json:"changes"`
}

// Change is what a commit did to one file.
type Change struct {
	Path    string    `json:"path"`              // of the machine; "" where it is lost
	Content string    `json:"content,omitempty"` // hex digest; "" where the file was removed
	Size    int64     `json:"size,omitempty"`
	Written time.Time `json:"written,omitzero"`
}

// Write adds a commit to the ledger in a folder of the test's host; changes are contents by paths, a path that begins with "?" has
// lost its name, and the content "gone" removes.
func Write(dir, id string, at time.Time, changes map[string]string) error {
	if err := os.MkdirAll(filepath.Join(dir, "contents"), 0o755); err != nil {
		return err
	}
	c := Commit{ID: id, At: at}
	for path, content := range changes {
		change := Change{Path: path}
		if strings.HasPrefix(path, "?") {
			change.Path = ""
		}
		if content != "gone" {
			sum, n, err := digest.Of(strings.NewReader(content))
			if err != nil {
				return err
			}
			change.Content, change.Size, change.Written = sum.Hex(), n, at.Add(-time.Minute)
			if err := os.WriteFile(filepath.Join(dir, "contents", change.Content), []byte(content), 0o644); err != nil {
				return err
			}
		}
		c.Changes = append(c.Changes, change)
	}
	line, err := json.Marshal(c)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(filepath.Join(dir, "ledger.jsonl"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(append(line, '\n'))
	return errors.Join(err, f.Close())
}

// Kind is the kind "ledger". A store whose folder holds a file "lock" is opened by that file's content as its secret.
var Kind source.Kind = kind{}

type kind struct{}

func (kind) Name() string { return "ledger" }

func (kind) Traits() traits.Traits {
	return traits.Traits{Shape: traits.Versions, Rank: 40, Resolution: time.Nanosecond, Ownerless: true, Proves: true, Cost: traits.Little,
		Lockable: true}
}

func (kind) Options() []source.Option { return nil }

func (kind) Open(_ context.Context, setup source.Setup) (source.Store, error) {
	return store{setup}, nil
}

func (kind) Describe(ctx context.Context, setup source.Setup) (source.Described, error) {
	commits, err := (store{setup}).commits(ctx)
	return source.Described{Notes: []string{fmt.Sprintf("%d commits.", len(commits))}}, err
}

func (kind) Suggest(context.Context, source.Setup) ([]source.Suggestion, error) { return nil, nil }

type store struct{ source.Setup }

func (store) Close() error { return nil }

// Traits says that a ledger whose folder holds a file "unproved" is one whose contents may have been given to other entries since.
func (s store) Traits(ctx context.Context, declared traits.Traits) traits.Traits {
	_, err := reach.Look(ctx, s.Files, place.Join(s.At, "unproved"))
	declared.Unproved = err == nil
	return declared
}

// Vouches names the ledger.
func (s store) Vouches(context.Context, sighting.Locator) []string {
	return []string{place.Join(s.At, "ledger.jsonl")}
}

const most = 16 << 20

func (s store) commits(ctx context.Context) ([]Commit, error) {
	folder, err := s.Files.Tree(ctx, s.At)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	if lock, err := reach.ReadFile(ctx, folder, "lock", most); err == nil && subtle.ConstantTimeCompare(lock, s.Secret) == 0 {
		return nil, source.ErrLocked
	}
	raw, err := reach.ReadFile(ctx, folder, "ledger.jsonl", most)
	if err != nil {
		return nil, err
	}
	var all []Commit
	for line := range bytes.Lines(raw) {
		var c Commit
		if err := json.Unmarshal(line, &c); err != nil {
			return nil, err
		}
		all = append(all, c)
	}
	return all, nil
}

// Opens tells whether the secret opens the ledger, where it is locked.
func (s store) Opens(ctx context.Context) (opened, locked int, err error) {
	folder, err := s.Files.Tree(ctx, s.At)
	if err != nil {
		return 0, 0, err
	}
	defer folder.Close()
	if _, err := folder.Look(ctx, "lock"); err != nil {
		return 0, 0, nil
	}
	if _, err := s.commits(ctx); errors.Is(err, source.ErrLocked) {
		return 0, 1, nil
	} else if err != nil {
		return 0, 0, err
	}
	return 1, 0, nil
}

func (s store) Survey(ctx context.Context, known source.Known, report source.Reporter) error {
	commits, err := s.commits(ctx)
	if err != nil {
		return fmt.Errorf("read the ledger at %s: %w", place.Quote(s.At), err)
	}
	read, err := known.Captures(ctx)
	if err != nil {
		return err
	}
	before := ""
	for n, c := range commits {
		at, same := read[c.ID]
		point := sighting.Capture{Name: c.ID, At: c.At, Same: same && at.Equal(c.At), Since: before}
		before = c.ID
		if err := report.Begin(point); err != nil {
			return err
		}
		if point.Same {
			continue
		}
		if err := s.report(c, report); err != nil {
			return err
		}
		if n < len(commits)-1 && report.Due() {
			return report.Again([]byte(c.ID))
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}

// report tells what a commit changed, folder by folder.
func (s store) report(c Commit, report source.Reporter) error {
	byFolder := map[string][]sighting.Sighting{}
	var folders []string
	for n, change := range c.Changes {
		seen := sighting.Sighting{
			At: sighting.Locator{Capture: c.ID, Dir: strings.TrimPrefix(place.Folder(change.Path), "/"), Name: place.Name(change.Path)},
			Ref: sighting.Ref(
				"ledger:" + change.Content,
			),
			Type:     entry.File,
			Size:     change.Size,
			Written:  change.Written,
			Origin:   change.Path,
			Readable: true,
			Lies: fmt.Sprintf(
				"entry %d of commit %s",
				n+1,
				c.ID,
			),
			Mark: entry.Mark{Type: entry.File, Size: change.Size, Written: entry.At(change.Written),
				Content: entry.ContentID{Kind: entry.SHA256, Value: change.Content}},
		}
		if change.Path == "" {
			seen.At.Dir, seen.At.Name, seen.Nameless = "", fmt.Sprintf("%s-%d", c.ID, n), true
		}
		if byFolder[seen.At.Dir] == nil {
			folders = append(folders, seen.At.Dir)
		}
		if change.Content == "" {
			seen.Type = "" // it is gone
		}
		byFolder[seen.At.Dir] = append(byFolder[seen.At.Dir], seen)
	}
	for _, folder := range folders {
		inOrder := byFolder[folder]
		slices.SortFunc(inOrder, func(a, b sighting.Sighting) int { return strings.Compare(a.At.Name, b.At.Name) })
		for _, seen := range inOrder {
			err := error(nil)
			if seen.Type == "" {
				err = report.Gone(seen.At)
			} else {
				err = report.Sight(seen)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func (s store) Open(ctx context.Context, ref sighting.Ref) (source.Opened, error) {
	sum, ok := strings.CutPrefix(string(ref), "ledger:")
	if !ok {
		return source.Opened{}, sighting.ErrNotRef
	}
	if _, err := s.commits(ctx); err != nil {
		return source.Opened{}, err
	}
	folder, err := s.Files.Tree(ctx, place.Join(s.At, "contents"))
	if err != nil {
		return source.Opened{}, err
	}
	defer folder.Close()
	c, err := source.OpenEntry(ctx, folder, sum)
	if err != nil {
		return source.Opened{}, err
	}
	// What the contents' own files are like says nothing of the files that they were contents of.
	c.Info = reach.Info{Type: entry.File, Size: c.Info.Size, Written: s.written(ctx, sum)}
	return c, nil
}

// written is the write time that the ledger gives a content.
func (s store) written(ctx context.Context, sum string) time.Time {
	commits, _ := s.commits(ctx)
	for _, c := range commits {
		for _, change := range c.Changes {
			if change.Content == sum {
				return change.Written
			}
		}
	}
	return time.Time{}
}
