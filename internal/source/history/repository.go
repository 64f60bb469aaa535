package history

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/refs"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/rights"
	"humble-rewind/internal/source"
)

// repository is a repository as it lies on its machine, in the form that gitrepository-layout(5) describes.
type repository struct {
	files reach.Session
	texts source.Unpacker // which reads what names commits
	path  string          // of what git calls the git directory
	own   string          // of what is this working tree's alone; mostly path
	tree  string          // the folder of the files; "" where it is bare
	dir   reach.Tree
	// vouch are paths of the machine that say what the repository holds and where it leads.
	vouch []string
	notes []string
}

func (r *repository) Close() error { return r.dir.Close() }

// errNoRepository says that there is none.
var errNoRepository = fmt.Errorf("there is no git repository in it: %w", problem.NotThere)

// find opens the repository at a folder: the one in .git, or the folder itself. Whoever writes a folder can make it point to somebody
// else's repository; so what it points to outside itself has to belong to whom the pointing folder does, and is read only as far as
// everybody may read it who can write what points there.
func find(ctx context.Context, setup source.Setup) (*repository, error) {
	files, at := setup.Files, setup.At
	r := &repository{files: files, texts: setup.Unpacker, path: at}
	inside := place.Join(at, ".git")
	info, err := reach.Look(ctx, files, inside)
	switch {
	case err == nil && info.Type == entry.Folder:
		r.path, r.tree = inside, at
	case err == nil && info.Type == entry.File: // a working tree of another repository, or part of one
		r.tree = at
		text, err := r.pointer(ctx, inside)
		if err != nil {
			return nil, err
		}
		to, ok := strings.CutPrefix(text, "gitdir: ")
		if !ok {
			return nil, errNoRepository
		}
		if r.path, err = r.follow(ctx, inside, at, to); err != nil {
			return nil, err
		}
	case err == nil:
		return nil, fmt.Errorf("%s is neither a folder nor a file: %w", place.Quote(inside), problem.LinkInTheWay)
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	case place.Name(at) == ".git":
		r.tree = place.Folder(at)
	}
	r.own = r.path
	if common, err := r.pointer(ctx, place.Join(r.own, "commondir")); err == nil {
		if r.path, err = r.follow(ctx, place.Join(r.own, "commondir"), r.own, common); err != nil {
			return nil, err
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if r.dir, err = r.files.Tree(ctx, r.path); err != nil {
		return nil, err
	}
	for name, typ := range map[string]entry.Type{"objects": entry.Folder, "HEAD": entry.File} {
		if i, err := r.dir.Look(ctx, name); err != nil || i.Type != typ {
			return nil, errors.Join(errNoRepository, r.dir.Close())
		}
	}
	if i, err := r.look(ctx, "objects/info/alternates"); err == nil && i.Size > 0 {
		r.notes = append(r.notes, "It borrows objects from another repository. Those are not followed: add that one as a source of its own.")
	}
	return r, nil
}

// pointer reads a file that names where the repository, or a part of it, is.
func (r *repository) pointer(ctx context.Context, path string) (string, error) {
	tree, err := r.files.Tree(ctx, place.Folder(path))
	if err != nil {
		return "", err
	}
	defer tree.Close()
	text, err := reach.ReadFile(ctx, tree, place.Name(path), maxRefText)
	if err != nil {
		return "", err
	}
	r.vouch = append(r.vouch, path)
	return strings.TrimSpace(string(text)), nil
}

// follow returns where a file of a folder points to, and from then on reads nothing outside that those could not read who may write the
// file.
func (r *repository) follow(ctx context.Context, pointer, folder, to string) (string, error) {
	path, err := place.Clean(beside(folder, to))
	if err != nil || place.Under(path, folder) {
		return path, err
	}
	refuse := func(why string) (string, error) {
		return "", fmt.Errorf("%s points to %s, %s, and is not followed; add that repository as a source of its own if it is wanted",
			place.Quote(pointer), place.Quote(path), why)
	}
	machine := rights.Of(ctx, r.files)
	r.files = machine.Confined(folder, machine.Writers(ctx, pointer))
	ours, err := reach.Look(ctx, r.files, folder)
	if err != nil {
		return "", err
	}
	theirs, err := reach.Look(ctx, r.files, path)
	switch {
	case errors.Is(err, problem.Refused):
		return refuse("which somebody may not read who may write that file")
	case err != nil:
		return "", err
	case ours.UID != theirs.UID:
		return refuse("which belongs to somebody else")
	}
	return path, nil
}

// beside is a path as it is meant in a folder.
func beside(folder, path string) string {
	if strings.HasPrefix(path, "/") {
		return path
	}
	for strings.HasPrefix(path, "../") || path == ".." {
		folder, path = place.Folder(folder), strings.TrimPrefix(strings.TrimPrefix(path, ".."), "/")
	}
	return place.Join(folder, path)
}

// read reads a small file of the repository.
func (r *repository) read(ctx context.Context, path string, limit int64) (text []byte, err error) {
	err = r.either(path, func(full string) error {
		tree, err := r.files.Tree(ctx, place.Folder(full))
		if err != nil {
			return err
		}
		defer tree.Close()
		text, err = reach.ReadFile(ctx, tree, place.Name(full), limit)
		return err
	})
	return text, err
}

// names calls each with what a text of the repository of at most limit bytes names, and returns how long that is.
func (r *repository) names(ctx context.Context, form refs.Form, path string, limit int64, each func(refs.Named)) (size int64, err error) {
	err = r.either(path, func(full string) error {
		tree, err := r.files.Tree(ctx, place.Folder(full))
		if err != nil {
			return err
		}
		defer tree.Close()
		f, err := tree.Open(ctx, place.Name(full))
		if err != nil {
			return err
		}
		defer f.Close()
		info, err := f.Info(ctx)
		if err != nil {
			return err
		}
		if size = info.Size; size > limit {
			size = 0
			return fmt.Errorf("it has %d bytes: %w", info.Size, problem.TooLarge)
		}
		text, err := reach.AtMost(ctx, f, size)
		if err != nil {
			return err
		}
		defer text.Close()
		return r.texts.Refs(ctx, form, text, func(n refs.Named) error { each(n); return nil })
	})
	return size, err
}

// either reads a file of the repository; those that are of the working tree alone come first.
func (r *repository) either(path string, read func(full string) error) error {
	for _, in := range slices.Compact([]string{r.own, r.path}) {
		if err := read(place.Join(in, path)); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return problem.NotThere
}

func (r *repository) look(ctx context.Context, path string) (reach.Info, error) {
	return reach.Look(ctx, r.files, place.Join(r.path, path))
}

// Bounds on what a repository may name.
const (
	maxRefs    = 200_000
	maxPacked  = 64 << 20 // bytes
	maxReflog  = 64 << 20
	maxRefText = 4096
)

// heads is what names commits in a repository.
type heads struct {
	at     string            // the commit that the line ends with; "" where there is none
	branch string            // that is checked out, or being rebased; "" where none is
	named  map[string]string // commits by the full names of refs
	former []former          // what reflogs name
	others []string          // commits that work under way names
	notes  []string
	sha256 bool // its objects are named by SHA-256
	// shallow are the commits whose parents were left out when it was copied.
	shallow []string
}

// former is a line of a reflog.
type former struct {
	ref, commit string
	when        time.Time
}

func (h *heads) describe() string {
	if h.at == "" {
		return "It holds no commit yet."
	}
	branch := "no branch (a single commit is checked out)"
	if h.branch != "" {
		branch = "branch " + place.Readable(h.branch)
	}
	return fmt.Sprintf("On %s; %d branches, tags and other names.", branch, len(h.named))
}

// readHeads reads what names commits.
func (r *repository) readHeads(ctx context.Context) (*heads, error) {
	h := &heads{named: map[string]string{}}
	head, err := r.read(ctx, "HEAD", maxRefText)
	if err != nil {
		return nil, err
	}
	if config, err := r.read(ctx, "config", 1<<20); err == nil {
		h.sha256 = regexp.MustCompile(`(?im)^\s*objectformat\s*=\s*sha256\s*$`).Match(config)
	}
	if _, err := r.names(ctx, refs.Packed, "packed-refs", maxPacked, func(n refs.Named) {
		if len(h.named) < maxRefs {
			h.named[n.Ref] = n.Commit
		}
	}); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("packed-refs: %w", err)
	}
	if err := r.below(ctx, "refs", 0, func(path string) error {
		if len(h.named) >= maxRefs {
			return nil
		}
		text, err := r.read(ctx, path, maxRefText)
		if commit := strings.TrimSpace(string(text)); err == nil && refs.IsObject(commit) {
			h.named[path] = commit
		}
		return ctx.Err()
	}); err != nil {
		return nil, err
	}
	if len(h.named) >= maxRefs {
		h.notes = append(h.notes, fmt.Sprintf("It has more than %d branches and tags; the rest is left out.", maxRefs))
	}
	if err := r.readReflogs(ctx, h); err != nil {
		return nil, err
	}
	r.underWay(ctx, h)
	if _, err := r.names(ctx, refs.List, "shallow", maxPacked, func(n refs.Named) {
		if len(h.shallow) < maxRefs {
			h.shallow = append(h.shallow, n.Commit)
		}
	}); err == nil && len(h.shallow) > 0 {
		h.notes = append(h.notes, "It was copied without its whole history (shallow): what came before is not in it.")
	}
	h.line(strings.TrimSpace(string(head)))
	return h, nil
}

// line finds where the line of the checked-out branch ends.
func (h *heads) line(head string) {
	if h.branch != "" { // of work under way
		h.at = h.named["refs/heads/"+h.branch]
	}
	if ref, ok := strings.CutPrefix(head, "ref: "); ok && h.at == "" {
		h.branch, h.at = strings.TrimPrefix(ref, "refs/heads/"), h.named[ref]
	} else if refs.IsObject(head) {
		h.others = append(h.others, head)
		if h.at == "" {
			h.at = head
		}
	}
	if h.at != "" {
		return
	}
	// What is checked out has no commit yet: the branch that git makes first, else the first by name.
	names := []string{"refs/heads/main", "refs/heads/master"}
	for name := range h.named {
		if strings.HasPrefix(name, "refs/heads/") {
			names = append(names, name)
		}
	}
	slices.Sort(names[2:])
	for _, name := range names {
		if h.named[name] != "" {
			h.notes = append(h.notes, fmt.Sprintf("What is checked out holds no commit; the line of branch %s is taken.",
				place.Readable(strings.TrimPrefix(name, "refs/heads/"))))
			h.branch, h.at = strings.TrimPrefix(name, "refs/heads/"), h.named[name]
			return
		}
	}
}

// underWay reads what a rebase, merge or the like that is not finished names.
func (r *repository) underWay(ctx context.Context, h *heads) {
	for _, name := range []string{"ORIG_HEAD", "MERGE_HEAD", "CHERRY_PICK_HEAD", "REVERT_HEAD", "FETCH_HEAD", "rebase-merge/orig-head",
		"rebase-merge/onto", "rebase-apply/orig-head", "rebase-apply/onto"} {
		_, _ = r.names(ctx, refs.List, name, maxPacked, func(n refs.Named) { // most repositories have none of them
			if len(h.others) < maxRefs {
				h.others = append(h.others, n.Commit)
			}
		})
	}
	for _, name := range []string{"rebase-merge/head-name", "rebase-apply/head-name"} {
		if text, err := r.read(ctx, name, maxRefText); err == nil {
			if branch, ok := strings.CutPrefix(strings.TrimSpace(string(text)), "refs/heads/"); ok {
				h.branch = branch
				h.notes = append(h.notes, fmt.Sprintf("Branch %s is in the middle of a rebase; its line is read as it was before.",
					place.Readable(branch)))
			}
		}
	}
}

// readReflogs reads where branches were before.
func (r *repository) readReflogs(ctx context.Context, h *heads) error {
	left := int64(maxReflog)
	return r.below(ctx, "logs", 0, func(path string) error {
		ref := strings.TrimPrefix(path, "logs/")
		read, _ := r.names(ctx, refs.Log, path, left, func(n refs.Named) {
			for _, commit := range [...]string{n.Before, n.Commit} {
				if commit != "" && len(h.former) < maxRefs {
					h.former = append(h.former, former{ref, commit, n.When.Time()})
				}
			}
		})
		left -= read
		return ctx.Err()
	})
}

// below calls see with the paths of all files below a folder of the repository.
func (r *repository) below(ctx context.Context, path string, depth int, see func(path string) error) error {
	for _, in := range slices.Compact([]string{r.path, r.own}) {
		folder, err := r.files.Tree(ctx, place.Join(in, path))
		if err != nil {
			continue // not there
		}
		entries, err := folder.List(ctx)
		folder.Close()
		if err != nil {
			return err
		}
		slices.SortFunc(entries, func(a, b reach.Info) int { return strings.Compare(a.Name, b.Name) })
		for _, e := range entries {
			err := error(nil)
			switch {
			case e.Type == entry.Folder && depth < maxRefDepth && in == r.path:
				err = r.below(ctx, path+"/"+e.Name, depth+1, see)
			case e.Type == entry.File:
				err = see(path + "/" + e.Name)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// tips are all commits that something names, without repetition, in order.
func (h *heads) tips() []string {
	all := slices.Clone(h.others)
	for _, commit := range h.named {
		all = append(all, commit)
	}
	for _, f := range h.former {
		all = append(all, f.commit)
	}
	if h.at != "" {
		all = append(all, h.at)
	}
	slices.Sort(all)
	return slices.Compact(all)
}
