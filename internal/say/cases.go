package say

// ofCases are what reports on cases say besides advice and first aid.
var ofCases = map[string]string{
	"something-of": "something of {person}",
	"as-saved":     ", as it was saved on {at}",
	"chosen-by":    "It was chosen by {who}, whatever was advised.",
	"chosen-costs": "What was saved after it is not in it.",

	// What happened, for the middle of a sentence, and how far a case is.
	"lost-deleted":     "was deleted",
	"lost-overwritten": "was overwritten",
	"lost-damaged":     "was damaged",
	"lost-misplaced":   "could not be found",
	"lost-unsaved":     "was not saved",
	"case-open":        "open",
	"case-waiting":     "waiting for the user",
	"case-done":        "done",

	// Whether what comes back is whole, in words for the user.
	"user-sound":    "It was checked and is whole.",
	"user-broken":   "It is damaged.",
	"user-doubtful": "Nobody can tell from outside whether it is whole: please open it and look.",
	"user-unread":   "Nobody can tell from outside whether it is whole: please open it and look.",

	// What should be put right, so that the next loss is harmless.
	"left-out":     "Its folder is left out of {source} by the exclusion “{pattern}”.",
	"no-versions":  "No snapshot, history or drive keeps versions of it: only the trash and luck protect this folder.",
	"old-versions": "What keeps versions of it did so {n} days ago for the last time.",
	"same-machine": "Every copy of it is on the same machine; if that is lost, so are they.",
	"would-expire": "The copy in the trash would have expired on {at}.",

	// What was done in a case, by whoever is named before.
	"entry-opened":  "opened the case",
	"entry-changed": "changed {text}",
	"entry-state":   "set it to {state}",
	"entry-note":    "{text}",
	"entry-copy":    "put copy {id} in: {text}",
	"entry-wrong":   "said that copy {id} is not the one",
	"entry-right":   "took back that copy {id} is not the one",
	"entry-step":    "did the first aid step {id}",
	"entry-unstep":  "took back the first aid step {id}",
	"entry-receipt": "brought back, receipt {id}",
}
