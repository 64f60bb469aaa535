package reach

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// Address says where a machine is and how it is reached: a plain path, or a URL whose query holds options of the way.
type Address struct {
	Scheme  string // "" for a plain path
	User    string
	Host    string // with its port, where one is named
	Path    string // with all its bytes, where it is a plain path
	Options map[string]string
}

// ParseAddress reads a plain path or scheme://[user@]host[:port]/path[?option=value&…]. A password in an address is refused: it would
// be kept with the machine.
func ParseAddress(text string) (Address, error) {
	before, _, found := strings.Cut(text, "://")
	if !found || strings.Contains(before, "/") {
		return Address{Path: text}, nil
	}
	u, err := url.Parse(text)
	if err != nil {
		return Address{}, fmt.Errorf("read the address %s: it is no URL", place.Quote(text))
	}
	if _, secret := u.User.Password(); secret {
		return Address{}, fmt.Errorf(
			"read the address of %s: it holds a password, which would be kept with the machine; give it apart",
			u.Host,
		)
	}
	a := Address{Scheme: u.Scheme, User: u.User.Username(), Host: u.Host, Path: u.Path, Options: map[string]string{}}
	for option, values := range u.Query() {
		if len(values) > 1 {
			return Address{}, fmt.Errorf("read the address %s: it gives %q twice", place.Quote(text), option)
		}
		a.Options[option] = values[0]
	}
	return a, nil
}

// String writes the address as ParseAddress reads it, options in the order of their names.
func (a Address) String() string {
	if a.Scheme == "" {
		return a.Path
	}
	u := url.URL{Scheme: a.Scheme, Host: a.Host, Path: a.Path}
	if a.User != "" {
		u.User = url.User(a.User)
	}
	query := url.Values{}
	for option, value := range a.Options {
		query.Set(option, value)
	}
	u.RawQuery = query.Encode()
	return u.String()
}

// TakeOnly refuses options that a way does not know, by name.
func (a Address) TakeOnly(options ...string) error {
	for _, given := range slices.Sorted(maps.Keys(a.Options)) {
		if !slices.Contains(options, given) {
			return fmt.Errorf("%w: %q is not an option of %s:// addresses; known are %q", problem.Unsupported, given, a.Scheme, options)
		}
	}
	return nil
}

// A Way is one way to reach machines, by the scheme of their address; the empty scheme is a plain path.
type Way struct {
	Scheme string
	Open   func(ctx context.Context, at Address) (Session, error)
	// AtOnce is how many calls a session takes side by side; 0 is any number.
	AtOnce int
	// Backoff is how long a machine that could not be reached is left alone before it is tried again, doubled each time up to
	// MostBackoff, and a fifth more or less by chance; 0 tries each time.
	Backoff time.Duration
}

// MostBackoff is the longest that a machine is left alone, but for what chance adds.
const MostBackoff = time.Minute

// backoffSpread is by which share of itself chance lengthens or shortens a pause.
const backoffSpread = 0.2

// Ways are the ways that a program knows.
type Ways []Way

// For returns the way to an address; the error wraps problem.NoWay.
func (w Ways) For(at Address) (Way, error) {
	i := slices.IndexFunc(w, func(way Way) bool { return way.Scheme == at.Scheme })
	if i < 0 {
		return Way{}, fmt.Errorf(
			"reach %s: %w: addresses that begin with %q are not known; give a directory",
			at,
			problem.NoWay,
			at.Scheme+"://",
		)
	}
	return w[i], nil
}

// Open reaches a machine by its address: a directory, or scheme://….
func (w Ways) Open(ctx context.Context, at string) (Session, error) {
	address, err := ParseAddress(at)
	if err != nil {
		return nil, err
	}
	way, err := w.For(address)
	if err != nil {
		return nil, err
	}
	s, err := way.Open(ctx, address)
	if err != nil || way.AtOnce == 0 {
		return s, err
	}
	return Limited(s, way.AtOnce), nil
}
