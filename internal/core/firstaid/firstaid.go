// Package firstaid says what to do, and what not to do, before anything is brought back, so that a loss does not grow. The
// sentences are meant to be read out to the user.
package firstaid

import (
	"fmt"
	"time"

	"humble-rewind/internal/core/advice"
)

// Drive is what a machine's own files say of the drive that a place is on. Zero fields are not known.
type Drive struct {
	Mount      string // where its file system hangs
	Node       string // such as /dev/sda1
	FileSystem string
	Medium     Medium
	Discard    Discard
	TrimLast   time.Time // when the periodic trim last ran
	TrimNext   time.Time // when it runs next
	Free       int64     // bytes; negative where not known
	ReadOnly   bool
	Newest     time.Time // the last write below the person's home
	NewestPath string
	Notes      []string // what could not be found out
}

// Medium is what a drive is made of.
type Medium string

// The media. The zero Medium is not known.
const (
	Rotating Medium = "rotating"
	Solid    Medium = "solid-state"
	Network  Medium = "network"
)

// Discard says when a solid-state drive is told of freed blocks, which are then gone for good.
type Discard string

// The ways. The zero Discard is not known.
const (
	AtOnce       Discard = "at-once"  // with every deletion
	Periodically Discard = "periodic" // by a timer
	Never        Discard = "never"
)

// Step is one thing to do, or not to do.
type Step struct {
	ID     string // stays the same, so that it can be ticked
	Dont   bool
	Urgent bool
	Text   string // to be read out
	Why    string
}

// Steps returns what to do for a loss on a drive, most urgent first.
func Steps(loss advice.Loss, d Drive, now time.Time, zone *time.Location) []Step {
	s := &steps{Drive: d, loss: loss, now: now, zone: zone}
	switch loss {
	case advice.Misplaced:
		s.misplaced()
	case advice.Unsaved:
		s.unsaved()
	default:
		s.undo()
		s.stopWriting()
		s.trim()
	}
	s.kind()
	return s.all
}

type steps struct {
	Drive
	loss advice.Loss
	now  time.Time
	zone *time.Location
	all  []Step
}

func (s *steps) add(step Step) { s.all = append(s.all, step) }

func (s *steps) say(t time.Time) string { return advice.Say(t, s.now, s.zone) }

func (s *steps) undo() {
	text := "Is the program still open? Then try its undo before anything else, and do not close it."
	if s.loss == advice.Deleted {
		text = "Has nothing else been done since? Then try undo in the file manager once."
	}
	s.add(Step{ID: "undo", Urgent: true, Text: text, Why: "An undo brings everything back, and costs nothing."})
}

// busy is how lately somebody must have written for the drive to count as being written to.
const busy = 15 * time.Minute

func (s *steps) stopWriting() {
	where := "the drive"
	if s.Mount != "" {
		where = "the drive that holds " + s.Mount
	}
	if s.Medium == Network {
		s.add(
			Step{
				ID:   "stop-writing",
				Text: "Please leave the folder alone for the moment; others may go on working elsewhere.",
				Why:  "It is on a network drive, so what was freed is on another machine; tell whoever looks after that one.",
			},
		)
		return
	}
	why := fmt.Sprintf("What was deleted stays on %s until something new is written over it.", where)
	if s.Free >= 0 && s.Free < 2<<30 && s.Free > 0 {
		why += fmt.Sprintf(" It is nearly full (%d MiB free), so that happens soon.", s.Free>>20)
	}
	urgent := false
	if !s.Newest.IsZero() && s.now.Sub(s.Newest) < busy {
		urgent = true
		why += fmt.Sprintf(" It is being written to: %s was written on %s.", s.NewestPath, s.say(s.Newest))
	}
	if s.loss == advice.Deleted {
		s.add(
			Step{
				ID:     "stop-writing",
				Urgent: urgent,
				Text:   "Please save nothing more on this machine for the moment, and leave programs closed that write by themselves.",
				Why:    why,
			},
		)
	} else {
		s.add(Step{ID: "stop-saving", Urgent: urgent, Text: "Please do not save this file again, and close it without saving if it is " +
			"open.", Why: "Every save puts another version over the ones that are wanted."})
	}
	s.add(
		Step{
			ID:   "no-install",
			Dont: true,
			Text: "Do not install anything on this machine, and do not run a clean-up or repair program.",
			Why:  "Both write a great deal, and repairs throw away what they cannot place.",
		},
	)
}

func (s *steps) trim() {
	if s.Medium == Rotating || s.Medium == Network || s.loss != advice.Deleted {
		return
	}
	switch {
	case s.Discard == AtOnce:
		s.add(
			Step{
				ID:   "trim",
				Text: "Nothing needs to be done about the drive: what was deleted from it is wiped at once.",
				Why:  "The file system tells the solid-state drive of freed blocks with every deletion, so only copies elsewhere can help.",
			},
		)
	case s.Discard == Periodically:
		why := "The machine tells its solid-state drive of freed blocks from time to time; the drive then wipes them."
		if !s.TrimLast.IsZero() {
			why += fmt.Sprintf(" It last did on %s.", s.say(s.TrimLast))
		}
		urgent := false
		if !s.TrimNext.IsZero() {
			urgent = s.TrimNext.Sub(s.now) < 48*time.Hour
			if s.TrimNext.Before(s.now) {
				why += fmt.Sprintf(" It was due on %s and may run at any moment.", s.say(s.TrimNext))
			} else {
				why += fmt.Sprintf(" It does again on %s.", s.say(s.TrimNext))
			}
		}
		s.add(
			Step{
				ID:     "trim",
				Urgent: urgent,
				Text: "Please leave the machine as it is, and let us stop the periodic trim until the file is back: systemctl stop " +
					"fstrim.timer.",
				Why: why,
			},
		)
	case s.Medium == Solid:
		s.add(
			Step{
				ID:   "trim",
				Text: "Please leave the machine as it is until we have looked.",
				Why:  "It has a solid-state drive; whether and when it wipes freed blocks could not be found out.",
			},
		)
	}
}

func (s *steps) misplaced() {
	s.add(
		Step{
			ID:   "no-copy",
			Dont: true,
			Text: "Do not write it again yet: it most likely still exists.",
			Why:  "A file that was moved, renamed or hidden is not lost; two of them make it worse.",
		},
	)
	s.add(Step{ID: "recent", Text: "Open the program and look at its list of recent files.", Why: "It often names the very place."})
	s.add(
		Step{
			ID:   "undo-move",
			Text: "Was something dragged just now? Then try undo in the file manager once.",
			Why:  "Most files get lost by a slip of the mouse.",
		},
	)
}

func (s *steps) unsaved() {
	s.add(
		Step{
			ID:     "leave-open",
			Urgent: true,
			Text:   "Is the program still open, even if it hangs? Leave it open.",
			Why:    "What was never saved is still in its memory.",
		},
	)
	s.add(
		Step{
			ID:     "no-restart",
			Dont:   true,
			Urgent: true,
			Text:   "Do not restart the machine, and do not start the program again yet.",
			Why:    "Programs clean up their autosaves when they start or end.",
		},
	)
	s.add(
		Step{
			ID:   "offer",
			Text: "If the program offers to recover the document, accept it and save under a new name.",
			Why:  "It offers only once.",
		},
	)
}

func (s *steps) kind() {
	switch s.loss {
	case advice.Damaged:
		s.add(
			Step{
				ID:   "no-repair",
				Dont: true,
				Text: "Do not let the program repair the file.",
				Why:  "A repair saves over it, and throws away what it does not understand.",
			},
		)
		s.add(
			Step{
				ID:   "drive-health",
				Text: "Have other files stopped opening as well? Then switch the machine off and tell us.",
				Why:  "One broken file is an accident; several are a failing drive or an attack.",
			},
		)
	case advice.Overwritten:
		s.add(Step{ID: "keep-draft", Text: "Keep what is there now; nothing of it will be thrown away.", Why: "Perhaps both are wanted."})
	case advice.Deleted:
		s.add(
			Step{
				ID:   "no-empty",
				Dont: true,
				Text: "Do not empty the trash, of the machine or of any stick or card.",
				Why:  "The file may lie in it, whole and with its name.",
			},
		)
	}
}
