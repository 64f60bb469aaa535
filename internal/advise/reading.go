package advise

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"strings"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/peek"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/similar"
	"humble-rewind/internal/examine"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
	"humble-rewind/internal/trails"
)

// errNoContent says that a copy is nothing that could be read.
var errNoContent = errors.New("it cannot be read")

// reading reads contents for the choice.
type reading struct {
	*Adviser
	ctx      context.Context
	t        *trails.Trail
	contents map[heldKey]apart.Held
	endings  map[int]ending // by version
}

// copies returns the numbers of the copies of a version's content that may be read, whenever it stood there, those whose
// digest is known first.
func (r *reading) copies(version int) (ids []int64) {
	var rest []int64
	met := map[int64]bool{}
	for k := range r.t.Versions {
		if r.t.Versions[k].Content != r.t.Versions[version].Content {
			continue
		}
		for _, i := range r.t.Versions[k].Seen {
			f := &r.t.Facts[i]
			switch {
			case !f.Readable || f.Copy == 0 || f.Type != plan.File || met[f.Copy]:
				continue
			case f.SHA256 != "":
				ids = append(ids, f.Copy)
			default:
				rest = append(rest, f.Copy)
			}
			met[f.Copy] = true
		}
	}
	return append(ids, rest...)
}

// Condition examines the copies of a version until one could be read.
func (r *reading) Condition(version int) advice.Examined {
	found := advice.Examined{Verdict: condition.Verdict{State: condition.Unread}, Failed: map[int64]string{}}
	for _, id := range r.copies(version) {
		verdict, sha, err := r.examine(id)
		if err == nil {
			found.Verdict = verdict
			if v := &r.t.Versions[version]; v.SHA256 == "" {
				v.SHA256 = sha
			}
			return found
		}
		if errors.Is(err, examine.ErrSlow) { // the other copies would take as long
			found.Verdict.Reasons = []string{capital(err.Error()) + "."}
			return found
		}
		found.Failed[id] = Explain(err)
	}
	return found
}

// ConditionOf examines one copy.
func (r *reading) ConditionOf(c advice.Copy) advice.Examined {
	verdict, _, err := r.examine(c.ID)
	if err != nil {
		reason := Explain(err)
		return advice.Examined{Verdict: condition.Verdict{State: condition.Unread, Reasons: []string{capital(reason) + "."}}, Failed: map[int64]string{c.ID: reason}}
	}
	return advice.Examined{Verdict: verdict}
}

func (r *reading) examine(id int64) (condition.Verdict, string, error) {
	c, err := r.Site.Catalogue.Copy(r.ctx, id)
	if err != nil {
		return condition.Verdict{}, "", err
	}
	found, err := r.Examiner.Copy(r.ctx, c)
	if err != nil {
		return condition.Verdict{}, "", err
	}
	return found.For(r.nameOf(c)), found.SHA256, nil
}

// nameOf is the name by which a copy's content is judged: its place's, or, of a leftover without one, the document's.
func (r *reading) nameOf(c catalogue.Copy) string {
	if !c.OriginKnown && !c.Source.Live {
		return r.t.Place.Name()
	}
	return c.Place.Name()
}

// Explain words an error of reading for the middle of a sentence.
func Explain(err error) string {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "it is no longer where the last survey saw it"
	case errors.Is(err, fs.ErrPermission):
		return "the service may not read it"
	case errors.Is(err, trails.ErrChanged):
		return "it changed since the last survey, or while it was read"
	}
	return reach.Worded(err)
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// Holds looks for words in a version's text, or, of what is no text, among its bytes.
func (r *reading) Holds(version int, words []string) (lacking []string, ok bool) {
	return r.holds(r.copies(version), words)
}

// HoldsOf does so in one copy.
func (r *reading) HoldsOf(c advice.Copy, words []string) (lacking []string, ok bool) {
	return r.holds([]int64{c.ID}, words)
}

// holds looks into the first of several copies of one content that can be read.
func (r *reading) holds(ids []int64, words []string) (lacking []string, ok bool) {
	for _, id := range ids {
		held, err := r.held(id, words)
		if err != nil {
			continue
		}
		for i, word := range words {
			if !held.Words[i] {
				lacking = append(lacking, word)
			}
		}
		return lacking, held.Text || len(lacking) == 0
	}
	return nil, false
}

// heldKey is what is remembered of looking for words in a copy.
type heldKey struct {
	copy  int64
	words string
}

func (r *reading) held(id int64, words []string) (held apart.Held, err error) {
	key := heldKey{id, strings.Join(words, "\x00")}
	if known, ok := r.contents[key]; ok {
		return known, nil
	}
	err = r.open(id, func(c source.Content) error {
		held, err = r.Trails.Apart.Holds(r.ctx, apart.Content{ReaderAt: c.File, Size: c.Info.Size}, words)
		return err
	})
	if err == nil {
		r.contents[key] = held
	}
	return held, err
}

func (r *reading) open(id int64, use func(source.Content) error) error {
	c, err := r.Site.Catalogue.Copy(r.ctx, id)
	if err != nil {
		return err
	}
	opened, err := r.Trails.Open(r.ctx, c)
	if err != nil {
		return err
	}
	defer opened.Close()
	if opened.File == nil {
		return errNoContent
	}
	return use(opened)
}

// Kept holds two versions against each other.
func (r *reading) Kept(a, b int) (share float64, ok bool) {
	va, vb := &r.t.Versions[a], &r.t.Versions[b]
	switch {
	case va.Size == 0:
		return 1, true
	case vb.Size == 0:
		return 0, true
	case va.Size > similar.MaxSize || vb.Size > similar.MaxSize:
		return 0, false
	}
	as, bs := r.copies(a), r.copies(b)
	if len(as) == 0 || len(bs) == 0 {
		return 0, false
	}
	share, _, err := r.Trails.Shares(r.ctx, as[0], bs[0])
	if err != nil {
		return 0, false
	}
	return share, true
}

// ending is what the end of a version tells.
type ending struct {
	text, ok bool
	line     bool // it ends where a line does
}

// Cut reads both versions' ends, and, of a shorter one, whether the other begins with it.
func (r *reading) Cut(version, earlier int) advice.Cut {
	this, that := r.ending(version), r.ending(earlier)
	if !this.ok || !that.ok || this.text && this.line {
		return advice.NotCut
	}
	if r.t.Versions[version].Size < r.t.Versions[earlier].Size {
		if part, whole := r.bytes(version), r.bytes(earlier); part != nil && bytes.HasPrefix(whole, part) && (!this.text || whole[len(part)] != '\n' && whole[len(part)] != '\r') {
			return advice.Beginning
		}
	}
	switch {
	case !this.text || !that.text:
		return advice.NotCut
	case that.line:
		return advice.Ragged
	}
	return advice.CutToo
}

func (r *reading) ending(version int) ending {
	if known, ok := r.endings[version]; ok {
		return known
	}
	var e ending
	if content := r.bytes(version); len(content) > 0 {
		_, e.text = peek.WholeText(bytes.NewReader(content), int64(len(content)))
		e.line, e.ok = content[len(content)-1] == '\n', true
	}
	r.endings[version] = e
	return e
}

// bytes reads a version whole; nil where it is too large or cannot be read.
func (r *reading) bytes(version int) (content []byte) {
	if r.t.Versions[version].Size > similar.MaxSize {
		return nil
	}
	for _, id := range r.copies(version) {
		err := r.open(id, func(c source.Content) error {
			content = make([]byte, min(c.Info.Size, similar.MaxSize))
			_, err := io.ReadFull(io.NewSectionReader(c.File, 0, c.Info.Size), content)
			return err
		})
		if err == nil {
			return content
		}
	}
	return nil
}
