package problem

// Step is something that can be done next, as a code and what it is about: how it is done, with a command or on a page, is for each client to
// say.
type Step struct {
	Do    Do
	About string // such as the name of a machine; "" where there is nothing to name
}

// Do is what is to be done.
type Do string

// What is to be done, and what it is about.
const (
	ListMachines   Do = "list-machines"
	ShowMachine    Do = "show-machine" // its name
	ListSources    Do = "list-sources"
	SuggestSources Do = "suggest-sources" // of a machine, by its name
	ListPersons    Do = "list-persons"
	Survey         Do = "survey" // a machine, by its name
	Find           Do = "find"
	ShowTrail      Do = "show-trail"  // of a place
	Unlock         Do = "unlock"      // a source, by its number such as s4
	ChangeCase     Do = "change-case" // by its number such as k4
)
