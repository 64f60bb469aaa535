package target

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/original"
)

// Keeper puts what has to give way into safekeeping, and brings it out again.
type Keeper struct{ Safe original.Safe }

// Keep puts an entry with everything in it into safekeeping. It is still in its place afterwards.
func (k Keeper) Keep(ctx context.Context, folder reach.Tree, name string) (journal.Aside, error) {
	s, err := original.StandingAt(ctx, folder, name)
	if err != nil {
		return journal.Aside{}, err
	}
	if why := original.Obstacle(ctx, folder, name); why != "" {
		return journal.Aside{}, errors.New(why)
	}
	was, err := original.IdentityAt(ctx, folder, name)
	if err != nil {
		return journal.Aside{}, err
	}
	kept, err := original.Keep(ctx, k.Safe, s, name)
	if err != nil {
		return journal.Aside{}, fmt.Errorf("set %s aside: %w", place.Quote(name), err)
	}
	encoded, err := json.Marshal(kept)
	if err != nil {
		return journal.Aside{}, err
	}
	manifest, _, err := k.Safe.Put(ctx, bytes.NewReader(encoded))
	return journal.Aside{Manifest: manifest, Was: was, Type: kept.Kind, Size: kept.Size, SHA256: kept.Digest}, err
}

// Kept returns what was set aside.
func (k Keeper) Kept(a journal.Aside) (original.Original, error) {
	d, err := k.Described(a)
	if err != nil {
		return nil, err
	}
	return d.From(k.Safe), nil
}

// Described reads the description of what was set aside.
func (k Keeper) Described(a journal.Aside) (d original.Kept, err error) {
	f, err := k.Safe.Get(a.Manifest)
	if err != nil {
		return d, err
	}
	defer f.Close()
	encoded, err := io.ReadAll(f)
	if err != nil {
		return d, err
	}
	return d, json.Unmarshal(encoded, &d)
}
