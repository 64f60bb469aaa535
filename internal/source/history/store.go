package history

import (
	"bufio"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/source"
)

// store is a repository, read by way of its mirror.
type store struct {
	source.Setup
	mirror  mirror
	release func()

	vouching sync.Mutex
	vouch    []string // once it was asked for

	once   sync.Once
	reader *reader
}

func (s *store) objects() *reader {
	s.once.Do(func() { s.reader = &reader{mirror: &s.mirror} })
	return s.reader
}

func (s *store) Close() error {
	s.objects().Close()
	s.release()
	return nil
}

// memo is what is remembered of a survey.
type memo struct {
	State  string    `json:"state"` // a digest over everything that names commits, and over the names of all objects
	At     string    `json:"at"`    // the commit that the line ended with
	Tips   []string  `json:"tips"`  // what was read, with all that comes before it; nil where that is too much
	Lost   []string  `json:"lost,omitempty"`
	Staged []string  `json:"staged,omitempty"` // paths
	Index  time.Time `json:"index,omitzero"`
}

// most is how many things of a kind are remembered.
const most = 5000

// survey is one survey of a repository.
type survey struct {
	*store
	repository *repository
	heads      *heads
	fetched    fetched
	index      time.Time // when the index was written; zero where there is none
	commits    map[string]*commit
	labels     map[string]string // of commits, what reaches them
	sizes      map[string]int64  // of blobs that commits name; missing where they are not there
	lostSizes  map[string]int64  // of others
	targets    map[string]string // of blobs that are links
	now        time.Time
}

func (s *store) Survey(ctx context.Context, known source.Known, report source.Reporter) error {
	refuse := func(err error) error { return fmt.Errorf("read the repository at %s: %w", place.Quote(s.At), err) }
	repository, err := find(ctx, s.Setup)
	if err != nil {
		return refuse(err)
	}
	defer repository.Close()
	r := &survey{store: s, repository: repository, commits: map[string]*commit{}, sizes: map[string]int64{},
		lostSizes: map[string]int64{}, targets: map[string]string{},
		now: time.Now()}
	if r.heads, err = repository.readHeads(ctx); err != nil {
		return refuse(err)
	}
	if err := s.mirror.prepare(r.heads); err != nil {
		return refuse(err)
	}
	if r.fetched, err = s.mirror.fetch(ctx, repository); err != nil {
		return refuse(err)
	}
	if r.index, err = r.takeIndex(ctx); err != nil {
		return refuse(err)
	}
	for _, note := range append(repository.notes, r.heads.notes...) {
		report.Note(note)
	}
	latest, last, err := known.Latest(ctx)
	if err != nil {
		return err
	}
	if r.heads.at == "" {
		report.Note("It holds no commit yet.")
		return nil
	}
	var before memo
	if raw := known.Memo(); raw != nil && json.Unmarshal(raw, &before) != nil {
		before = memo{}
	}
	now := memo{State: r.state(), At: r.heads.at, Index: r.index}
	if tips := r.heads.tips(); len(tips) <= most {
		now.Tips = tips
	}
	if before.At != latest { // the records were made anew
		before = memo{}
	}
	if before.State == now.State {
		now = before
		err = report.Further()
	} else {
		var did bool
		if did, err = r.further(ctx, &before, &now, last, report); err == nil && !did {
			err = r.whole(ctx, &now, report)
		}
	}
	if err != nil {
		return refuse(err)
	}
	encoded, err := json.Marshal(now)
	report.Remember(encoded)
	return err
}

// state is a digest over everything that a survey tells things by.
func (r *survey) state() string {
	h := sha256.New()
	fmt.Fprintf(h, "%s %s %x %q\n", r.heads.at, r.heads.branch, r.fetched.print, r.heads.tips())
	for _, name := range slices.Sorted(maps.Keys(r.heads.named)) {
		fmt.Fprintf(h, "%q %s\n", name, r.heads.named[name])
	}
	fmt.Fprintf(h, "%q %d %q", r.heads.shallow, r.index.UnixNano(), r.Maps)
	return hex.EncodeToString(h.Sum(nil))
}

// longest is how many commits are told one by one.
const longest = 200

// further tells what came since an earlier survey, where the line only went on; false where it did not, or it is too much.
func (r *survey) further(ctx context.Context, before, now *memo, last time.Time, report source.Reporter) (bool, error) {
	if before.At == "" || before.Tips == nil || before.At == now.At || r.fetched.packed {
		return false, nil
	}
	cut, err := r.mirror.log(ctx, r.heads.tips(), before.Tips, func(c *commit) { r.commits[c.id] = c })
	if err != nil || cut != "" || len(r.commits) > longest {
		return false, ctx.Err()
	}
	if err := r.leaveOut(ctx, report); err != nil {
		return false, err
	}
	line, root := lineOf(r.commits, r.heads.at)
	if root != before.At || slices.ContainsFunc(line, (*commit).renames) { // what was called otherwise before is not known here
		return false, nil
	}
	loose, err := r.look(ctx, r.fetched.loose)
	if err != nil {
		return false, err
	}
	staged, err := r.staged(ctx, func(v version) bool {
		return slices.Contains(r.fetched.loose, v.blob) || slices.Contains(before.Staged, v.path)
	})
	if err != nil {
		return false, err
	}
	if err := report.Further(); err != nil {
		return true, err
	}
	r.label()
	by := recorders(r.commits)
	for i, c := range line {
		at := c.committed
		if !at.After(last) || at.After(r.now.Add(ahead)) {
			at = last.Add(1)
		}
		last = at
		if err := report.Begin(sighting.Capture{Name: c.id, At: at, Since: root}); err != nil {
			return true, err
		}
		root = c.id
		changed := r.changed(c, by)
		if i == len(line)-1 {
			t := tell(r.commits, line, by)
			changed = append(changed, r.beside(t)...)
			changed = append(changed, r.others(before, now, loose, staged)...)
		}
		if err := r.report(changed, report); err != nil {
			return true, err
		}
	}
	return true, nil
}

// reported is something to be sighted or called gone.
type reported struct {
	sighting.Sighting
	gone bool
}

// changed is what a commit changed on the line.
func (r *survey) changed(c *commit, by recorder) (all []reported) {
	for _, ch := range c.changes {
		if ch.other {
			continue
		}
		v := version{path: ch.path, blob: ch.blob, link: ch.link, by: by.of(c, ch)}
		if v.blob == "" {
			all = append(all, reported{sighting.Sighting{At: locate(ch.path)}, true})
			continue
		}
		all = append(all, reported{Sighting: r.sighting(v)})
	}
	return all
}

// others are what was lost or staged since, and what is not any more.
func (r *survey) others(before, now *memo, loose map[string]object, staged []version) (all []reported) {
	named := map[string]bool{}
	for _, c := range r.commits {
		for _, ch := range c.changes {
			named[ch.blob] = true
		}
	}
	for _, v := range staged {
		named[v.blob] = true
	}
	for _, blob := range before.Lost {
		if named[blob] {
			all = append(all, reported{sighting.Sighting{At: lostAt(blob)}, true})
		} else {
			now.Lost = append(now.Lost, blob)
		}
	}
	for blob, o := range loose {
		if o.kind == "blob" && !named[blob] && !slices.Contains(before.Lost, blob) {
			all = append(all, reported{Sighting: r.lost(blob, o.size)})
			now.Lost = append(now.Lost, blob)
		}
	}
	for _, v := range staged {
		all = append(all, reported{Sighting: r.stagedSighting(v)})
		now.Staged = append(now.Staged, v.path)
	}
	for _, path := range before.Staged {
		if !slices.ContainsFunc(staged, func(v version) bool { return v.path == path }) {
			all = append(all, reported{sighting.Sighting{At: stagedAt(path)}, true})
		}
	}
	return all
}

// label says of commits what reaches them: branches before tags before other names, the reflog last.
func (r *survey) label() {
	r.labels = map[string]string{}
	names := slices.Sorted(maps.Keys(r.heads.named))
	rank := func(name string) int {
		for i, prefix := range [...]string{"refs/heads/", "refs/tags/", "refs/stash", "refs/"} {
			if strings.HasPrefix(name, prefix) {
				return i
			}
		}
		return 9
	}
	slices.SortStableFunc(names, func(a, b string) int { return cmp.Compare(rank(a), rank(b)) })
	mark := func(at, label string) {
		for next := []string{at}; len(next) > 0; {
			at, next = next[len(next)-1], next[:len(next)-1]
			if c := r.commits[at]; c != nil && r.labels[at] == "" {
				r.labels[at] = label
				next = append(next, c.parents...)
			}
		}
	}
	for _, name := range names {
		label := "named " + place.Readable(strings.TrimPrefix(name, "refs/"))
		switch rank(name) {
		case 0:
			label = "on branch " + place.Readable(strings.TrimPrefix(name, "refs/heads/"))
		case 1:
			label = "at tag " + place.Readable(strings.TrimPrefix(name, "refs/tags/"))
		case 2:
			label = "in the stash"
		}
		mark(r.heads.named[name], label)
	}
	for _, f := range r.heads.former {
		label := "only in the reflog"
		if f.ref == "refs/stash" {
			label = "in the stash"
		}
		mark(f.commit, label)
	}
}

// look asks what objects are.
func (r *survey) look(ctx context.Context, names []string) (map[string]object, error) {
	all := map[string]object{}
	if len(names) == 0 {
		return all, nil
	}
	return all, r.mirror.run(ctx, names, func(out *bufio.Reader) error {
		for {
			line, err := field(out, '\n')
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return err
			}
			if name, o, ok := readObject(line); ok {
				all[name] = o
				if o.kind == "blob" {
					r.sizes[name] = o.size
				}
			}
		}
	}, "cat-file", "--batch-check")
}

// readLinks reads where symbolic links point to.
func (r *survey) readLinks(ctx context.Context, t told) error {
	const maxTarget = 4096
	for _, all := range [...][]version{t.line, t.beside} {
		for _, v := range all {
			if !v.link {
				continue
			}
			if _, known := r.targets[v.blob]; known {
				continue
			}
			_, target, err := r.objects().get(ctx, v.blob, maxTarget)
			if err != nil && ctx.Err() != nil {
				return err
			}
			r.targets[v.blob] = string(target)
		}
	}
	return nil
}

// report sights everything in the order that surveys have, but for what is left out.
func (r *survey) report(all []reported, report source.Reporter) error {
	ordered := make([]*reported, len(all))
	for i := range all {
		ordered[i] = &all[i]
	}
	slices.SortFunc(ordered, func(a, b *reported) int {
		return cmp.Or(strings.Compare(a.At.Dir, b.At.Dir), strings.Compare(a.At.Name, b.At.Name), a.From.Compare(b.From))
	})
	for _, x := range ordered {
		if err := r.sight(*x, report); err != nil {
			return err
		}
	}
	return nil
}

// sight reports one thing, if it is not left out.
func (r *survey) sight(x reported, report source.Reporter) error {
	switch {
	case len(r.Exclusions) > 0 && exclude.By(r.Exclusions, place.Mapped(r.Maps, "/"+x.At.Path())) != "":
		return nil
	case x.gone:
		return report.Gone(x.At)
	}
	return report.Sight(x.Sighting)
}
