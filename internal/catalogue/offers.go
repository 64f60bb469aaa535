package catalogue

import (
	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/catalogue/spans"
	"humble-rewind/internal/core/problem"
)

// Problems that callers branch on.
const (
	ErrNotFound = problem.NotKnown
	ErrTaken    = problem.Known
	ErrDamaged  = problem.Damaged
	ErrCursor   = problem.BadCursor
	// ErrChangedMeanwhile says of a case that somebody else changed it.
	ErrChangedMeanwhile = rows.ErrChangedMeanwhile
)

// ErrMeanwhile says that what is known of a folder changed while a survey was at work on it; surveying again settles it.
var ErrMeanwhile = spans.ErrMeanwhile

// TheService is who asked for what nobody did.
const TheService = rows.TheService

// What the rooms keep, for those who ask the hall.
type (
	Machine     = rows.Machine
	Account     = rows.Account
	Person      = rows.Person
	AccountOn   = rows.AccountOn
	Source      = rows.Source
	Job         = rows.Job
	JobState    = rows.JobState
	Part        = rows.Part
	Outcome     = rows.Outcome
	Surveyed    = rows.Surveyed
	Case        = rows.Case
	CaseState   = rows.CaseState
	CaseEntry   = rows.CaseEntry
	EntryKind   = rows.EntryKind
	Receipt     = rows.Receipt
	ReceiptItem = rows.ReceiptItem
	// ReceiptState is how far a receipt is.
	ReceiptState = rows.ReceiptState
	ItemOutcome  = rows.ItemOutcome
	FolderTimes  = rows.FolderTimes
	Stage        = rows.Stage

	Shown      = spans.Shown
	Query      = spans.Query
	Sort       = spans.Sort
	Found      = spans.Found
	Position   = spans.Position
	Examined   = spans.Examined
	Judged     = spans.Judged
	Difference = spans.Difference
	Following  = spans.Following
	Counts     = spans.Counts
)

// SurveyedOf is what is told of a source that was surveyed.
var SurveyedOf = rows.SurveyedOf

// The states of jobs.
const (
	JobWaiting   = rows.JobWaiting
	JobRunning   = rows.JobRunning
	JobDone      = rows.JobDone
	JobPart      = rows.JobPart
	JobFailed    = rows.JobFailed
	JobCancelled = rows.JobCancelled
)

// The states of cases, and the kinds of their entries.
const (
	CaseOpen    = rows.CaseOpen
	CaseWaiting = rows.CaseWaiting
	CaseDone    = rows.CaseDone

	EntryOpened  = rows.EntryOpened
	EntryChanged = rows.EntryChanged
	EntryState   = rows.EntryState
	EntryNote    = rows.EntryNote
	EntryStep    = rows.EntryStep
	EntryUnstep  = rows.EntryUnstep
	EntryCopy    = rows.EntryCopy
	EntryWrong   = rows.EntryWrong
	EntryRight   = rows.EntryRight
	EntryReceipt = rows.EntryReceipt
)

// The states of receipts, and the outcomes of their items.
const (
	ReceiptOpen    = rows.ReceiptOpen
	ReceiptDone    = rows.ReceiptDone
	ReceiptPart    = rows.ReceiptPart
	ReceiptFailed  = rows.ReceiptFailed
	ReceiptUndoing = rows.ReceiptUndoing
	ReceiptUndone  = rows.ReceiptUndone

	ItemWaiting   = rows.ItemWaiting
	ItemStarted   = rows.ItemStarted
	ItemDone      = rows.ItemDone
	ItemPartly    = rows.ItemPartly
	ItemSkipped   = rows.ItemSkipped
	ItemRefused   = rows.ItemRefused
	ItemFailed    = rows.ItemFailed
	ItemUndone    = rows.ItemUndone
	ItemUnsettled = rows.ItemUnsettled
)

// The orders of copies.
const (
	ByGone    = spans.ByGone
	ByWritten = spans.ByWritten
	ByName    = spans.ByName
	BySize    = spans.BySize
	ByExpiry  = spans.ByExpiry
)
