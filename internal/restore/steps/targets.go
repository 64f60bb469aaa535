package steps

import (
	"context"
	"sync"

	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/target"
	"humble-rewind/internal/restore/target/cloud"
	"humble-rewind/internal/restore/target/tree"
)

// targets are those of a receipt's items: each goes to the one that was chosen when it was planned.
type targets struct {
	tree  *tree.Target
	cloud *cloud.Target
	asked *asked
}

// asked asks once which target a machine's places are on, for receipts of earlier versions and machines that were away when it was planned.
type asked struct {
	open *hands.Hands // of its own
	mu   sync.Mutex
	on   map[string]journal.Target
}

func (a *asked) at(machine string) journal.Target {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.on[machine] == "" {
		a.on[machine] = target.At(a.open, machine)
	}
	return a.on[machine]
}

// newTargets returns the targets of a receipt's items; open stays the caller's.
func (s *Steps) newTargets(ctx context.Context, receipt int64, open *hands.Hands) targets {
	return targets{s.newTree(ctx, receipt, open), cloud.New(ctx, s.keeper(), hands.New(ctx, s.Site)),
		&asked{open: hands.New(ctx, s.Site), on: map[string]journal.Target{}}}
}

func (s *Steps) newTree(ctx context.Context, receipt int64, open *hands.Hands) *tree.Target {
	return tree.New(ctx, s.Site.Catalogue, s.keeper(), s.Now, receipt, open)
}

// of is the target of an item.
func (t targets) of(it *journal.Carried) target.Target {
	on := it.Work.Target
	if on == "" {
		on = t.asked.at(it.Item.To.Machine)
	}
	if on == journal.Cloud {
		return t.cloud
	}
	return t.tree
}

func (t targets) Ready(it *journal.Carried) error    { return t.of(it).Ready(it) }
func (t targets) Arrive(it *journal.Carried) error   { return t.of(it).Arrive(it) }
func (t targets) Find(it *journal.Carried) error     { return t.of(it).Find(it) }
func (t targets) TakeBack(it *journal.Carried) error { return t.of(it).TakeBack(it) }

func (t targets) Last(all []*journal.Carried) {
	for of, some := range t.parted(all) {
		of.Last(some)
	}
}

func (t targets) Settled(all []*journal.Carried) {
	for of, some := range t.parted(all) {
		of.Settled(some)
	}
}

// parted parts items by their targets.
func (t targets) parted(all []*journal.Carried) map[target.Target][]*journal.Carried {
	parts := map[target.Target][]*journal.Carried{}
	for _, it := range all {
		of := t.of(it)
		parts[of] = append(parts[of], it)
	}
	return parts
}

func (t targets) Uninterrupted() {
	t.tree.Uninterrupted()
	t.cloud.Uninterrupted()
	t.asked.open.Ctx = context.WithoutCancel(t.asked.open.Ctx)
}

func (t targets) Close() {
	t.tree.Close()
	t.cloud.Close()
	t.asked.open.Close()
}
