package registry

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/site"
)

// MachineChanges are what to change about a machine; nil fields stay.
type MachineChanges struct {
	At            *string
	Secret        []byte // with which it is reached
	RetentionDays *int
	Stopped       *bool // it is to be left alone
}

// ChangeMachine changes how a machine is reached, having tried it, and for how long its trashes keep things. What is known of it stays: at
// another address it has to be the same machine, see sameMachine.
func (r Registry) ChangeMachine(ctx context.Context, name string, c MachineChanges) (catalogue.Machine, error) {
	var shown []string
	refuse := func(err error, next string) (catalogue.Machine, error) {
		return catalogue.Machine{}, &problem.Input{What: "change machine " + name, Err: err, Next: next, Shown: shown}
	}
	m, err := r.View.Machines.Named(ctx, name)
	if err != nil {
		return m, err
	}
	if c.RetentionDays != nil {
		m.RetentionDays = *c.RetentionDays
	}
	stopped := c.Stopped != nil && *c.Stopped && !m.Stopped
	if c.Stopped != nil {
		m.Stopped = *c.Stopped
	}
	moved := c.At != nil && *c.At != m.At
	secret := c.Secret
	if secret == nil && (!moved || sameHost(m.At, *c.At)) {
		secret = r.MachineSecret(name) // which is sent to nobody else unasked
	}
	if moved {
		m.At = *c.At
	}
	if moved || c.Secret != nil {
		files, steps, err := r.Try(ctx, m.At, secret)
		shown = site.Shown(steps)
		if err != nil {
			return refuse(err, "Check the address and the password; nothing was changed.")
		}
		err = r.sameMachine(ctx, files, m)
		if err = errors.Join(err, files.Close()); err != nil {
			return refuse(err, "Check the address, or add it as another machine; nothing was changed.")
		}
	}
	if err := r.Catalogue.Machines.Change(ctx, m); err != nil {
		return m, err
	}
	if stopped {
		r.Leave(name)
	}
	if moved || c.Secret != nil {
		r.SetMachineSecret(name, secret)
	}
	return r.Catalogue.Machines.Named(ctx, name)
}

// sameHost tells whether two addresses are of one server and of one who signs in there.
func sameHost(a, b string) bool {
	one, err := reach.ParseAddress(a)
	other, err2 := reach.ParseAddress(b)
	return err == nil && err2 == nil && one.Scheme == other.Scheme && one.Host == other.Host && one.User == other.User
}

// sameMachine refuses a machine that lacks most of what tells the one of that name from others: the homes of its people, and the stores that are
// read on it. What every machine has, the top and the folders above homes, tells nothing.
func (r Registry) sameMachine(ctx context.Context, files reach.Session, m catalogue.Machine) error {
	stores, err := r.Catalogue.Sources.On(ctx, m.Name)
	if err != nil {
		return err
	}
	telling := map[string]bool{}
	for _, home := range m.Homes() {
		telling[home] = true
	}
	for _, src := range stores {
		if !slices.ContainsFunc(m.Homes(), func(home string) bool { return home != src.At && place.Under(home, src.At) }) && src.At != "/" {
			telling[src.At] = true
		}
	}
	there := 0
	for at := range telling {
		if _, err := reach.Look(ctx, files, at); err == nil {
			there++
		}
	}
	if 2*there < len(telling) {
		return fmt.Errorf("of the %d homes and stores of %s only %d are there, so it seems to be another machine", len(telling), m.Name, there)
	}
	return nil
}

// SourceChanges are what to change about a source; nil fields stay.
type SourceChanges struct {
	At            *string
	RetentionDays *int
	Named, Zone   *string
	Exclusions    *[]string
	Maps          *[]string // FROM=TO
	Options       *map[string]string
}

// ChangeSource changes where a source is and how it is read, having looked at it. Where it is read otherwise than before, its points in time
// are read anew by its next survey; what other stores hold was recorded as it was read, and cannot be.
func (r Registry) ChangeSource(ctx context.Context, id copies.SourceID, c SourceChanges) (catalogue.Source, error) {
	what := fmt.Sprintf("change source %s", id)
	refuse := func(err error, next string) (catalogue.Source, error) {
		return catalogue.Source{}, &problem.Input{What: what, Err: err, Next: next}
	}
	src, err := r.View.Sources.ByID(ctx, id)
	if err != nil {
		return src, err
	}
	kind, err := r.Kinds.Named(src.Kind)
	if err != nil {
		return src, err
	}
	before := src
	if c.At != nil {
		if err := r.locate(ctx, kind, &src, *c.At); err != nil {
			return refuse(err, "Name its location: an absolute path on the machine, or machine:/path for a store on another one.")
		}
	}
	if c.Maps != nil {
		if src.Maps, err = parseMaps(*c.Maps); err != nil {
			return refuse(err, adviceOnMaps)
		}
	}
	take(&src.Named, c.Named)
	take(&src.Zone, c.Zone)
	take(&src.Exclusions, c.Exclusions)
	take(&src.Options, c.Options)
	if c.RetentionDays != nil {
		src.OwnRetention = c.RetentionDays
	}
	if otherwise := readOtherwise(before, src); len(otherwise) > 0 {
		if !src.Traits.Dated() {
			return refuse(fmt.Errorf("what is known of a store of the kind %s was recorded with its %s, and cannot be read anew", src.Kind,
				strings.Join(otherwise, " and ")), "Remove the source and add it as it should be read.")
		}
		src.Renew, src.Memo = !src.SurveyedAt.IsZero(), nil
	}
	if _, err := r.describe(ctx, kind, &src); err != nil {
		return src, said(what, err)
	}
	err = r.Catalogue.Sources.Change(ctx, src)
	if errors.Is(err, catalogue.ErrTaken) {
		return refuse(err, "List the sources; another reads that store.")
	}
	if err != nil {
		return src, err
	}
	return r.Catalogue.Sources.ByID(ctx, id)
}

func take[T any](to, from *T) {
	if from != nil {
		*to = *from
	}
}

// readOtherwise names what makes a source be read otherwise than before.
func readOtherwise(before, now catalogue.Source) (what []string) {
	if beside := before.Traits.Shape == traits.Now || before.Traits.Shape == traits.Traces; beside && before.At != now.At {
		what = append(what, "location") // which is where its files are
	}
	if before.Named != now.Named {
		what = append(what, "names of points in time")
	}
	if before.Zone != now.Zone {
		what = append(what, "time zone")
	}
	if !slices.Equal(before.Exclusions, now.Exclusions) {
		what = append(what, "exclusions")
	}
	if !slices.Equal(before.Maps, now.Maps) {
		what = append(what, "maps")
	}
	if !maps.Equal(before.Options, now.Options) {
		what = append(what, "options")
	}
	return what
}
