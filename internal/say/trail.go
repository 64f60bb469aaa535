package say

// ofTrails are what happened to a place, or is to be known of its trail.
var ofTrails = map[string]string{
	"doubted":         "Its recorded write time, {written}, is not believed: {why}.",
	"doubt-late":      "it is later than the capture that shows it",
	"doubt-early":     "it is from before 1980, as of a clock that was never set",
	"hidden":          "Its content changed although size and write time stayed the same.",
	"type-shift":      "What was a {was} is a {is} from here on.",
	"returned":        "A content that had stood here before came back.",
	"removed":         "It was removed.",
	"removed-between": "It was removed some time after it was last seen.",
	"gap":             "Nobody looked in between; what was saved meanwhile, if anything, is not known.",

	"moved":      "It moved from {from} to {to}.",
	"renamed":    "It was renamed from {from} to {to}.",
	"linked":     "A link to {link} took the place of the folder {folder}.",
	"home-moved": "The home of {who} was moved from {from} to {to}, as the machine's accounts say.",
	"redirected": "The folder {from} was redirected to {to}, as user-dirs.dirs says.",

	"seen-no-longer":       "The last survey still saw it at {place}; it is no longer there.",
	"stands-unseen":        "What stands at {place} now could not be looked at: {why}.",
	"changed-since-survey": "What stands at {place} has changed since the last survey; survey the machine to have a copy of it on record.",
	"not-read":             "{n|1 copy was not read, as it is large or cannot be reached; size and write time tell it apart.|%d copies were not read, as they are large or cannot be reached; size and write time tell them apart.}",
}
