// Package firstaid says what to do, and what not to do, before anything is brought back, so that a loss does not grow. What
// is said is meant to be read out to the user.
package firstaid

import (
	"time"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/remark"
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
	Notes      []remark.Remark // what could not be found out
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
	Do     remark.Remark
	Why    []remark.Remark
}

// Steps returns what to do for a loss on a drive, most urgent first.
func Steps(loss advice.Loss, d Drive, now time.Time) []Step {
	s := &steps{Drive: d, loss: loss, now: now}
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
	all  []Step
}

func (s *steps) add(step Step, why ...remark.Remark) {
	step.Why = why
	s.all = append(s.all, step)
}

func (s *steps) undo() {
	code := "undo-program"
	if s.loss == advice.Deleted {
		code = "undo-manager"
	}
	s.add(Step{ID: "undo", Urgent: true, Do: remark.New(code)}, remark.New("undo-why"))
}

// busy is how lately somebody must have written for the drive to count as being written to.
const busy = 15 * time.Minute

func (s *steps) stopWriting() {
	if s.Medium == Network {
		s.add(Step{ID: "stop-writing", Do: remark.New("stop-folder")}, remark.New("stop-folder-why"))
		return
	}
	why := []remark.Remark{remark.New("stays")}
	if s.Mount != "" {
		why[0] = remark.New("stays-on", "mount", s.Mount)
	}
	if s.Free >= 0 && s.Free < 2<<30 && s.Free > 0 {
		why = append(why, remark.New("nearly-full", "free", s.Free>>20))
	}
	urgent := false
	if !s.Newest.IsZero() && s.now.Sub(s.Newest) < busy {
		urgent = true
		why = append(why, remark.New("written-to", "path", s.NewestPath, "at", s.Newest))
	}
	if s.loss == advice.Deleted {
		s.add(Step{ID: "stop-writing", Urgent: urgent, Do: remark.New("stop-writing")}, why...)
	} else {
		s.add(Step{ID: "stop-saving", Urgent: urgent, Do: remark.New("stop-saving")}, remark.New("stop-saving-why"))
	}
	s.add(Step{ID: "no-install", Dont: true, Do: remark.New("no-install")}, remark.New("no-install-why"))
}

func (s *steps) trim() {
	if s.Medium == Rotating || s.Medium == Network || s.loss != advice.Deleted {
		return
	}
	switch {
	case s.Discard == AtOnce:
		s.add(Step{ID: "trim", Do: remark.New("trim-at-once")}, remark.New("trim-at-once-why"))
	case s.Discard == Periodically:
		why := []remark.Remark{remark.New("trim-periodic-why")}
		if !s.TrimLast.IsZero() {
			why = append(why, remark.New("trim-last", "at", s.TrimLast))
		}
		urgent := false
		if !s.TrimNext.IsZero() {
			urgent = s.TrimNext.Sub(s.now) < 48*time.Hour
			if s.TrimNext.Before(s.now) {
				why = append(why, remark.New("trim-due", "at", s.TrimNext))
			} else {
				why = append(why, remark.New("trim-next", "at", s.TrimNext))
			}
		}
		s.add(Step{ID: "trim", Urgent: urgent, Do: remark.New("trim-periodic")}, why...)
	case s.Medium == Solid:
		s.add(Step{ID: "trim", Do: remark.New("trim-unknown")}, remark.New("trim-unknown-why"))
	}
}

func (s *steps) misplaced() {
	s.add(Step{ID: "no-copy", Dont: true, Do: remark.New("no-copy")}, remark.New("no-copy-why"))
	s.add(Step{ID: "recent", Do: remark.New("recent")}, remark.New("recent-why"))
	s.add(Step{ID: "undo-move", Do: remark.New("undo-move")}, remark.New("undo-move-why"))
}

func (s *steps) unsaved() {
	s.add(Step{ID: "leave-open", Urgent: true, Do: remark.New("leave-open")}, remark.New("leave-open-why"))
	s.add(Step{ID: "no-restart", Dont: true, Urgent: true, Do: remark.New("no-restart")}, remark.New("no-restart-why"))
	s.add(Step{ID: "offer", Do: remark.New("offer")}, remark.New("offer-why"))
}

func (s *steps) kind() {
	switch s.loss {
	case advice.Damaged:
		s.add(Step{ID: "no-repair", Dont: true, Do: remark.New("no-repair")}, remark.New("no-repair-why"))
		s.add(Step{ID: "drive-health", Do: remark.New("drive-health")}, remark.New("drive-health-why"))
	case advice.Overwritten:
		s.add(Step{ID: "keep-draft", Do: remark.New("keep-draft")}, remark.New("keep-draft-why"))
	case advice.Deleted:
		s.add(Step{ID: "no-empty", Dont: true, Do: remark.New("no-empty")}, remark.New("no-empty-why"))
	}
}
