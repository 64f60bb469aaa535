package history

import (
	"bufio"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// store is a repository, read by way of its mirror.
type store struct {
	source.Setup
	mirror  mirror
	release func()

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

// reading is one reading of a repository.
type reading struct {
	*store
	repository *repository
	heads      *heads
	fetched    fetched
	index      time.Time // when the index was written; zero where there is none
	commits    map[string]*commit
	labels     map[string]string // of commits, what reaches them
	sizes      map[string]int64  // of blobs
	targets    map[string]string // of blobs that are links
	now        time.Time
}

func (s *store) Survey(ctx context.Context, known source.Known, report source.Reporter) error {
	refuse := func(err error) error { return fmt.Errorf("read the repository at %s: %w", place.Quote(s.At), err) }
	repository, err := find(ctx, s.Files, s.At)
	if err != nil {
		return refuse(err)
	}
	defer repository.Close()
	r := &reading{store: s, repository: repository, commits: map[string]*commit{}, sizes: map[string]int64{}, targets: map[string]string{},
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
func (r *reading) state() string {
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
func (r *reading) further(ctx context.Context, before, now *memo, last time.Time, report source.Reporter) (bool, error) {
	if before.At == "" || before.Tips == nil || before.At == now.At || r.fetched.packed {
		return false, nil
	}
	cut, err := r.mirror.log(ctx, r.heads.tips(), before.Tips, func(c *commit) { r.commits[c.id] = c })
	if err != nil || cut != "" || len(r.commits) > longest {
		return false, ctx.Err()
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
func (r *reading) changed(c *commit, by recorder) (all []reported) {
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
func (r *reading) others(before, now *memo, loose map[string]object, staged []version) (all []reported) {
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

// whole tells everything anew.
func (r *reading) whole(ctx context.Context, now *memo, report source.Reporter) error {
	clear(r.commits)
	unnamed := map[string]bool{} // commits, then those that nothing names
	side, sideBySide := errgroup.WithContext(ctx)
	side.Go(func() error {
		return r.mirror.objects(sideBySide, func(name string, o object) {
			switch o.kind {
			case "blob":
				r.sizes[name] = o.size
			case "commit":
				unnamed[name] = true
			}
		})
	})
	tips := r.heads.tips()
	cut, err := r.mirror.log(ctx, tips, nil, func(c *commit) { r.commits[c.id] = c })
	if listed := side.Wait(); listed != nil {
		return listed
	}
	for id := range r.commits {
		delete(unnamed, id)
	}
	take := func(c *commit) {
		r.commits[c.id] = c
		delete(unnamed, c.id)
	}
	if err == nil && len(unnamed) > 0 && cut == "" {
		cut, err = r.mirror.log(ctx, slices.Sorted(maps.Keys(unnamed)), tips, take)
	}
	if err != nil || cut != "" {
		if cut, err = r.mend(ctx, slices.Sorted(maps.Keys(unnamed)), take); err != nil {
			return err
		}
		report.Note("The repository is damaged: commits or folders that others build on are missing or cannot be read. What can be read is.")
		if cut != "" {
			report.Note("Git says: " + cut + ".")
		}
	}
	line, broken := lineOf(r.commits, r.heads.at)
	if len(line) == 0 {
		return fmt.Errorf("the commit that is checked out, %.10s, cannot be read: %w", r.heads.at, errMissing)
	}
	if broken != "" && !slices.Contains(r.heads.shallow, line[0].id) {
		report.Note(fmt.Sprintf("The line of commits breaks off before %.10s: the one before is not in the repository.", line[0].id))
	}
	times, wrong := timesOf(line, r.now)
	if wrong > 0 {
		report.Note(fmt.Sprintf("%d commits have times that cannot be, as of a clock that was wrong; they are taken to follow right upon the "+
			"commits before them.", wrong))
	}
	r.label()
	staged, err := r.staged(ctx, func(version) bool { return true })
	if err != nil {
		return err
	}
	t := tell(r.commits, line, recorders(r.commits))
	if err := r.readLinks(ctx, t); err != nil {
		return err
	}
	points := make([]sighting.Capture, len(line))
	for i, c := range line {
		points[i] = sighting.Capture{Name: c.id, At: times[i]}
	}
	if err := report.Line(points); err != nil {
		return err
	}
	all := slices.Grow(r.beside(t), len(t.line))
	named := make(map[string]bool, len(r.sizes))
	for _, v := range t.line {
		seen := r.sighting(v)
		if seen.Type == entry.Folder { // which is read as of the latest commit that has it
			if seen.Origin == "" {
				continue
			}
			seen.At.Capture = points[len(points)-1].Name
			if v.until != standing {
				seen.At.Capture = points[v.until].Name
			}
		}
		seen.From = times[v.from]
		if v.until != standing {
			seen.Until = times[v.until]
		}
		all = append(all, reported{Sighting: seen})
	}
	for _, c := range r.commits {
		for _, ch := range c.changes {
			named[ch.blob], named[ch.was] = true, true
		}
	}
	for _, v := range staged {
		named[v.blob] = true
		all = append(all, reported{Sighting: r.stagedSighting(v)})
		now.Staged = append(now.Staged, v.path)
	}
	for blob, size := range r.sizes {
		if !named[blob] {
			all = append(all, reported{Sighting: r.lost(blob, size)})
			now.Lost = append(now.Lost, blob)
		}
	}
	if len(now.Lost) > most || len(now.Staged) > most {
		now.Lost, now.Staged, now.Tips = nil, nil, nil // the next survey tells everything anew
	}
	return r.report(all, report)
}

// mend reads a repository in which something is missing: commits whose parents are not there are taken for first ones.
func (r *reading) mend(ctx context.Context, missed []string, take func(*commit)) (cut string, err error) {
	ends := slices.Clone(r.heads.shallow)
	all := slices.Concat(missed, slices.Sorted(maps.Keys(r.commits)))
	there := map[string]bool{}
	for _, name := range all {
		there[name] = true
	}
	for _, name := range all {
		_, text, err := r.objects().get(ctx, name, 1<<20)
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		if err != nil {
			delete(there, name)
			continue
		}
		for line := range strings.Lines(string(text)) {
			parent, ok := strings.CutPrefix(line, "parent ")
			if line == "\n" {
				break
			}
			if ok && !there[strings.TrimSpace(parent)] {
				ends = append(ends, name)
				break
			}
		}
	}
	r.objects().Close() // which has read the old boundary
	if err := r.mirror.cut(ends); err != nil {
		return "", err
	}
	tips := slices.DeleteFunc(all, func(name string) bool { return !there[name] })
	if cut, err = r.mirror.log(ctx, tips, nil, take); cut == "" && err == nil {
		return "", nil
	}
	// Something else is missing: each commit by itself, as far as it can be read.
	for _, name := range tips[:min(len(tips), maxSingly)] {
		if r.commits[name] != nil {
			continue
		}
		if _, err := r.mirror.single(ctx, name, take); ctx.Err() != nil {
			return "", err
		}
	}
	return cut, ctx.Err()
}

// maxSingly is how many commits of a damaged repository are read one by one.
const maxSingly = 2000

// single reads one commit.
func (m *mirror) single(ctx context.Context, name string, see func(*commit)) (string, error) {
	l := logReader{see: see, texts: map[string]string{}}
	return "", m.run(ctx, []string{name}, l.read, "log", "--stdin", "--no-walk", "--raw", "-z", "--no-renames", "--no-abbrev",
		"--diff-merges=first-parent", "--no-ext-diff", "--no-textconv", "--no-color", logFormat)
}

// label says of commits what reaches them: branches before tags before other names, the reflog last.
func (r *reading) label() {
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
func (r *reading) look(ctx context.Context, names []string) (map[string]object, error) {
	all := map[string]object{}
	if len(names) == 0 {
		return all, nil
	}
	return all, r.mirror.run(ctx, names, func(out *bufio.Reader) error {
		for {
			line, err := out.ReadSlice('\n')
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

// takeIndex copies the index, in which git keeps what is to be committed next.
func (r *reading) takeIndex(ctx context.Context) (time.Time, error) {
	const maxIndex = 256 << 20
	info, err := reach.Look(ctx, r.Files, place.Join(r.repository.own, "index"))
	if err != nil || info.Size > maxIndex || r.repository.tree == "" {
		return time.Time{}, ctx.Err()
	}
	content, err := r.repository.read(ctx, "index", maxIndex)
	if err != nil {
		return time.Time{}, ctx.Err()
	}
	return info.Written, r.mirror.write("index", content)
}

// staged lists what was staged and is in none of the commits that were read, as far as keep says. An index that cannot be read holds nothing.
func (r *reading) staged(ctx context.Context, keep func(version) bool) (all []version, err error) {
	if r.index.IsZero() {
		return nil, nil
	}
	committed := map[recorded]bool{}
	for _, c := range r.commits {
		for _, ch := range c.changes {
			committed[recorded{ch.path, ch.blob}] = true
		}
	}
	var blobs []string
	err = r.mirror.run(ctx, nil, func(out *bufio.Reader) error {
		for {
			field, err := out.ReadString(0)
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return err
			}
			meta, path, ok := strings.Cut(strings.TrimSuffix(field, "\x00"), "\t")
			f := strings.Fields(meta)
			if !ok || len(f) != 3 || !isObject(f[1]) || f[0] == "160000" || f[0] == "120000" || len(all) > maxChanges {
				continue
			}
			if v := (version{path: path, blob: f[1]}); !committed[recorded{v.path, v.blob}] && keep(v) {
				all = append(all, v)
				blobs = append(blobs, v.blob)
			}
		}
	}, "ls-files", "--stage", "-z")
	var broken *gitError
	if errors.As(err, &broken) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	known, err := r.look(ctx, blobs)
	return slices.DeleteFunc(all, func(v version) bool { _, there := known[v.blob]; return !there }), err
}

// readLinks reads where symbolic links point to.
func (r *reading) readLinks(ctx context.Context, t told) error {
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
func (r *reading) report(all []reported, report source.Reporter) error {
	ordered := make([]*reported, len(all))
	for i := range all {
		ordered[i] = &all[i]
	}
	slices.SortFunc(ordered, func(a, b *reported) int {
		return cmp.Or(strings.Compare(a.At.Dir, b.At.Dir), strings.Compare(a.At.Name, b.At.Name), a.From.Compare(b.From))
	})
	for _, x := range ordered {
		if len(r.Exclusions) > 0 && exclude.By(r.Exclusions, place.Mapped(r.Maps, "/"+x.At.Path())) != "" {
			continue
		}
		err := error(nil)
		if x.gone {
			err = report.Gone(x.At)
		} else {
			err = report.Sight(x.Sighting)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func locate(path string) sighting.Locator {
	return sighting.Locator{Dir: folderOf(path), Name: nameOf(path)}
}

// What is beside the line lies in its folder under a name that no file has, since it holds a slash.
func besideAt(path, commit string) sighting.Locator {
	l := locate(path)
	l.Name += "/" + commit
	return l
}

func stagedAt(path string) sighting.Locator { return besideAt(path, "index") }

func lostAt(blob string) sighting.Locator { return sighting.Locator{Name: "/" + blob} }

// origin is where on the machine a path of the repository stood; "" where nothing tells.
func (r *reading) origin(path string) string {
	in := "/" + path
	for _, m := range r.Maps {
		if place.Under(in, m.From) {
			return place.Mapped(r.Maps, in)
		}
	}
	if r.repository.tree == "" || r.Own != r.Files {
		return ""
	}
	return place.Join(r.repository.tree, path)
}

func (r *reading) sighting(v version) sighting.Sighting {
	seen := sighting.Sighting{At: locate(v.path), Origin: r.origin(v.path), Type: entry.File, Number: v.number, Readable: true}
	if v.blob == "" {
		seen.Type, seen.Size = entry.Folder, -1
		seen.Mark = entry.Mark{Type: entry.Folder}
		return seen
	}
	if v.by != nil {
		seen.Written, seen.Author, seen.Message = v.by.authored, v.by.author, v.by.message
		seen.Lies = fmt.Sprintf("commit %.10s", v.by.id)
	}
	size, there := r.sizes[v.blob]
	seen.Size, seen.Readable = size, there
	if !there {
		seen.Size = -1
		seen.Notes = []string{"The commit names it, but its content is not in the repository."}
	}
	if v.link {
		seen.Type, seen.Target = entry.Link, r.targets[v.blob]
	}
	seen.Mark = entry.Mark{Type: seen.Type, Size: max(seen.Size, 0), Content: entry.ContentID{Kind: entry.GitBlob, Value: v.blob}}
	seen.Ref = blobRef(v.blob, v.link, seen.Written)
	return seen
}

// beside is what lies beside the line.
func (r *reading) beside(t told) (all []reported) {
	for _, v := range t.beside {
		seen := r.sighting(v)
		seen.At, seen.Beside, seen.Number = besideAt(v.path, v.by.id), true, 0
		label := r.labels[v.by.id]
		if label == "" {
			label = "which nothing names any more"
		}
		seen.Lies = fmt.Sprintf("commit %.10s, %s", v.by.id, label)
		all = append(all, reported{Sighting: seen})
	}
	return all
}

func (r *reading) stagedSighting(v version) sighting.Sighting {
	seen := r.sighting(v)
	seen.At, seen.Beside, seen.Written = stagedAt(v.path), true, r.index
	seen.Lies = "staged, and in no commit"
	seen.Ref = blobRef(v.blob, false, r.index)
	return seen
}

// lost is a blob that no tree names.
func (r *reading) lost(blob string, size int64) sighting.Sighting {
	return sighting.Sighting{At: lostAt(blob), Ref: blobRef(blob, false, time.Time{}), Type: entry.File, Size: size, Nameless: true, Beside: true,
		Readable: true, Lies: fmt.Sprintf("blob %.10s, which nothing names any more", blob),
		Mark: entry.Mark{Type: entry.File, Size: size, Content: entry.ContentID{Kind: entry.GitBlob, Value: blob}}}
}
