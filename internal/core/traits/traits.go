// Package traits says as data what a kind of store can tell and do. The data is kept with each source, and is all that the rest of
// the program knows of kinds: nothing branches on a kind's name.
package traits

import "time"

// Shape says what the copies of a store are copies of.
type Shape string

// The shapes.
const (
	Now      Shape = "now"      // the machine's own files as they are now
	Points   Shape = "points"   // trees as they were at points in time
	Versions Shape = "versions" // of each file the contents that it had
	Kept     Shape = "kept"     // files as they are now, each with the versions that its store keeps of it, and what was removed
	Removals Shape = "removals" // what was removed
	Traces   Shape = "traces"   // what may be a copy of something
)

// Cost is what opening one copy costs.
type Cost string

// The costs.
const (
	Little Cost = "little" // a file is opened
	Whole  Cost = "whole"  // what stands before it in its store has to be read as well
)

// Traits of a store: those of its kind, unless it says of itself otherwise when it is opened. The zero Traits are of a store of which nothing is known.
type Traits struct {
	Shape Shape `json:"shape"`
	// Rank orders stores among copies of equal content: the lower is taken first.
	Rank int `json:"rank"`
	// Resolution is how fine the times are that it tells; 0: it is worked out from what it holds.
	Resolution time.Duration `json:"resolution,omitempty"`
	// Zoneless says that its times are of a wall clock somewhere, taken to be the machine's: what another store says of the same content
	// comes first.
	Zoneless bool `json:"zoneless,omitempty"`
	// Ownerless says that it does not tell whose a copy is, nor its mode: what it says of that all the same is dropped.
	Ownerless bool `json:"ownerless,omitempty"`
	// Proves says that its copies carry checksums, so that reading one shows whether it is whole.
	Proves bool `json:"proves,omitempty"`
	// Unproved says that what it holds now may be another's than what its records say, such as blocks that were given away: that two contents
	// are one is known by digests that were read of it, never by size and time, nor by what it calls them; it is read last, and what only it
	// has is never certain.
	Unproved bool `json:"unproved,omitempty"`
	// Entire says that its points in time are all that there were: between two of them the earlier holds, whatever write times say.
	Entire bool `json:"entire,omitempty"`
	// Expires says that what it holds goes by itself after a while.
	Expires bool `json:"expires,omitempty"`
	// Leftovers says that what it holds was left behind by programs beside or instead of documents.
	Leftovers bool `json:"leftovers,omitempty"`
	Cost      Cost `json:"cost,omitempty"`
	// Usual says that people expect a machine to have one, so that it is told where none is known.
	Usual bool `json:"usual,omitempty"`
	// Lockable says that it may hold what only a secret opens.
	Lockable bool `json:"lockable,omitempty"`
	// Private is the folder at its location that is the store itself, where that lies amid people's own files; "" where all of it is.
	Private string `json:"private,omitempty"`
	// Tree says that a copy that is a folder can be shown with what was in it at the copy's moment.
	Tree bool `json:"tree,omitempty"`
}

// Live tells whether the store is the machine's own files.
func (t Traits) Live() bool { return t.Shape == Now }

// Dated tells whether the store holds what there was at many points in time.
func (t Traits) Dated() bool { return t.Shape == Points || t.Shape == Versions }

// Keeps tells whether the store holds what files were before, whatever became of them since: it protects them.
func (t Traits) Keeps() bool { return t.Dated() || t.Shape == Kept }

// Shows tells whether a store that covers a place would have shown something there, had it been there.
func (t Traits) Shows() bool { return t.Live() || t.Keeps() }
