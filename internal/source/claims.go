package source

import (
	"context"
	"fmt"
	"slices"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/rights"
)

// Judge tells which origins are believed. What a store says of where its copies came from lies in the hands of whoever may write the
// store; so it is believed only where all of those may put something there anyway, as the machine's own accounts, modes and access
// lists say. Everything else is claimed. That holds for every kind, by the one function of Store that says what vouches for a copy.
type Judge struct {
	setup   Setup
	there   *rights.Machine // the store's
	own     *rights.Machine // the one whose copies it holds
	written map[string]rights.Writers
	release func()
}

// Close lets go of what it keeps open.
func (j *Judge) Close() { j.release() }

// NewJudge returns a judge of the copies of one store, for one piece of work: accounts and folders are taken as they are now. It must be
// closed.
func NewJudge(ctx context.Context, setup Setup) *Judge {
	j := &Judge{setup: setup, there: rights.Of(ctx, setup.Files), written: map[string]rights.Writers{}}
	j.release = j.there.Keep()
	if j.own = j.there; setup.Elsewhere {
		j.own = rights.Of(ctx, setup.Own)
	}
	return j
}

// maxWritten is of how many paths it is remembered who may write them.
const maxWritten = 20_000

// Of turns the origin of a sighting that is not believed into one that is only claimed.
func (j *Judge) Of(ctx context.Context, store Store, s sighting.Sighting) sighting.Sighting {
	if s.Origin == "" || j.Believes(ctx, store, s.At, s.Origin) {
		return s
	}
	s.Claimed, s.Origin = s.Origin, ""
	s.Notes = append(s.Notes, fmt.Sprintf("It claims to come from %s, but somebody who may write its store could not have put it there. "+
		"That may be forged: it is not trusted.", place.Quote(s.Claimed)))
	return s
}

// Believes tells whether everybody who could make the store say so may put something at an origin.
func (j *Judge) Believes(ctx context.Context, store Store, at sighting.Locator, origin string) bool {
	vouch := store.Vouches(ctx, at)
	if !j.setup.Elsewhere && len(vouch) == 1 && vouch[0] == origin {
		return true // it lies there itself
	}
	if vouch == nil {
		return true // a technician says where a drive's files stand; that drive alone can be meant
	}
	who := rights.Writers{}
	for _, path := range vouch {
		if len(j.written) > maxWritten {
			clear(j.written)
		}
		w, known := j.written[path]
		if !known {
			w = j.there.Writers(ctx, path)
			j.written[path] = w
		}
		who = who.And(w)
	}
	if who.None() {
		return true
	}
	if who.Unknown { // where the way tells no owners, the home that a store lies in tells, or a technician
		return !j.setup.Files.Traits().Owners && (j.mapped(origin) || !j.setup.Elsewhere && j.sameHome(vouch, origin))
	}
	if who.Everyone && !j.may(ctx, rights.Everyone, origin) {
		return false
	}
	for _, uid := range who.Users {
		if j.setup.Elsewhere && j.there.Other(j.own, uid) || !j.may(ctx, j.own.User(uid), origin) {
			return false
		}
	}
	return true
}

// may tells whether somebody may put something at an origin: in her home, or as the machine says.
func (j *Judge) may(ctx context.Context, w rights.Who, origin string) bool {
	for _, p := range j.setup.People {
		for _, home := range p.Homes {
			if p.UID == w.UID && origin != home && place.Under(origin, home) {
				return true
			}
		}
	}
	return j.own.MayPut(ctx, w, origin)
}

// sameHome tells whether a store lies in a home, and what it says came from there.
func (j *Judge) sameHome(vouch []string, origin string) bool {
	return slices.ContainsFunc(j.setup.Homes, func(home string) bool {
		return origin != home && place.Under(origin, home) &&
			!slices.ContainsFunc(vouch, func(path string) bool { return !place.Under(path, home) })
	})
}

func (j *Judge) mapped(origin string) bool {
	for _, m := range j.setup.Maps {
		if place.Under(origin, m.To) {
			return true
		}
	}
	return false
}

// Confine returns a setup whose files lead outside the store's location only where everybody who may write the location may read.
func (s Setup) Confine(ctx context.Context) Setup {
	if _, drive := reach.KeeperOf(s.Files); !drive {
		there := rights.Of(ctx, s.Files)
		s.Files = there.Confined(s.At, there.Writers(ctx, s.At))
	}
	return s
}
