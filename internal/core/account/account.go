// Package account tells which accounts on several machines may be one person's. Who somebody is nobody but people can say: equal names are
// a question, never an answer.
package account

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"humble-rewind/internal/core/names"
)

// PersonID numbers a person; 0 is none.
type PersonID int64

func (id PersonID) String() string { return fmt.Sprintf("p%d", int64(id)) }

// Account is one that somebody has on a machine.
type Account struct {
	Machine  string
	Name     string
	FullName string // "" where none is told
	Person   PersonID
	Holds    []string // names of what lies in its home, of people's own making
}

func (a Account) String() string { return a.Name + "@" + a.Machine }

// Why is a reason for asking whether two accounts are one person's.
type Why string

// The reasons.
const (
	SameName     Why = "same-name"
	SameFullName Why = "same-full-name"
	AlikeHomes   Why = "alike-homes" // much of what lies in one lies in the other
)

// Question asks whether two accounts on two machines are one person's.
type Question struct {
	One, Other Account
	Reasons    []Why
}

const (
	telling = 3 // names that two homes must have in common
	common  = 8 // homes in which a name may lie and still tell something of them
)

// Questions lists what is to be asked: pairs of accounts of different persons on different machines that have something in common. apart tells
// whether it was answered already that two are not one. Of two persons one pair is asked about.
func Questions(all []Account, apart func(one, other PersonID) bool) []Question {
	asked := map[[2]PersonID]int{} // by their persons, the index of the question
	var questions []Question
	ask := func(i, k int, why Why) {
		one, other := all[min(i, k)], all[max(i, k)]
		if one.Person == other.Person || one.Machine == other.Machine || apart(one.Person, other.Person) {
			return
		}
		of := [2]PersonID{min(one.Person, other.Person), max(one.Person, other.Person)}
		n, known := asked[of]
		if !known {
			n = len(questions)
			asked[of] = n
			questions = append(questions, Question{One: one, Other: other})
		}
		if !slices.Contains(questions[n].Reasons, why) {
			questions[n].Reasons = append(questions[n].Reasons, why)
		}
	}
	each := func(of func(Account) string, why Why) {
		by := map[string][]int{}
		for i, a := range all {
			if name := names.Fold(strings.Join(strings.Fields(of(a)), " ")); name != "" {
				for _, k := range by[name] {
					ask(k, i, why)
				}
				by[name] = append(by[name], i)
			}
		}
	}
	each(func(a Account) string { return a.Name }, SameName)
	each(func(a Account) string { return a.FullName }, SameFullName)
	for pair, shared := range sharing(all) {
		if least := min(len(all[pair[0]].Holds), len(all[pair[1]].Holds)); shared >= telling && 2*shared >= least {
			ask(pair[0], pair[1], AlikeHomes)
		}
	}
	byName := func(a, b Question) int {
		return cmp.Or(cmp.Compare(a.One.String(), b.One.String()), cmp.Compare(a.Other.String(), b.Other.String()))
	}
	slices.SortFunc(questions, func(a, b Question) int { return cmp.Or(len(b.Reasons)-len(a.Reasons), byName(a, b)) })
	questions = linking(questions)
	slices.SortFunc(questions, byName)
	return questions
}

// linking keeps, in their order, the questions that would link persons whom those before do not link yet.
func linking(questions []Question) []Question {
	head := map[PersonID]PersonID{} // of whom somebody may be one with
	find := func(p PersonID) PersonID {
		for next, ok := head[p]; ok; next, ok = head[p] {
			p = next
		}
		return p
	}
	return slices.DeleteFunc(questions, func(q Question) bool {
		one, other := find(q.One.Person), find(q.Other.Person)
		if one != other {
			head[max(one, other)] = min(one, other)
		}
		return one == other
	})
}

// sharing counts what homes have in common that few have, by the accounts' indexes.
func sharing(all []Account) map[[2]int]int {
	lies := map[string][]int{}
	for i, a := range all {
		seen := map[string]bool{}
		for _, name := range a.Holds {
			if !seen[name] {
				seen[name] = true
				lies[name] = append(lies[name], i)
			}
		}
	}
	shared := map[[2]int]int{}
	for _, in := range lies {
		if len(in) > common {
			continue
		}
		for n, i := range in {
			for _, k := range in[n+1:] {
				shared[[2]int{i, k}]++
			}
		}
	}
	return shared
}
