package advice

import (
	"path"
	"slices"
	"strings"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/trail"
)

// examine examines a version, and judges what its bytes alone do not tell.
func (c *chooser) examine(n int) Examined {
	if found, ok := c.verdicts[n]; ok {
		return found
	}
	found := c.byItself(n)
	c.verdictOf(n, &found)
	c.verdicts[n] = found
	return found
}

// byItself is what a version's bytes alone tell.
func (c *chooser) byItself(n int) Examined {
	v := &c.Trail.Versions[n]
	if found, ok := c.alone[v.Content]; ok {
		return found
	}
	found := c.reading.Condition(c.contentOf(n))
	if !v.SHA256.Known() {
		v.SHA256 = found.SHA256
	}
	found.Reasons = slices.Clip(found.Reasons)
	c.alone[v.Content] = found
	return found
}

// verdictOf judges beside the other versions what was found of one.
func (c *chooser) verdictOf(n int, found *Examined) {
	looks := c.Loss == Damaged || c.mixed.leftover(n) != nil
	untold := c.Loss == Damaged && found.State == condition.Sound && found.Rename == "" &&
		fileclass.Of(c.Trail.Versions[n].Place.Name()) == fileclass.Other
	if (found.State == condition.Doubtful || untold) && !found.Empty && c.mixed.leftover(n) == nil && !c.hidden(n) {
		c.underFormerName(n, found)
	}
	switch {
	case found.Empty && !c.everHeld():
		found.State, found.Reasons = condition.Sound, []remark.Remark{remark.New("empty-always")}
	case found.Empty:
		found.State = condition.Broken
	case c.Loss == Damaged && found.State != condition.Broken && c.hidden(n):
		found.State = condition.Broken
		found.Reasons = append([]remark.Remark{remark.New("changed-silently")}, found.Reasons...)
	case c.Loss == Damaged && found.State == condition.Sound && (found.Rename != "" || found.Media == page && !c.promisesPage()):
		if !c.judgeKind(n, found) && !found.Proved {
			c.judgeEnd(n, found)
		}
	case found.State == condition.Doubtful && !found.Proved && c.becameNothing(n, found):
	case looks && found.State != condition.Broken && found.State != condition.Unread && !found.Proved:
		c.judgeEnd(n, found)
	}
}

// underFormerName finds out whether a version that is not what its name says is what it says under a name of another type that the file had
// before: then nothing is wrong with it but its name.
func (c *chooser) underFormerName(n int, found *Examined) {
	now := c.Trail.Versions[n].Place.Name()
	for k := n - 1; k >= 0; k-- {
		ext := path.Ext(c.Trail.Versions[k].Place.Name())
		if strings.EqualFold(ext, path.Ext(now)) || ext == "" || !c.isFile(k) || c.mixed.leftover(k) != nil {
			continue
		}
		content := c.contentOf(n)
		content.As = strings.TrimSuffix(now, path.Ext(now)) + ext
		under := c.reading.Condition(content)
		if under.State != condition.Sound || under.Rename != "" {
			return
		}
		*found = under
		called := remark.New("called-before", "name", place.Readable(c.Trail.Versions[k].Place.Name()))
		found.Reasons = append([]remark.Remark{called}, found.Reasons...)
		found.Rename = content.As
		return
	}
}

// earlier yields the versions with another content that came before one, latest first.
func (c *chooser) earlier(n int) (all []int) {
	met := map[int]bool{c.Trail.Versions[n].Content: true}
	for k := n - 1; k >= 0 && len(met) <= maxEnds; k-- {
		v := &c.Trail.Versions[k]
		if !met[v.Content] && c.isFile(k) && v.Size > 0 && c.mixed.leftover(k) == nil {
			met[v.Content] = true
			all = append(all, k)
		}
	}
	return all
}

// page is what servers answer in place of a file when they want a password or have none: any text file may hold one.
const page = "text/html"

// promisesPage tells whether a page is what the name says.
func (c *chooser) promisesPage() bool {
	ext := strings.ToLower(path.Ext(c.Evidence.Place.Name()))
	return strings.HasPrefix(ext, ".htm") || strings.HasPrefix(ext, ".xht")
}

// judgeKind finds out whether a version that is of another kind than its name says, or a page, took the place of one that is not: then
// it is no wrong name, but a wrong content.
func (c *chooser) judgeKind(n int, found *Examined) bool {
	for _, k := range c.earlier(n) {
		switch v := c.byItself(k); {
		case v.State != condition.Sound:
			continue // it tells nothing of what was meant
		case v.Rename == "" && v.Media != found.Media:
			found.State, found.Rename = condition.Doubtful, ""
			found.Reasons = append(found.Reasons, remark.New("other-in-place", "at", c.Trail.Versions[k].Arrived))
			return true
		}
		return false
	}
	return false
}

// becameNothing finds out whether a version of no known format took the place of one whose format proved it whole: no name need tell
// what was meant then.
func (c *chooser) becameNothing(n int, found *Examined) bool {
	if found.Media != "application/octet-stream" {
		return false
	}
	for _, k := range c.earlier(n) {
		before := c.byItself(k)
		if before.State == condition.Unread || before.Media == found.Media {
			continue
		}
		if before.State != condition.Sound {
			return false
		}
		found.State = condition.Broken
		found.Reasons = []remark.Remark{remark.New("became-noise", "at", c.Trail.Versions[k].Arrived)}
		return true
	}
	return false
}

// judgeEnd finds out whether a version without checks of its own was cut off, from the versions before it.
func (c *chooser) judgeEnd(n int, found *Examined) {
	for _, k := range c.earlier(n) {
		at := c.Trail.Versions[k].Arrived
		if c.byItself(k).State == condition.Broken {
			continue
		}
		switch cut := c.reading.Cut(c.contentOf(n), c.contentOf(k)); {
		case !c.unfinished(n) && (cut == NotCut || cut == Prefix):
			return
		case cut == NotCut:
			if kept, had, ok := c.reading.Kept(c.contentOf(k), c.contentOf(n)); ok && had >= leftoverNothingNew && kept < leftoverLess {
				found.State = condition.Doubtful
				found.Reasons = []remark.Remark{remark.New("leftover-less", "at", at, "lost", remark.Share(1-kept))}
			}
			return
		case cut == Prefix:
			found.State, found.Reasons = condition.Broken, []remark.Remark{remark.New("leftover-beginning", "at", at)}
			return
		case cut == Beginning:
			found.State, found.Reasons = condition.Broken, []remark.Remark{remark.New("cut-beginning", "at", at)}
			return
		case cut == Ragged:
			found.State, found.Reasons = condition.Doubtful, []remark.Remark{remark.New("cut-ragged", "at", at)}
			return
		}
	}
}

// unfinished tells whether a version is a leftover that was perhaps not written to its end. A backup is what was saved before.
func (c *chooser) unfinished(n int) bool {
	s := c.mixed.leftover(n)
	return s != nil && !s.Backup
}

// everHeld tells whether any version had content.
func (c *chooser) everHeld() bool {
	return slices.ContainsFunc(c.Trail.Versions, func(v trail.Version) bool { return v.Type == entry.File && v.Size > 0 })
}

// hidden tells whether a version's content came up by a change that kept size and write time.
func (c *chooser) hidden(n int) bool {
	for k := range c.Trail.Versions {
		if c.Trail.Versions[k].Content == c.Trail.Versions[n].Content {
			return c.Trail.Versions[k].Hidden
		}
	}
	return false
}

// against says which hint speaks against a version.
func (c *chooser) against(n int) Reason {
	if h := c.Hints; h.Media != "" {
		if found := c.examine(n); found.Media != "" && !strings.HasPrefix(found.Media, h.Media) {
			return remark.New("other-type", "media", found.Media, "wanted", h.Media)
		}
	}
	return c.hinted(c.contentOf(n))
}

// againstCopy says what speaks against a content that is no version of the place: that it cannot be read, is broken, or a hint.
func (c *chooser) againstCopy(content Content, examined Examined) Reason {
	switch {
	case len(examined.Failed) > 0:
		return remark.New("unreadable", "why", anyOf(examined.Failed))
	case examined.State == condition.Broken:
		return remark.New("broken", "why", examined.Reasons)
	case c.Hints.Media != "" && examined.Media != "" && !strings.HasPrefix(examined.Media, c.Hints.Media):
		return remark.New("other-type", "media", examined.Media, "wanted", c.Hints.Media)
	}
	return c.hinted(content)
}

// hinted says which hint speaks against a content, whichever copy it is read from.
func (c *chooser) hinted(content Content) Reason {
	h := c.Hints
	switch {
	case content.SHA256.Known() && c.Wrong[content.SHA256]:
		return remark.New("said-wrong")
	case h.Least > 0 && content.Size < h.Least:
		return remark.New("too-small", "size", remark.Size(content.Size), "least", remark.Size(h.Least))
	case h.Most > 0 && content.Size > h.Most:
		return remark.New("too-large", "size", remark.Size(content.Size), "most", remark.Size(h.Most))
	}
	if len(h.Words) > 0 {
		lacking, ok := c.reading.Holds(content, h.Words)
		if !ok {
			return remark.New("text-unreadable")
		}
		if len(lacking) > 0 {
			return remark.New("lacks-words", "words", remark.Words(lacking))
		}
	}
	for _, word := range h.Without {
		if lacking, ok := c.reading.Holds(content, []string{word}); ok && len(lacking) == 0 {
			return remark.New("has-words", "words", remark.Words{word})
		}
	}
	return Reason{}
}
