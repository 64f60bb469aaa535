package say

// ofReceipts are what befell an item that was brought back or put back: notes on it, joined by semicolons.
var ofReceipts = map[string]string{
	"passed":         "something new is there since the plan was made; skipped",
	"finished-later": "finished after the service stopped in between",
	"grew":           "it grew while it was copied; its first {n} bytes are here",
	"not-kept":       "not kept: {lost}",
	"folder-without": "folder made again without {lost}",
	"links-left-out": "{n} links or the like in it were left out: the drive keeps only files and folders",
	"partly":         "only a part of it arrived, {files} files; {n} did not, the first being {first}: {why}",
	"partly-stopped": "only a part of it arrived before the service stopped, {files} files; {n} did not",

	"came-since":      "something came to stand there since the plan was made; both are kept",
	"other-came":      "what came instead stands there now: {why}",
	"is-beside":       "something new is there; {what} is beside it as {name}",
	"remains-beside":  "{what} remains beside it as {name}",
	"stood-before":    "what stood there before",
	"set-aside-too":   "what was set aside also",
	"unfinished-copy": "a copy that was not finished",
	"aside-remains":   "what was set aside also remains in {path}: {why}",

	"arrived-unseen":       "it arrived, and could not be looked at there: {why}",
	"changed-after":        "it arrived and then changed: {why}",
	"not-lasting":          "not certain to survive a power cut: {why}",
	"stays-in-trash":       "it stays in its trash too",
	"not-taken-out":        "it arrived, but was not taken out of its store: {why}",
	"changed-since-copied": "it changed since it was copied; what was added is there",
	"record-held":          "its store still holds the record of it: {why}",

	"not-undone":       "not undone: {why}",
	"put-back-without": "put back without {lost}",
	"record-not-back":  "it is back where it lay, but the record of it is not: {why}",
}
