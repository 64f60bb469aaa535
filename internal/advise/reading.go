package advise

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/peek"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/similar"
	"humble-rewind/internal/explain"
	"humble-rewind/internal/trails"
)

// reading reads contents for the choice.
type reading struct {
	*Adviser
	ctx     context.Context
	t       *trails.Trail
	words   map[wordsKey]apart.Held
	endings map[int]ending // by version
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
			case !f.Readable || f.Copy == 0 || f.Type != entry.File || met[f.Copy]:
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
		if errors.Is(err, contents.ErrSlow) { // the other copies would take as long
			found.Verdict.Reasons = []string{capital(err.Error()) + "."}
			return found
		}
		found.Failed[id] = r.unreadable(id, err)
	}
	return found
}

// unreadable says why a copy cannot be read: of one that is locked, how that is mended.
func (r *reading) unreadable(id int64, err error) string {
	if errors.Is(err, problem.Locked) {
		if c, err := r.Site.Catalogue.Copy(r.ctx, id); err == nil {
			return fmt.Sprintf("it is locked with a password; ask for that, unlock its source with humble-rewind source unlock s%d, and ask again",
				c.Source.ID)
		}
	}
	return Explain(err)
}

// ConditionOf examines one copy.
func (r *reading) ConditionOf(c advice.Copy) advice.Examined {
	verdict, _, err := r.examine(c.ID)
	if err != nil {
		reason := Explain(err)
		return advice.Examined{
			Verdict: condition.Verdict{State: condition.Unread, Reasons: []string{capital(reason) + "."}},
			Failed:  map[int64]string{c.ID: reason},
		}
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
	if !c.OriginKnown && !c.Source.Traits.Live() {
		return r.t.Place.Name()
	}
	return c.Place.Name()
}

// words say of problems of reading what they mean to whoever asked for advice, for the middle of a sentence.
var words = explain.Words{
	problem.NotThere:           "it is no longer where the last survey saw it",
	problem.Refused:            "the service may not read it",
	problem.ChangedSinceSurvey: "it changed since the last survey, or while it was read",
}

// Explain words an error of reading for the middle of a sentence.
func Explain(err error) string { return words.Error(err) }

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
		found, err := r.wordsIn(id, words)
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
	copy  int64
	words string
}

// wordsIn looks for words in a copy.
func (r *reading) wordsIn(id int64, words []string) (apart.Held, error) {
	key := wordsKey{id, strings.Join(words, "\x00")}
	if known, ok := r.words[key]; ok {
		return known, nil
	}
	c, err := r.Site.Catalogue.Copy(r.ctx, id)
	if err != nil {
		return apart.Held{}, err
	}
	found, err := r.Contents.Holds(r.ctx, c, words)
	if err == nil {
		r.words[key] = found
	}
	return found, err
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
	share, _, err := r.Contents.Shares(r.ctx, as[0], bs[0])
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
		if part, whole := r.bytes(version), r.bytes(earlier); part != nil && bytes.HasPrefix(whole, part) &&
			(!this.text || whole[len(part)] != '\n' && whole[len(part)] != '\r') {
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
		c, err := r.Site.Catalogue.Copy(r.ctx, id)
		if err != nil {
			continue
		}
		if content, err = r.Contents.Bytes(r.ctx, c, similar.MaxSize); err == nil {
			return content
		}
	}
	return nil
}
