package cli

import (
	"fmt"
	"strings"

	"humble-rewind/api"
	"humble-rewind/internal/core/problem"
)

// commands say how a step is done from the command line; %s is what it is about.
var commands = map[problem.Do]string{
	problem.ListMachines:   "humble-rewind machine list",
	problem.ShowMachine:    "humble-rewind machine show %s",
	problem.ListPersons:    "humble-rewind person list",
	problem.ListSources:    "humble-rewind source list",
	problem.SuggestSources: "humble-rewind source suggest %s",
	problem.Survey:         "humble-rewind survey %s --wait",
	problem.Find:           "humble-rewind find WORDS",
	problem.ShowTrail:      "humble-rewind trail %s",
	problem.Unlock:         "humble-rewind source unlock %s",
	problem.ChangeCase:     "humble-rewind case change %s --place PLACE",
}

// subjects stand for what a step is about where it does not say.
var subjects = map[problem.Do]string{problem.ShowMachine: "MACHINE", problem.SuggestSources: "MACHINE", problem.Survey: "MACHINE",
	problem.ShowTrail: "PLACE", problem.Unlock: "SOURCE", problem.ChangeCase: "CASE"}

// command is how a step is done; "" where this version does not know it.
func command(s api.Step) string {
	do := problem.Do(s.Do)
	form := commands[do]
	if !strings.Contains(form, "%s") {
		return form
	}
	about := subjects[do]
	if s.About != nil {
		about = quotePath(*s.About)
	}
	return fmt.Sprintf(form, about)
}

// with is how steps are done, for behind a sentence that says what to do.
func with(steps []api.Step) string {
	var all []string
	for _, s := range steps {
		if c := command(s); c != "" {
			all = append(all, c)
		}
	}
	if len(all) == 0 {
		return ""
	}
	return " With: " + strings.Join(all, "; ")
}

// steps are those that the sentences of an advice speak of, by their codes.
var steps = map[string][]problem.Do{
	"next-add":        {problem.SuggestSources},
	"next-find":       {problem.Find},
	"next-find-files": {problem.Find},
}

// tried says what remains to be tried on a machine, and how.
func tried(all []api.Reason, machine string) []string {
	lines := make([]string, len(all))
	for i, r := range all {
		var done []api.Step
		for _, do := range steps[r.Code] {
			step := api.Step{Do: string(do)}
			if do == problem.SuggestSources {
				step.About = &machine
			}
			done = append(done, step)
		}
		lines[i] = r.Text + with(done)
		if at, ok := r.Values["place"].(string); ok && r.Code == "sealed-ask" {
			lines[i] += fmt.Sprintf(" With: humble-rewind advise %s --loss %v", quotePath(at), r.Values["loss"])
		}
	}
	return lines
}
