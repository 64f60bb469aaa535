package advice

import "time"

// What decides is here, each with the reason for its size.
const (
	// breakShare is the part of the content that a save must lose to be taken for the one that went wrong: who edits a document keeps
	// more than half of it.
	breakShare = 0.5
	// breakHabit is how many times more than usual such a save loses: some documents are rewritten each day, and that is no break.
	breakHabit = 3
	// breakTotal is lost by no edit, whatever is usual.
	breakTotal = 0.8
	// breakAny is what a save must lose to be the likeliest of those that are no clear break.
	breakAny = 0.1
	// breakSaves is how many of the last saves are looked at. Each is read; a break further back was noticed long ago.
	breakSaves = 100

	// leftoverNamed is the share of a leftover's content that must be the document's where its name says so too: the name alone is
	// often used again, and two texts in one language share some words.
	leftoverNamed = 0.3
	// leftoverNameless is that share where nothing but the content says whose it is.
	leftoverNameless = 0.6
	// leftoverUnlike is a share below which a leftover that is named as the document's is still another document's: two documents of one
	// trade share up to half of their words.
	leftoverUnlike = 0.5
	// leftoverLead is by how much a leftover must be nearer to the document than to others: what is alike, as templates are, tells nothing.
	leftoverLead = 0.05
	// leftoverTimes is how many times larger than the largest version a leftover may be that cannot be held against them: what is far
	// larger is not read through for a name.
	leftoverTimes = 4
	// leftoverSmall, in bytes, and leftoverSizes say how large a nameless leftover may be to be held against a document at all: that much
	// is added to the document's size, and it may be so many times larger.
	leftoverSmall, leftoverSizes = 4096, 20
	// leftoverNothingNew and leftoverLess are the share of a leftover that a version has already, and the share of that version which the leftover
	// has, by which it is one that was not written to its end: who works on a document adds to it.
	leftoverNothingNew, leftoverLess = 0.99, 0.9
	// leftoverHeld is how many versions a leftover is held against: it goes on from one of the last.
	leftoverHeld = 3
	// backupAfter is how long after a save the backup that it made may carry its date.
	backupAfter = time.Minute

	// tellingSizes is how many times larger one content must be than another for a user to remember which it was.
	tellingSizes = 1.5
	// anotherFile is the share of a file that must be gone for what is there to be another file under the same name.
	anotherFile = 0.8
	// clockSlack is how far two clocks may be apart without one of them being wrong.
	clockSlack = time.Minute
	// dateSlack is how much older than the version before a date must be to say that an older file was put there: clocks are set back
	// by an hour twice a year by those that keep local time.
	dateSlack = 2 * time.Hour
	// habitShare is the part of the usual time between two saves of a file in which one more is not to be expected.
	habitShare = 4
	// shortWindow is a time in which nobody is expected to have saved, whatever is known of the habit; in a longer one somebody
	// of whom no habit is known may well have.
	shortWindow = 15 * time.Minute
	// longWindow is a time in which anybody may have saved, however seldom she did.
	longWindow = 3 * 24 * time.Hour
	// maxEnds bounds how many versions the end of one is held against.
	maxEnds = 60
	// maxOthers bounds how many runners-up are listed.
	maxOthers = 20
	// maxSame bounds how many copies of what is recommended are among them.
	maxSame = 3

	// sitting is the time within which removals are one: somebody throws things away one after the other.
	sitting = time.Hour
	// company is how many files must clearly have been overwritten by others in one sitting for one that lost much then to be one of them.
	company = 2
	// aftermath is how long after a mass removal single ones may follow without making it something else: the mass removal is meant.
	aftermath = 7 * 24 * time.Hour
	// massFew, massHalf, massEnough and massFifth say which removals are many: half of the files, if they are not just a few, or a fifth
	// of them, if they are enough. They are those of package masschange.
	massFew, massHalf, massEnough, massFifth = 5, 2, 20, 5
	// descendantShare is the share of the last content that a file elsewhere has that goes on from it.
	descendantShare = 0.6
	// renameShare is the share of a content that a file keeps that was renamed and worked on, and renameTries is how many files that came
	// when it went are held against it.
	renameShare, renameTries = 0.6, 12
	// goesOn is the share of a content that work on it keeps.
	goesOn = 0.5
	// goesOnClearly is that share where other files were replaced at the same time: two documents of one trade, or made from one template,
	// share more than half.
	goesOnClearly = 0.8
	// folderReads is how many files of a folder are judged by their content, those that a mass change hit first.
	folderReads = 300
	// movedLooks is how many files that are gone are looked for elsewhere, as long as they are found there.
	movedLooks = 10_000
	// mostlyNoise is the part of the broken files that must be noise for an attack to be named.
	mostlyNoise = 0.5
)
