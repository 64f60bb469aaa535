package trash

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/rights"
)

// A record lies in its owner's own hands, so it is believed only where she could have deleted from: inside her home, or in a
// folder that she may write, as the machine's own modes, groups and access lists say. What it says else is claimed; where nothing can be
// told, nothing is believed.

// truster judges the records of one trash directory.
type truster struct {
	own   *rights.Machine // whose files are in it
	owner int64           // whose trash it is; negative where that cannot be told
	who   rights.Who
	homes []string
}

func (v *visit) truster(ctx context.Context) *truster {
	t := &truster{own: rights.Of(ctx, v.Own), owner: v.owner(ctx)}
	for _, p := range v.People {
		if p.UID == t.owner {
			t.homes = append(t.homes, p.Homes...)
		}
	}
	if t.owner > 0 {
		t.who = t.own.User(t.owner)
	}
	return t
}

// owner returns whose a trash directory is: of the person whose home it lies in, whoever it belongs to there; else of the user
// in its name, if it is that one's or root's; else of the one it belongs to.
func (v *visit) owner(ctx context.Context) int64 {
	at := place.Mapped(v.Maps, place.Join(v.At, v.can.dir))
	inner, owner := "", int64(-1)
	for _, p := range v.People {
		for _, home := range p.Homes {
			if place.Under(at, home) && len(home) > len(inner) {
				inner, owner = home, p.UID
			}
		}
	}
	if inner != "" {
		return owner
	}
	info, err := reach.Look(ctx, v.Files, place.Join(v.At, v.can.dir))
	switch {
	case err != nil:
		return -1
	case v.can.uid >= 0 && (info.UID.Is(v.can.uid) || info.UID.Is(0)):
		return v.can.uid
	}
	return info.UID.Or(-1)
}

// believes tells whether the trash's owner could have deleted an item from a place.
func (t *truster) believes(ctx context.Context, path string, item reach.Info) bool {
	switch {
	case t.owner == 0:
		return true
	case t.owner < 0:
		return false
	}
	for _, home := range t.homes {
		if path != home && place.Under(path, home) {
			return true
		}
	}
	return t.own.MayPut(ctx, t.who, path) && (item.UID.Is(t.owner) || !t.own.Sticky(ctx, t.who, place.Folder(path)))
}

// judge turns an origin that is not believed into one that is only claimed.
func (t *truster) judge(ctx context.Context, told told, item reach.Info) told {
	if told.origin == "" || t.believes(ctx, told.origin, item) {
		return told
	}
	told.claimed, told.origin = told.origin, ""
	told.notes = append(told.notes, fmt.Sprintf("Its record claims that it came from %s, but the owner of this trash could not have "+
		"deleted it from there. The record may be forged: it is not trusted.", place.Quote(told.claimed)))
	return told
}

// Vouches names the record of the item that something is or lies in.
func (s *store) Vouches(_ context.Context, at sighting.Locator) []string {
	parts := strings.Split(at.Path(), "/")
	n := slices.IndexFunc(parts, func(part string) bool { return part == "files" || part == "info" })
	if n < 0 || n+1 == len(parts) {
		return []string{s.At}
	}
	record := strings.TrimSuffix(parts[n+1], recordSuffix) + recordSuffix
	return []string{place.Join(s.At, strings.Join(append(slices.Clone(parts[:n]), "info", record), "/"))}
}
