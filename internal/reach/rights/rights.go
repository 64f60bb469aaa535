// Package rights tells who may do what with what lies on a machine, by the machine's own accounts (passwd(5), group(5)), modes and access
// lists (acl(5)). It reads them through the machine's way and changes nothing.
//
// Two questions are asked of it. Who could have written something ([Machine.Writers]): whoever may write a store can make it say what she
// likes. And what somebody may read or write ([Machine.MayPut], [Confined]). Where nothing can be told, nothing is granted and anybody may
// have written.
package rights

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"sync"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
)

// Rights are bits as a mode has them for one class.
const (
	search fs.FileMode = 0o1
	write  fs.FileMode = 0o2
	read   fs.FileMode = 0o4
)

// Machine answers for one machine, with what its accounts and folders are when they are first asked about. It is safe for concurrent use.
type Machine struct {
	files    reach.Session
	accounts func() *accounts

	mu    sync.Mutex
	known map[string]folder
	keeps bool
	last  reach.Tree // the folder that something was looked at in last, where it is kept open
	in    string     // its path
}

// Keep keeps the folder open that something was looked at in last, for much work of one in few folders, until the function is called.
func (m *Machine) Keep() (release func()) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.keeps = true
	return func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.keeps = false
		m.drop()
	}
}

// drop closes the folder that is kept open. mu is held.
func (m *Machine) drop() {
	if m.last != nil {
		m.last.Close()
		m.last, m.in = nil, ""
	}
}

// maxKnown is how many folders are remembered.
const maxKnown = 4096

// Of answers for the machine of a session; nil, of which nothing can be told.
func Of(ctx context.Context, files reach.Session) *Machine {
	return &Machine{files: files, known: map[string]folder{},
		accounts: sync.OnceValue(func() *accounts { return readAccounts(context.WithoutCancel(ctx), files) })}
}

// Who is a user of a machine, or everyone who is not named anywhere.
type Who struct {
	UID int64
	on  *Machine // whose groups are hers
	// everyone has no number, is in no group and owns nothing.
	everyone bool
}

// Everyone is any user at all.
var Everyone = Who{UID: -1, everyone: true}

// User returns a user with the groups that the machine's accounts give her.
func (m *Machine) User(uid int64) Who { return Who{UID: uid, on: m} }

// in tells whether somebody is in a group. The accounts are read when that is first asked.
func (w Who) in(gid int64) bool { return w.on != nil && w.on.accounts().groups[w.UID][gid] }

// trusted tells whether a user is one against whom nothing is defended: root, and whoever the service runs as.
func (w Who) trusted() bool {
	return !w.everyone && (w.UID == 0 || w.on != nil && w.UID >= 0 && w.UID == reach.Self(w.on.files.Traits()))
}

// access is what an entry lets whom do.
type access struct {
	info          reach.Info
	users, groups map[int64]fs.FileMode // that an access list names, what it grants
	group, other  fs.FileMode
	told          bool
}

func accessOf(i reach.Info, list []byte) access {
	a := access{info: i, told: i.Mode.Known && i.UID.Known && i.GID.Known}
	a.group, a.other = i.Mode.Value>>3&7, i.Mode.Value&7
	if list != nil {
		a.told = a.told && a.readList(list)
	}
	return a
}

// grants returns what somebody may do, as acl(5) decides it.
func (a access) grants(w Who) fs.FileMode {
	switch {
	case w.UID == 0 && !w.everyone:
		return read | write | search
	case !a.told:
		return 0
	case w.everyone:
		return a.other
	case a.info.UID.Is(w.UID):
		return a.info.Mode.Value >> 6 & 7
	}
	if named, ok := a.users[w.UID]; ok {
		return named
	}
	granted, member := fs.FileMode(0), false
	if w.in(a.info.GID.Value) {
		granted, member = a.group, true
	}
	for gid, named := range a.groups {
		if w.in(gid) {
			granted, member = granted|named, true
		}
	}
	if member {
		return granted
	}
	return a.other
}

// owns tells whether somebody may change what an entry lets others do.
func (a access) owns(w Who) bool { return !w.everyone && a.info.UID.Is(w.UID) }

// folder is the way to a folder.
type folder struct {
	steps   []access // from the top down to it, or to the nearest above it that stands
	whole   bool     // it stands itself
	writers Writers  // who may put something into it, or something else in its place
	err     error
}

// sticky tells whether only one's own can be renamed and removed in it.
func (f *folder) sticky() bool { return f.steps[len(f.steps)-1].info.Mode.Value&fs.ModeSticky != 0 }

// way looks at everything on the way to a path, from the machine's top down, as far as it stands. A link on the way is an error.
func (m *Machine) way(ctx context.Context, path string) (all []access, whole bool, err error) {
	if m.files == nil {
		return nil, false, fs.ErrNotExist
	}
	at, err := m.files.Tree(ctx, "/")
	if err != nil {
		return nil, false, err
	}
	defer func() { at.Close() }()
	top, err := at.Info(ctx)
	if err != nil {
		return nil, false, err
	}
	all = append(all, accessOf(top, nil))
	for rest := strings.Trim(path, "/"); rest != ""; {
		name, deeper, _ := strings.Cut(rest, "/")
		next, err := entryOf(ctx, at, name)
		if errors.Is(err, fs.ErrNotExist) {
			return all, false, nil
		}
		if err != nil {
			return nil, false, err
		}
		all = append(all, next)
		if deeper == "" {
			return all, true, nil
		}
		inside, err := at.Enter(ctx, name)
		if err != nil {
			return nil, false, err
		}
		at.Close()
		at, rest = inside, deeper
	}
	return all, true, nil
}

// Writers are those, besides root and whoever the service runs as, who may have written something.
type Writers struct {
	Users    []int64 // by their numbers, in order
	Everyone bool    // any user at all
	Unknown  bool    // nothing tells who
}

// None tells whether it is known that nobody but root and the service may have written it.
func (w Writers) None() bool { return len(w.Users) == 0 && !w.Everyone && !w.Unknown }

// And returns those who are among either.
func (w Writers) And(other Writers) Writers {
	all := slices.Concat(w.Users, other.Users)
	slices.Sort(all)
	return Writers{slices.Compact(all), w.Everyone || other.Everyone, w.Unknown || other.Unknown}
}

// Writers returns who may have written what stands at a path, put something else in its place, or in that of a folder that it lies in.
func (m *Machine) Writers(ctx context.Context, path string) Writers {
	if path == "/" || m.files == nil {
		steps, whole, err := m.way(ctx, path)
		if err != nil || !whole {
			return Writers{Unknown: true}
		}
		return m.writersOf(steps)
	}
	f := m.folder(ctx, place.Folder(path))
	if f.err != nil || !f.whole || f.writers.Unknown {
		return Writers{Unknown: true}
	}
	last, err := m.entryAt(ctx, path)
	switch {
	case err != nil || !last.told:
		return Writers{Unknown: true}
	case f.sticky(): // what lies there says who may put something in its place
		return m.writersOf(append(slices.Clip(f.steps), last))
	case last.group&write == 0 && last.other&write == 0 && last.users == nil && last.groups == nil: // nobody but whom it belongs to
		w := m.User(last.info.UID.Value)
		if w.trusted() || slices.Contains(f.writers.Users, w.UID) || !searches(f.steps, w) {
			return f.writers
		}
		return f.writers.And(Writers{Users: []int64{w.UID}})
	}
	return m.writersOf(append(slices.Clip(f.steps), last))
}

// writersOf returns who may write something on a way.
func (m *Machine) writersOf(steps []access) Writers {
	found := Writers{Unknown: slices.ContainsFunc(steps, func(a access) bool { return !a.told })}
	for n, step := range steps {
		for _, w := range m.candidates(step) {
			switch {
			case w.trusted() || !controls(steps, n, w):
			case w.everyone:
				found.Everyone = true
			default:
				found.Users = append(found.Users, w.UID)
			}
		}
	}
	slices.Sort(found.Users)
	found.Users = slices.Compact(found.Users)
	return found
}

// entryAt looks at what stands at a path.
func (m *Machine) entryAt(ctx context.Context, path string) (access, error) {
	in := place.Folder(path)
	tree, kept, err := m.kept(ctx, in)
	if !kept && err == nil {
		if tree, err = m.files.Tree(ctx, in); err == nil {
			defer tree.Close()
		}
	}
	if err != nil {
		return access{}, err
	}
	return entryOf(ctx, tree, place.Name(path))
}

// kept returns the folder that is kept open, changed to one at a path; false where none is to be.
func (m *Machine) kept(ctx context.Context, path string) (reach.Tree, bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.keeps || m.last != nil && m.in == path {
		return m.last, m.keeps, nil
	}
	m.drop()
	var err error
	if m.last, err = m.files.Tree(ctx, path); err != nil {
		m.last = nil
		return nil, false, err
	}
	m.in = path
	return m.last, true, nil
}

// entryOf looks at an entry of a folder.
func entryOf(ctx context.Context, folder reach.Tree, name string) (access, error) {
	info, err := folder.Look(ctx, name)
	if err != nil {
		return access{}, err
	}
	attributes, err := folder.Attributes(ctx, name)
	if err != nil && info.Type != entry.Link {
		info.Mode.Known = false // there may be a list that cannot be read
	}
	return accessOf(info, attributes[listName]), nil
}

// controls tells whether somebody can write the nth of some steps of a way, and so put there whatever is to stand at its end.
func controls(steps []access, n int, w Who) bool {
	step := steps[n]
	if !searches(steps[:n], w) {
		return false
	}
	if step.owns(w) {
		return true
	}
	if step.info.Type != entry.Folder {
		return step.grants(w)&write != 0
	}
	// In a sticky folder only one's own can be renamed and removed.
	return step.grants(w)&(write|search) == write|search &&
		(step.info.Mode.Value&fs.ModeSticky == 0 || n+1 == len(steps) || steps[n+1].owns(w))
}

// candidates are those to whom an entry may grant something: whom it belongs to, whom its groups and its list name, and everyone.
func (m *Machine) candidates(a access) []Who {
	uids := map[int64]bool{a.info.UID.Value: true}
	for uid := range a.users {
		uids[uid] = true
	}
	if a.group&write != 0 {
		maps.Copy(uids, m.accounts().members[a.info.GID.Value])
	}
	for gid, granted := range a.groups {
		if granted&write != 0 {
			maps.Copy(uids, m.accounts().members[gid])
		}
	}
	all := []Who{Everyone}
	for uid := range uids {
		all = append(all, m.User(uid))
	}
	return all
}

// searches tells whether somebody may pass through folders.
func searches(steps []access, w Who) bool {
	return !slices.ContainsFunc(steps, func(a access) bool { return a.grants(w)&search == 0 && !a.owns(w) })
}

// MayPut tells whether somebody may put something at a path on the machine, whatever stands there.
func (m *Machine) MayPut(ctx context.Context, w Who, path string) bool {
	f := m.folder(ctx, place.Folder(path))
	if f.err != nil {
		return false
	}
	steps := f.steps
	if f.whole && f.sticky() {
		info, err := reach.Look(ctx, m.files, path)
		if err == nil {
			steps = append(slices.Clip(steps), accessOf(info, []byte{}))
		} else if !errors.Is(err, fs.ErrNotExist) {
			return false
		}
	}
	for n := range steps {
		if controls(steps, n, w) {
			return true
		}
	}
	return false
}

// Sticky tells whether a folder is one in which somebody may only move what is hers.
func (m *Machine) Sticky(ctx context.Context, w Who, path string) bool {
	f := m.folder(ctx, path)
	if f.err != nil || !f.whole {
		return f.err != nil
	}
	last := f.steps[len(f.steps)-1]
	return last.info.Mode.Value&fs.ModeSticky != 0 && !last.owns(w)
}

func (m *Machine) folder(ctx context.Context, path string) folder {
	m.mu.Lock()
	f, ok := m.known[path]
	m.mu.Unlock()
	if ok {
		return f
	}
	if f.steps, f.whole, f.err = m.way(ctx, path); f.err == nil && f.whole {
		f.writers = m.writersOf(f.steps)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.known) >= maxKnown {
		clear(m.known)
	}
	m.known[path] = f
	return f
}
