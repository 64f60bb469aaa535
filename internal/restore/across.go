package restore

import (
	"io/fs"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/original"
)

// across has what comes from another machine belong to whose it is where it goes: to the account there of the person who has it, else to whom
// its folder belongs. Numbers of users mean nothing from one machine to the next.
func (w *wanted) across(open *hands.Hands, c *copies.Copy) {
	from, to := c.Store.Machine, w.To.Machine
	if to == "" || to == from || w.Versioned {
		return
	}
	if !open.WayTo(to).Owners {
		return
	}
	w.accounts = original.Accounts{}
	names := map[int64]string{}
	for uid, here := range open.Across(from, to) {
		w.accounts[uid] = original.Numbers{UID: here.UID}
		names[uid] = here.Name + "@" + to
		if home, err := open.Look(place.Place{Machine: to, Path: here.Home}); err == nil && home.UID.Is(here.UID) {
			w.accounts[uid] = original.Numbers{UID: here.UID, GID: home.GID}
		}
	}
	w.Across, w.Mode.Value = true, w.Mode.Value&^(fs.ModeSetuid|fs.ModeSetgid)
	if w.UID.Known {
		w.Account = names[w.UID.Value]
	}
	w.UID, w.GID = w.accounts.Of(w.UID)
	own, _ := w.accounts.Of(entry.Is(w.Own))
	if w.Own = own.Or(-1); w.Own >= 0 && !open.Lives(w.Own, w.To) {
		w.Own = -1
	}
}
