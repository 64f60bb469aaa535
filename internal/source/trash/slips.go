package trash

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

var _ source.Emptied = (*store)(nil)

// Lies: what lies directly in a trash's files folder leaves as a whole, together with its record.
func (s *store) Lies(ref sighting.Ref) (string, bool, error) {
	at, err := ref.Locator()
	return place.Join(s.At, at.Path()), place.Name("/"+at.Dir) == "files" && s.isCan(at.Dir), err
}

// isCan tells whether dir is the files folder of a trash directory rather than one of the same name in an item.
func (s *store) isCan(dir string) bool {
	can := place.Folder("/" + dir)[1:]
	switch {
	case can == "" || can == homeTrash:
		return true
	case strings.HasPrefix(can, ".Trash-"):
		return !strings.Contains(can, "/")
	case strings.HasPrefix(can, ".Trash/"):
		return strings.Count(can, "/") == 1
	}
	return false
}

// slip is what a trash remembers about an item: its record and, of a folder, its line in directorysizes.
type slip struct {
	Can    string      `json:"can"`  // the trash directory, relative to the source's location
	Name   []byte      `json:"name"` // the item's
	Record *keptRecord `json:"record,omitempty"`
	Line   []byte      `json:"line,omitempty"` // without its line end
	LineAt int         `json:"line_at,omitempty"`
}

type keptRecord struct {
	Content []byte     `json:"content"`
	Meta    reach.Meta `json:"meta"`
}

func (s *store) Slips(ctx context.Context, items []sighting.Ref) ([]source.Slip, error) {
	open := s.folders(ctx)
	defer open.close()
	all := make([]slip, len(items))
	err := reach.SideBySide(len(items), func(n int) error {
		item, err := items[n].Locator()
		if err != nil {
			return err
		}
		all[n] = slip{Can: place.Folder("/" + item.Dir)[1:], Name: []byte(item.Name)}
		if err := all[n].takeRecord(open); err != nil {
			return fmt.Errorf("remove the record of %s: %w", place.Quote(item.Name), err)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	sizes := map[string]sizesIndex{}
	slips := make([]source.Slip, len(items))
	for n := range all {
		h := &all[n]
		lines, ok := sizes[h.Can]
		if !ok {
			content, _, err := readSizes(open, h.Can)
			if err != nil {
				return nil, err
			}
			lines = indexSizes(sizeLines(content))
			sizes[h.Can] = lines
		}
		if i, ok := lines.at[string(h.Name)]; ok {
			h.Line, h.LineAt = lines.lines[i], i
		}
		encoded, err := json.Marshal(h)
		if err != nil {
			return nil, err
		}
		slips[n] = encoded
	}
	return slips, nil
}

func (h *slip) recordName() string { return string(h.Name) + recordSuffix }

func (h *slip) takeRecord(open *folders) error {
	info, err := open.get(join(h.Can, "info"))
	if isGone(err) {
		return nil
	}
	if err != nil {
		return err
	}
	i, err := info.Look(open.ctx, h.recordName())
	if isGone(err) {
		return nil
	}
	if err != nil {
		return err
	}
	content, err := reach.ReadFile(open.ctx, info, h.recordName(), maxRecord)
	if err != nil {
		return err
	}
	meta := i.Meta()
	if meta.Attributes, err = info.Attributes(open.ctx, h.recordName()); err != nil {
		return err
	}
	h.Record = &keptRecord{content, meta}
	return nil
}

func (s *store) TakeOut(ctx context.Context, slips []source.Slip) error {
	open := s.folders(ctx)
	defer open.close()
	all := make([]slip, len(slips))
	gone := map[string]map[string]bool{}
	for n, raw := range slips {
		h, err := decode(raw)
		if err != nil {
			return err
		}
		if h.Line != nil {
			if gone[h.Can] == nil {
				gone[h.Can] = map[string]bool{}
			}
			gone[h.Can][string(h.Line)] = true
		}
		all[n] = h
	}
	err := reach.SideBySide(len(all), func(n int) error {
		h := &all[n]
		if h.Record == nil {
			return nil
		}
		info, err := open.get(join(h.Can, "info"))
		if err == nil {
			err = h.removeRecord(ctx, info)
		}
		if err != nil && !isGone(err) {
			return fmt.Errorf("take the record of %s out of the trash: %w", place.Quote(string(h.Name)), err)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for can, lines := range gone {
		keep := func(all [][]byte) [][]byte {
			return slices.DeleteFunc(all, func(line []byte) bool { return lines[string(line)] })
		}
		if err := rewriteSizes(open, can, keep); err != nil {
			return err
		}
	}
	return open.sync()
}

// removeRecord removes the record, if it still is the one of the item that left.
func (h *slip) removeRecord(ctx context.Context, info reach.Folder) error {
	there, err := reach.ReadFile(ctx, info, h.recordName(), maxRecord)
	if err != nil {
		return err
	}
	if !bytes.Equal(there, h.Record.Content) {
		return errors.New("another record is in its place now")
	}
	return info.Remove(ctx, h.recordName())
}

func (s *store) PutBack(ctx context.Context, slips []source.Slip) error {
	open := s.folders(ctx)
	defer open.close()
	back := map[string][]slip{}
	for _, raw := range slips {
		h, err := decode(raw)
		if err != nil {
			return err
		}
		if h.Line != nil {
			back[h.Can] = append(back[h.Can], h)
		}
		if err := h.returnRecord(open); err != nil {
			return fmt.Errorf("put the record of %s back: %w", place.Quote(string(h.Name)), err)
		}
	}
	for can, lines := range back {
		slices.SortFunc(lines, func(a, b slip) int { return cmp.Compare(a.LineAt, b.LineAt) })
		insert := func(all [][]byte) [][]byte {
			for _, h := range lines {
				if !slices.ContainsFunc(all, func(line []byte) bool { return bytes.Equal(line, h.Line) }) {
					all = slices.Insert(all, min(h.LineAt, len(all)), h.Line)
				}
			}
			return all
		}
		if err := rewriteSizes(open, can, insert); err != nil {
			return err
		}
	}
	return open.sync()
}

// returnRecord writes the record under another name first, so that no half of it ever stands.
func (h *slip) returnRecord(open *folders) error {
	if h.Record == nil {
		return nil
	}
	info, err := open.get(join(h.Can, "info"))
	if err != nil {
		return err
	}
	if there, err := reach.ReadFile(open.ctx, info, h.recordName(), maxRecord); err == nil {
		if bytes.Equal(there, h.Record.Content) {
			return nil
		}
		return fmt.Errorf("another record of that name is there now: %w", fs.ErrExist)
	}
	const partial = ".humble-rewind-record"
	if err := writeFile(open.ctx, info, partial, h.Record.Content, h.Record.Meta); err != nil {
		return err
	}
	return info.Rename(open.ctx, partial, info, h.recordName())
}

// writeFile writes a file under a name that must be free, and gives it its owner and times through the descriptor it was made
// with: whoever owns the folder can put another file under the name meanwhile.
func writeFile(ctx context.Context, folder reach.Folder, name string, content []byte, meta reach.Meta) error {
	if err := folder.Remove(ctx, name); err != nil && !isGone(err) { // left by an interrupted attempt
		return err
	}
	f, err := folder.Create(ctx, name)
	if err != nil {
		return err
	}
	if _, err = f.Write(content); err == nil {
		err = f.SetMeta(ctx, meta)
		if _, lost := errors.AsType[*reach.MetaError](err); lost {
			err = nil // the content is what counts; the owner can be kept by root alone
		}
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return errors.Join(err, folder.Remove(ctx, name))
	}
	return nil
}

// The file directorysizes caches the sizes of trashed folders: a line "size mtime percent-encoded-name" each. As the
// specification demands, it is replaced as a whole.
const sizesName, maxSizes = "directorysizes", 8 << 20

func readSizes(open *folders, can string) ([]byte, reach.Info, error) {
	folder, err := open.get(can)
	if err != nil {
		return nil, reach.Info{}, err
	}
	i, err := folder.Look(open.ctx, sizesName)
	if isGone(err) {
		return nil, reach.Info{}, nil
	}
	if err != nil {
		return nil, reach.Info{}, err
	}
	content, err := reach.ReadFile(open.ctx, folder, sizesName, maxSizes)
	if errors.Is(err, problem.TooLarge) {
		return nil, i, nil // it is a cache, of which nothing is lost where it is left as it is
	}
	if err != nil {
		return nil, reach.Info{}, fmt.Errorf("read %s: %w", sizesName, err)
	}
	return content, i, nil
}

func sizeLines(content []byte) [][]byte {
	if len(content) == 0 {
		return nil
	}
	return bytes.Split(bytes.TrimSuffix(content, []byte("\n")), []byte("\n"))
}

// sizesIndex finds the line of an item.
type sizesIndex struct {
	lines [][]byte
	at    map[string]int // by the item's name, the first of several
}

func indexSizes(lines [][]byte) sizesIndex {
	index := sizesIndex{lines, make(map[string]int, len(lines))}
	for i, line := range lines {
		fields := bytes.SplitN(line, []byte(" "), 3)
		if len(fields) != 3 {
			continue
		}
		name, err := decodePercent(string(fields[2]))
		if _, twice := index.at[name]; err == nil && !twice {
			index.at[name] = i
		}
	}
	return index
}

// rewriting is held while a directorysizes file is read, changed and replaced, so that of two bring-backs or undos at once neither
// loses the other's lines. It takes a moment, so one for all trashes is enough.
var rewriting sync.Mutex

func rewriteSizes(open *folders, can string, change func([][]byte) [][]byte) error {
	rewriting.Lock()
	defer rewriting.Unlock()
	content, info, err := readSizes(open, can)
	if err != nil || content == nil && info.Name != "" {
		return err
	}
	ended := len(content) == 0 || bytes.HasSuffix(content, []byte("\n"))
	changed := bytes.Join(change(sizeLines(content)), []byte("\n"))
	if len(changed) > 0 && ended {
		changed = append(changed, '\n')
	}
	if bytes.Equal(changed, content) {
		return nil
	}
	folder, err := open.get(can)
	if err != nil {
		return err
	}
	meta := info.Meta()
	if info.Name == "" { // there was none: it belongs to whom the trash belongs to
		self, err := folder.Info(open.ctx)
		if err != nil {
			return err
		}
		meta = reach.Meta{Mode: entry.Is(fs.FileMode(0o600)), UID: self.UID, GID: self.GID, Written: self.Written}
	}
	const partial = ".humble-rewind-sizes"
	if err := writeFile(open.ctx, folder, partial, changed, meta); err != nil {
		return fmt.Errorf("rewrite %s: %w", sizesName, err)
	}
	return folder.Replace(open.ctx, partial, sizesName)
}

func decode(raw source.Slip) (slip, error) {
	var h slip
	if err := json.Unmarshal(raw, &h); err != nil {
		return h, fmt.Errorf("read what the trash remembered: %w", err)
	}
	return h, nil
}

// folders keeps the few folders open that a batch of items needs, by their paths in the store.
type folders struct {
	ctx  context.Context
	s    *store
	mu   sync.Mutex
	open map[string]reach.Folder
}

func (s *store) folders(ctx context.Context) *folders {
	return &folders{ctx: ctx, s: s, open: map[string]reach.Folder{}}
}

func (f *folders) get(dir string) (reach.Folder, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if folder, ok := f.open[dir]; ok {
		return folder, nil
	}
	folder, err := f.s.Files.Folder(f.ctx, place.Join(f.s.At, dir))
	if err == nil {
		f.open[dir] = folder
	}
	return folder, err
}

func (f *folders) sync() error {
	for _, folder := range f.open {
		if err := folder.Sync(f.ctx); err != nil {
			return err
		}
	}
	return nil
}

func (f *folders) close() {
	for _, folder := range f.open {
		folder.Close()
	}
}
