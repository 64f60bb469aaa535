// Package registry is where machines and sources come to be looked after: what a technician says of them is checked, what they tell of
// themselves is read, and what else could be read is suggested.
package registry

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/site"
)

// DefaultRetentionDays is how long trashes usually keep what was deleted.
const DefaultRetentionDays = 30

// Registry adds to what a site looks after. It is safe for concurrent use.
type Registry struct {
	*site.Site
	View catalogue.View // of whoever asks
}

var machineName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._-]{0,62}$`)

// NewMachine is a machine as a technician gives it.
type NewMachine struct {
	Name          string
	At            string
	Secret        []byte // with which it is reached; nil: none. It is kept in memory alone
	Zone          string // "": read from the machine
	Homes         string // pattern of home folders; "": /home/*
	RetentionDays *int   // nil: the default
	ClockAhead    time.Duration
}

// AddMachine reads who lives on a machine and in which zone it is, and begins to look after it.
func (r Registry) AddMachine(ctx context.Context, n NewMachine) (catalogue.Machine, error) {
	var steps []reach.Step
	refuse := func(err error, next string) (catalogue.Machine, error) {
		return catalogue.Machine{}, &problem.Input{What: "add machine " + n.Name, Err: err, Next: next, Shown: site.Shown(steps)}
	}
	if !machineName.MatchString(n.Name) {
		return refuse(
			errors.New("the name must be letters, digits, dots, dashes or underscores, beginning with a letter or digit"),
			"Choose another name.",
		)
	}
	var files reach.Session
	var err error
	files, steps, err = r.Try(ctx, n.At, n.Secret)
	if err != nil && strings.Contains(n.At, "://") {
		return refuse(err, "Check the address, the name and the password. A drive's certificate that no authority vouches for is named in the "+
			"address: ?certificate=sha256:…")
	}
	if err != nil {
		return refuse(err, "Give the directory that holds what the machine's / looks like, and check that it is mounted.")
	}
	defer files.Close()
	m := catalogue.Machine{
		Name:          n.Name,
		At:            n.At,
		Zone:          n.Zone,
		RetentionDays: DefaultRetentionDays,
		ClockAhead:    n.ClockAhead,
		Way:           files.Traits(),
		Notes:         []string{},
	}
	if n.RetentionDays != nil {
		m.RetentionDays = *n.RetentionDays
	}
	_, drive := reach.KeeperOf(files)
	system := !drive // which has neither accounts nor a zone of its own
	if m.Zone == "" && !system {
		m.Zone = "UTC"
	}
	if m.Zone == "" {
		var note string
		if m.Zone, note = readZone(ctx, files); note != "" {
			m.Notes = append(m.Notes, note)
		}
	} else if _, err := time.LoadLocation(m.Zone); err != nil || m.Zone == "Local" {
		return refuse(fmt.Errorf("%q is not a time zone", m.Zone), "Name it like Europe/Lisbon or UTC.")
	}
	if system {
		people, notes, err := readPeople(ctx, files, n.Homes)
		if err != nil {
			return refuse(err, "Give its homes as patterns of absolute paths, such as /home/*.")
		}
		m.People, m.Notes = people, append(m.Notes, notes...)
	}
	added, err := r.Catalogue.Machines.Add(ctx, m)
	if errors.Is(err, catalogue.ErrTaken) {
		return refuse(err, "Choose another name, or forget the machine of that name first.")
	}
	if err == nil && n.Secret != nil {
		r.SetMachineSecret(n.Name, n.Secret)
	}
	return added, err
}
