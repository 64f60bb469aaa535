package advice

import (
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/remark"
)

// kinship is how a file elsewhere is known to be the one that is looked for, or to be like it.
type kinship struct {
	proved  bool // it is it: the same content, or what became of it
	why     Reason
	against Reason // why it is not recommended all the same
}

// said is the reason for naming it, with what speaks against it.
func (k kinship) said(c *chooser) Reason {
	if k.against.Code == "" {
		return k.why
	}
	return remark.New("kin-but", "why", k.why, "against", k.against)
}

// kinship judges a file elsewhere, once.
func (c *chooser) kinship(e Elsewhere) kinship {
	k, ok := c.kin[e.Copy.ID]
	if !ok {
		k = c.judgeKinship(e)
		c.kin[e.Copy.ID] = k
	}
	return k
}

func (c *chooser) judgeKinship(e Elsewhere) kinship {
	last := c.lastFile()
	switch {
	case e.Back > 1:
		return kinship{true, remark.New("kin-older-bytes"), Reason{}}
	case e.Back == 1 && e.Lost:
		return kinship{true, remark.New("kin-unrecorded-bytes"), Reason{}}
	case e.Back == 1:
		return kinship{true, remark.New("kin-bytes"), Reason{}}
	case e.Claimed:
		return kinship{false, remark.New("kin-claimed"), Reason{}}
	case last < 0:
		return kinship{false, c.sameName(e), Reason{}}
	}
	share, _, _ := c.reading.Kept(c.contentOf(last), Content{Copies: []Candidate{e.Copy}, Size: e.Size, SHA256: e.SHA256})
	came := e.Came.After(c.lastSeen())
	switch {
	case e.Lost:
		return kinship{false, remark.New("kin-unrecorded-share", "share", remark.Share(share)), Reason{}}
	case e.Named && share >= descendantShare && e.Came.After(c.firstSeen(last)):
		return kinship{true, remark.New("kin-descendant-name", "share", remark.Share(share)), Reason{}}
	case e.Named && came && c.onlyNamed(e) && !comparable(e.Copy.Place.Name()) && e.At.After(c.Trail.Versions[last].Written):
		return kinship{true, remark.New("kin-took-over", "at", e.At), Reason{}}
	case e.Named:
		return kinship{false, remark.New("kin-name-share", "share", remark.Share(share)), Reason{}}
	case share >= descendantShare && came:
		return kinship{true, remark.New("kin-descendant", "share", remark.Share(share)), Reason{}}
	}
	return kinship{false, remark.New("kin-share", "share", remark.Share(share)), Reason{}}
}

// sameName says where something has the name of a file of which nothing else is known.
func (c *chooser) sameName(e Elsewhere) Reason {
	switch {
	case e.Lost:
		return remark.New("kin-unrecorded-name")
	case !e.Gone.IsZero():
		return remark.New("kin-name-deleted", "place", e.Copy.Place, "at", e.Gone)
	case !e.Seen.IsZero():
		return remark.New("kin-name-seen", "place", e.Copy.Place, "at", e.Seen)
	}
	return remark.New("kin-name-there", "place", e.Copy.Place)
}

// onlyNamed tells whether no other file of the name came up when the file went.
func (c *chooser) onlyNamed(e Elsewhere) bool {
	for _, o := range c.Evidence.Elsewhere {
		if o.Copy.ID != e.Copy.ID && o.Named && !o.Lost && o.Came.After(c.lastSeen()) {
			return false
		}
	}
	return true
}

// comparable tells whether what two files of a name share can be told from their bytes. Of what is packed anew with each save, it cannot.
func comparable(name string) bool {
	switch fileclass.Of(name) {
	case fileclass.Pictures, fileclass.Sound, fileclass.Video, fileclass.Archives:
		return false
	}
	return true
}

// lastFile is the last version that is a file with content; negative where there is none.
func (c *chooser) lastFile() int {
	for n := len(c.Trail.Versions) - 1; n >= 0; n-- {
		if v := &c.Trail.Versions[n]; v.Type == entry.File && v.Size > 0 && c.mixed.leftover(n) == nil {
			return n
		}
	}
	return -1
}

// lastSeen is when the file was last seen at the place or its other names; zero where it never was.
func (c *chooser) lastSeen() time.Time {
	if n := c.lastFile(); n >= 0 {
		return c.Trail.Versions[n].LastSeen
	}
	return time.Time{}
}

// firstSeen is when a version was first seen.
func (c *chooser) firstSeen(n int) time.Time {
	var first time.Time
	for _, i := range c.Trail.Versions[n].Seen {
		if at := c.Seen[i].First; first.IsZero() || at.Before(first) {
			first = at
		}
	}
	return first
}
