package spans

import (
	"context"
	"maps"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/principal"
)

// scoped is the room as somebody may know it who has a scope: of stores whose machine is not in it nothing is there. A store is its machine's
// whose files it holds, wherever it is.
type scoped struct {
	*room
	scope principal.Scope
}

// View returns the doors by which copies of a scope are read.
func (s *Spans) View(scope principal.Scope) (Copies, Search) {
	seen := scoped{s.room, scope}
	return Copies{seen}, Search{seen}
}

// look is one look at what is in scope.
func (s scoped) look(ctx context.Context) (*look, error) {
	r, err := s.room.look(ctx)
	if err == nil && !s.scope.Whole() {
		r.stores = maps.Clone(r.stores) // which others read
		maps.DeleteFunc(r.stores, func(_ copies.SourceID, store *copies.Store) bool { return !s.scope.Has(store.MachineID) })
	}
	return r, err
}

// of tells whether a store of the scope is of a machine; of others nothing can be there.
func (r *look) of(machine string) bool {
	for _, store := range r.stores {
		if store.Machine == machine {
			return true
		}
	}
	return false
}
