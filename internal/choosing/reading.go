package choosing

import (
	"bytes"
	"context"
	"errors"
	"path"
	"slices"
	"strings"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/compare"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/peek"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/similar"
)

// reading reads contents for the choice, each question about a content once.
type reading struct {
	*Adviser
	ctx     context.Context
	own     place.Place // what is asked about
	stores  map[copies.SourceID]*copies.Store
	words   map[wordsKey]apart.Held
	endings map[copies.ID]ending
	shares  map[[2]copies.ID][2]float64
	copies  map[copies.ID]*copies.Copy
	judged  map[judgedKey]advice.Examined
	others  map[rivalsKey][]advice.Rival
	beside  map[besidesKey][]*copies.Copy
}

// judgedKey is what is remembered of examining a content: the best of its copies, and the name it was judged by.
type judgedKey struct {
	copy copies.ID
	as   string
}

func (a *Adviser) reading(ctx context.Context, own place.Place, stores map[copies.SourceID]*copies.Store) *reading {
	return &reading{Adviser: a, ctx: ctx, own: own, stores: stores, words: map[wordsKey]apart.Held{}, endings: map[copies.ID]ending{},
		shares: map[[2]copies.ID][2]float64{}, copies: map[copies.ID]*copies.Copy{},
		judged: map[judgedKey]advice.Examined{}, others: map[rivalsKey][]advice.Rival{}, beside: map[besidesKey][]*copies.Copy{}}
}

// copy reads the record of a copy.
func (r *reading) copy(id copies.ID) (*copies.Copy, error) {
	if c, ok := r.copies[id]; ok {
		return c, nil
	}
	c, err := r.Past.View.Copies.ByID(r.ctx, id)
	if err == nil {
		r.copies[id] = c
	}
	return c, err
}

// know reads the records of some copies in one go.
func (r *reading) know(ids []copies.ID) error {
	all, err := r.Past.View.Copies.ByIDs(r.ctx, ids)
	for _, c := range all {
		r.copies[c.ID] = c
	}
	return err
}

// Condition examines the copies of a content until one could be read.
func (r *reading) Condition(content advice.Content) advice.Examined {
	found := advice.Examined{Verdict: condition.Verdict{State: condition.Unread}, Failed: map[copies.ID]advice.Reason{}}
	for i, c := range content.Copies {
		key := judgedKey{c.ID, content.As}
		if known, ok := r.judged[key]; ok && i == 0 {
			return known
		}
		verdict, sha, err := r.examine(c.ID, content.As)
		if err == nil {
			found.Verdict, found.SHA256 = verdict, sha
			if i == 0 {
				r.judged[key] = found
			}
			return found
		}
		if errors.Is(err, contents.ErrSlow) { // the other copies would take as long
			found.Verdict.Reasons = []remark.Remark{remark.New("slow", "patience", r.Examiner.Patience)}
			return found
		}
		found.Failed[c.ID] = r.unreadable(c.ID, err)
	}
	return found
}

// unreadable says why a copy cannot be read: of one that is locked, how that is mended.
func (r *reading) unreadable(id copies.ID, err error) advice.Reason {
	if errors.Is(err, problem.Locked) {
		if c, err := r.copy(id); err == nil {
			return remark.New("unread-locked", "source", c.Store.ID)
		}
	}
	return remark.New("failed", "why", err)
}

func (r *reading) examine(id copies.ID, as string) (condition.Verdict, digest.Sum, error) {
	c, err := r.copy(id)
	if err != nil {
		return condition.Verdict{}, digest.Sum{}, err
	}
	found, err := r.Examiner.Copy(r.ctx, c)
	if err != nil {
		return condition.Verdict{}, digest.Sum{}, err
	}
	if as == "" {
		as = r.nameOf(c)
	}
	return found.For(as), found.SHA256, nil
}

// nameOf is the name by which a copy's content is judged: its place's, or, of a leftover without one, the document's.
func (r *reading) nameOf(c *copies.Copy) string {
	if c.Lost && !c.Store.Traits.Live() {
		return r.own.Name()
	}
	return c.Place.Name()
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// Holds looks for words in a content's text, or, of what is no text, among its bytes.
func (r *reading) Holds(content advice.Content, words []string) (lacking []string, ok bool) {
	for _, c := range content.Copies {
		found, err := r.wordsIn(c.ID, words)
		if err != nil {
			continue
		}
		for i, word := range words {
			if !found.Words[i] {
				lacking = append(lacking, word)
			}
		}
		return lacking, found.Text || len(lacking) == 0
	}
	return nil, false
}

// wordsKey is what is remembered of looking for words in a copy.
type wordsKey struct {
	copy  copies.ID
	words string
}

// wordsIn looks for words in a copy.
func (r *reading) wordsIn(id copies.ID, words []string) (apart.Held, error) {
	key := wordsKey{id, strings.Join(words, "\x00")}
	if known, ok := r.words[key]; ok {
		return known, nil
	}
	c, err := r.copy(id)
	if err != nil {
		return apart.Held{}, err
	}
	found, err := r.Contents.Holds(r.ctx, c, words)
	if err == nil {
		r.words[key] = found
	}
	return found, err
}

// Kept holds two contents against each other.
func (r *reading) Kept(a, b advice.Content) (kept, had float64, ok bool) {
	switch {
	case a.SHA256.Known() && a.SHA256 == b.SHA256:
		return 1, 1, true
	case a.Size == 0:
		return 1, 0, true
	case b.Size == 0:
		return 0, 1, true
	case a.Size > similar.MaxSize || b.Size > similar.MaxSize || len(a.Copies) == 0 || len(b.Copies) == 0:
		return 0, 0, false
	}
	key := [2]copies.ID{a.Copies[0].ID, b.Copies[0].ID}
	if known, ok := r.shares[key]; ok {
		return known[0], known[1], true
	}
	one, err := r.copy(key[0])
	if err != nil {
		return 0, 0, false
	}
	two, err := r.copy(key[1])
	if err != nil {
		return 0, 0, false
	}
	if kept, had, err = r.Contents.Shares(r.ctx, one, two); err != nil {
		return 0, 0, false
	}
	r.shares[key] = [2]float64{kept, had}
	return kept, had, true
}

// Same digests both contents.
func (r *reading) Same(a, b advice.Content) (same, ok bool) {
	if a.Size != b.Size {
		return false, true
	}
	one, two := r.sum(a), r.sum(b)
	return one == two, one.Known() && two.Known()
}

// sum is a content's digest; unknown where it cannot be read, or is too large to be read for this.
func (r *reading) sum(content advice.Content) digest.Sum {
	if content.SHA256.Known() || len(content.Copies) == 0 || content.Size > digestStray {
		return content.SHA256
	}
	c, err := r.copy(content.Copies[0].ID)
	if err != nil {
		return digest.Sum{}
	}
	if sum, err := r.Contents.DigestKept(r.ctx, c); err == nil {
		c.SHA256 = sum
	}
	return c.SHA256
}

// ending is what the end of a content tells.
type ending struct {
	text, ok bool
	line     bool // it ends where a line does
}

// Cut reads both contents' ends, and, of a shorter one, whether the other begins with it.
func (r *reading) Cut(content, earlier advice.Content) advice.Cut {
	this, that := r.ending(content), r.ending(earlier)
	if !this.ok || !that.ok {
		return advice.NotCut
	}
	if content.Size < earlier.Size {
		if part, whole := r.bytes(content), r.bytes(earlier); part != nil && bytes.HasPrefix(whole, part) {
			if next := whole[len(part)]; this.text && (this.line || next == '\n' || next == '\r') {
				return advice.Prefix
			}
			return advice.Beginning
		}
	}
	switch {
	case this.text && this.line || !this.text || !that.text:
		return advice.NotCut
	case that.line:
		return advice.Ragged
	}
	return advice.CutToo
}

func (r *reading) ending(content advice.Content) ending {
	if len(content.Copies) == 0 {
		return ending{}
	}
	id := content.Copies[0].ID
	if known, ok := r.endings[id]; ok {
		return known
	}
	var e ending
	if content := r.bytes(content); len(content) > 0 {
		_, e.text = peek.WholeText(bytes.NewReader(content), int64(len(content)))
		e.line, e.ok = content[len(content)-1] == '\n', true
	}
	r.endings[id] = e
	return e
}

// bytes reads a content whole; nil where it is too large or cannot be read.
func (r *reading) bytes(of advice.Content) (content []byte) {
	if of.Size > similar.MaxSize {
		return nil
	}
	for _, copy := range of.Copies {
		c, err := r.copy(copy.ID)
		if err != nil {
			continue
		}
		if content, err = r.Contents.Bytes(r.ctx, c, similar.MaxSize); err == nil {
			return content
		}
	}
	return nil
}

// What a passage that tells two contents apart may have, in words: fewer are found by chance, more nobody reads out.
const (
	fewestWords = 3
	mostWords   = 7
)

// Only compares two contents and takes the longest passage of text that only the first has.
func (r *reading) Only(content, other advice.Content) string {
	if len(content.Copies) == 0 || len(other.Copies) == 0 {
		return ""
	}
	one, err := r.copy(content.Copies[0].ID)
	if err != nil {
		return ""
	}
	two, err := r.copy(other.Copies[0].ID)
	if err != nil {
		return ""
	}
	left, err := r.Contents.OpenFile(r.ctx, two)
	if err != nil {
		return ""
	}
	defer left.Close()
	right, err := r.Contents.OpenFile(r.ctx, one)
	if err != nil {
		return ""
	}
	defer right.Close()
	c, err := r.Contents.Compare(r.ctx, two.Place.Name(), left, one.Place.Name(), right)
	if err != nil {
		return ""
	}
	var best []string
	for _, b := range c.Blocks {
		for _, text := range onlyRight(b) {
			found := strings.Fields(text)
			found = found[:min(len(found), mostWords)]
			if len(found) >= fewestWords && len(found) > len(best) && strings.Contains(text, strings.Join(found, " ")) {
				best = found
			}
		}
	}
	if len(best) == 0 {
		return onlyCell(c.Cells)
	}
	return strings.Join(best, " ")
}

// onlyCell is what stands in a cell that only the second table has so: the longest that can be read out.
func onlyCell(cells []compare.Cell) (best string) {
	const fewest, most = 3, 40 // letters
	for _, cell := range cells {
		text := strings.TrimSpace(cell.Right)
		if len(text) >= fewest && len(text) <= most && len(text) > len(best) && !strings.Contains(cell.Left, text) {
			best = text
		}
	}
	return best
}

// onlyRight are the passages of a block that only the second content has.
func onlyRight(b compare.Block) []string {
	if b.Change == compare.Added {
		return []string{b.Right}
	}
	all := []string{""}
	for _, w := range b.RightWords {
		if last := len(all) - 1; w.Marked || strings.TrimSpace(w.Text) == "" && all[last] != "" {
			all[last] += w.Text
		} else {
			all = append(all, "")
		}
	}
	return all
}

// Bounds of looking for other documents that a leftover may be of.
const (
	maxRivals = 12
	maxNamed  = 200
)

// Rivals finds documents that stand now: those of the same name elsewhere, and, for a leftover whose name says nothing, those of the same
// kind beside the document.
func (r *reading) Rivals(of place.Place, s *advice.Stray) []advice.Rival {
	all := r.rivals(of, false)
	if !s.Named {
		all = r.rivals(of, true)
	}
	all = slices.DeleteFunc(slices.Clone(all), func(o advice.Rival) bool {
		return o.Content.Copies[0].ID == s.Copy.ID || o.Place == s.Copy.Place
	})
	return all[:min(len(all), maxRivals)]
}

// rivalsKey is what is remembered of looking for the rivals of a document.
type rivalsKey struct {
	of     place.Place
	beside bool
}

// rivals looks for the documents that any leftover of one may be of as well, once.
func (r *reading) rivals(of place.Place, beside bool) []advice.Rival {
	key := rivalsKey{of, beside}
	if all, ok := r.others[key]; ok {
		return all
	}
	const some = maxRivals + 1 // one may be the leftover itself
	all, met := []advice.Rival{}, map[place.Place]bool{of: true}
	take := func(f *copies.Copy) {
		if len(all) < some && f.Open && f.Type == entry.File && f.Readable && f.Store.Traits.Live() && !met[f.Place] {
			met[f.Place] = true
			all = append(all, advice.Rival{Place: f.Place,
				Content: advice.Content{Copies: []advice.Candidate{{ID: f.ID, Place: f.Place, Live: true}}, Size: f.Size, SHA256: f.SHA256}})
		}
	}
	name, kind := of.Name(), path.Ext(of.Name())
	if seen, err := r.Past.View.Search.Named(r.ctx, name, maxNamed); err == nil {
		for _, f := range seen {
			take(f)
		}
	}
	if beside {
		if like, err := r.Past.View.Search.Like(r.ctx, of.Machine, strings.TrimSuffix(name, kind), maxRivals); err == nil {
			for _, f := range like {
				if path.Ext(f.Place.Name()) == kind {
					take(f)
				}
			}
		}
		for _, f := range r.besides(place.Place{Machine: of.Machine, Path: place.Folder(of.Path)}, kind) {
			take(f)
		}
	}
	r.others[key] = all
	return all
}

// besidesKey is what is remembered of looking through a folder.
type besidesKey struct {
	folder place.Place
	kind   string
}

// besides lists some files of a kind in a folder, once.
func (r *reading) besides(folder place.Place, kind string) (all []*copies.Copy) {
	key := besidesKey{folder, kind}
	if all, ok := r.beside[key]; ok {
		return all
	}
	for f, err := range r.Past.View.Copies.In(r.ctx, folder, "") {
		if err != nil || len(all) > 2*maxRivals {
			break
		}
		if path.Ext(f.Place.Name()) == kind && f.Open && f.Store.Traits.Live() {
			all = append(all, f)
		}
	}
	r.beside[key] = all
	return all
}
