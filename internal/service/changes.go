package service

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
)

// change says of what is shown that it may be otherwise now: its kind and its number or name. What it is like now has to be asked.
type change struct {
	Kind changed `json:"kind"`
	ID   string  `json:"id"`
}

// changed is a kind of what changes.
type changed string

const (
	changedJob     changed = "job"
	changedCase    changed = "case"
	changedMachine changed = "machine"
	changedSource  changed = "source"
	changedMuch    changed = "much" // more than is told one by one, of whatever kinds; without a number
)

// changes tell those who follow them what changed.
type changes struct {
	mu        sync.Mutex
	followers map[*follower]bool
}

// follower is somebody who follows the changes. What changes again before it was told is told once.
type follower struct {
	mu      sync.Mutex
	pending map[change]bool
	some    chan struct{} // receives where something is pending
}

// maxPending is how many changes wait to be told one by one.
const maxPending = 1000

// tell tells all who follow.
func (c *changes) tell(kind changed, id string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for f := range c.followers {
		f.mu.Lock()
		if f.pending[change{kind, id}] = true; len(f.pending) > maxPending {
			f.pending = map[change]bool{{Kind: changedMuch}: true}
		}
		f.mu.Unlock()
		select {
		case f.some <- struct{}{}:
		default: // it has not taken the last yet either
		}
	}
}

// follow begins to follow; call done at the end.
func (c *changes) follow() (f *follower, done func()) {
	f = &follower{pending: map[change]bool{}, some: make(chan struct{}, 1)}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.followers == nil {
		c.followers = map[*follower]bool{}
	}
	c.followers[f] = true
	return f, func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		delete(c.followers, f)
	}
}

// take takes what is pending, in an order.
func (f *follower) take() []change {
	f.mu.Lock()
	defer f.mu.Unlock()
	var all []change
	for c := range f.pending {
		all = append(all, c)
	}
	clear(f.pending)
	slices.SortFunc(all, func(a, b change) int { return strings.Compare(string(a.Kind)+" "+a.ID, string(b.Kind)+" "+b.ID) })
	return all
}

// knows tells whether who asks may know of what changed. What is gone is told to those alone who may know of everything.
func (s *Service) knows(ctx context.Context, c change) (bool, error) {
	if asking(ctx).Scope.Whole() || c.Kind == changedMuch {
		return true, nil
	}
	view := s.asked(ctx).view
	var err error
	switch c.Kind {
	case changedJob:
		_, err = s.jobOf(ctx, c.ID)
	case changedCase:
		_, err = s.caseOf(ctx, c.ID)
	case changedMachine:
		_, err = view.Machines.Named(ctx, c.ID)
	case changedSource:
		var id copies.SourceID
		if id, err = number[copies.SourceID]("s", c.ID); err == nil {
			_, err = view.Sources.ByID(ctx, id)
		}
	}
	if errors.Is(err, catalogue.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// FollowChanges streams what changes.
func (s *Service) FollowChanges(ctx context.Context, _ api.FollowChangesRequestObject) (api.FollowChangesResponseObject, error) {
	return followed{ctx, s, func(c change) (string, any) { return "change", c }}, nil
}

// FollowCases streams an event whenever a case changes.
func (s *Service) FollowCases(ctx context.Context, _ api.FollowCasesRequestObject) (api.FollowCasesResponseObject, error) {
	return followed{ctx, s, func(c change) (string, any) {
		if c.Kind != changedCase && c.Kind != changedMuch {
			return "", nil
		}
		return "cases", struct{}{}
	}}, nil
}

// followed answers with a stream of events. as makes an event of a change, its type and its data; "" is none.
type followed struct {
	ctx context.Context
	s   *Service
	as  func(change) (kind string, data any)
}

// VisitFollowCasesResponse streams until the client has gone or the service stops.
func (e followed) VisitFollowCasesResponse(w http.ResponseWriter) error { return e.stream(w) }

// VisitFollowChangesResponse does so too.
func (e followed) VisitFollowChangesResponse(w http.ResponseWriter) error { return e.stream(w) }

// gathering is how long changes gather before they are told.
const gathering = 100 * time.Millisecond

func (e followed) stream(w http.ResponseWriter) error {
	f, done := e.s.changes.follow()
	defer done()
	stream := beginEvents(w)
	err := stream.say("following")
	alive := time.NewTicker(20 * time.Second) // so that a connection that was lost is noticed
	defer alive.Stop()
	for err == nil {
		select {
		case <-f.some:
			err = e.tell(stream, f.take())
		case <-alive.C:
			err = stream.say("alive")
		case <-e.ctx.Done():
			return nil
		case <-e.s.stopping:
			return nil
		}
		select {
		case <-time.After(gathering):
		case <-e.ctx.Done():
			return nil
		}
	}
	return err
}

func (e followed) tell(stream eventStream, all []change) error {
	for _, c := range all {
		kind, data := e.as(c)
		if kind == "" {
			continue
		}
		if known, err := e.s.knows(e.ctx, c); err != nil || !known {
			if err != nil {
				return err
			}
			continue
		}
		encoded, err := json.Marshal(data)
		if err != nil {
			return err
		}
		if err := stream.send(kind, string(encoded)); err != nil {
			return err
		}
	}
	return nil
}
