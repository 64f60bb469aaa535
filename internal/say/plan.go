package say

// ofPlans are what a plan says of what it would bring back: notes on an item, joined by semicolons.
var ofPlans = map[string]string{
	// Why it cannot be brought back.
	"record-only":    "only the record of it is left; there is nothing to bring back",
	"device":         "it is a device, pipe or socket; there is no content to bring back",
	"emptied":        "it is no longer where the last survey saw it: it was emptied, or somebody just brought it back; survey again",
	"store-away":     "its store cannot be reached: {why}",
	"origin-unknown": "nothing tells where it came from; say where it should go with a destination of your choice",
	"claims":         "it claims to come from {place}, but somebody who may write its store could not have put it there, so that may be forged; say where it should go, or confirm the claimed place",
	"claims-here":    "it claims to come from here, but somebody who may write its store could not have put it here, so that may be forged",
	"into-itself":    "{place} lies inside what is to be brought back; choose another destination",
	"root":           "{place} is the root of the machine, which cannot be replaced",
	"no-root":        "the root of {machine} is not there; check how the machine is reached",
	"no-folder":      "{place} is a {type}, not a folder; move it away or choose another destination",
	"read-only":      "{place} is on a read-only file system; mount it for writing or choose another destination",
	"no-room":        "{machine} has room for {free} bytes and {size} are needed; free some or choose another destination",
	"folder-stays":   "the folder that stands there cannot be set aside: {why}",
	"aside-not":      "it cannot be set aside: {why}",
	"device-kept":    "it is a device, pipe or socket, which cannot be kept safe",

	// What stands where it goes.
	"stands":        "a {type}",
	"stands-file":   "a {type} of {size} bytes written {written}",
	"stands-own":    "another copy of this plan",
	"clash-skipped": "{what} is there already; skipped",
	"clash-version": "{what} is there already; it stays as the version before",
	"clash-aside":   "{what} is there already; it is set aside into safekeeping",
	"clash-both":    "{what} is there already; both are kept",
	"came-later":    "a {type} that came later; it is set aside into safekeeping",
	"not-there-now": "it is not there any more",

	// How it comes.
	"with-its-folder":       "it comes back with the folder that it lies in",
	"comes-whole":           "it comes back whole, as one store had it on {at}, for it is {what}. Open it there with its own program, on any machine that has it, with its password or recovery key",
	"other-file-system":     "another file system: copied, verified, then taken out of its store",
	"assumed":               "assumed: nobody looked between",
	"now-at":                "the same file is now at {path}",
	"hard-link":             "it was the same file as {path} (a hard link); it comes back as one of its own",
	"claimed-confirmed":     "that it came from here is only claimed, and may be forged by somebody who could not have put it here; it goes here because you confirmed it",
	"bits-dropped":          "its set-id bits are dropped, because users can write where it comes from",
	"owner-not-believed":    "it belongs to user {uid}, which is not believed of a store that users can write: it comes to belong to user {owner}, as the folder it goes into",
	"owner-elsewhere":       "it comes from another machine, whose users have other numbers: it comes to belong {belongs}",
	"belongs-to-account":    "to {account}",
	"owner-untold":          "its store does not tell whose it is: it comes to belong {belongs}",
	"mode-untold":           "its store does not tell who may read it: it is as open to others as that folder is",
	"owner-and-mode-untold": "its store tells neither whose it is nor who may read it: it comes to belong {belongs}, and is as open to others as that folder is",
	"belongs-by-machine":    "to whom the machine gives it",
	"belongs-as-folder":     "to user {uid}, as the folder it goes into",
}
