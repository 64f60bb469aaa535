package entry

import "encoding/json"

// Maybe is a value that a store or a way to a machine may not be able to tell. The zero Maybe is unknown, which is different from
// the zero value: user 0 is root, and a mode of 0 closes a file to everybody. In JSON it is the value, or null.
type Maybe[T comparable] struct {
	Known bool
	Value T
}

// Is returns a value that is known.
func Is[T comparable](value T) Maybe[T] { return Maybe[T]{true, value} }

// Is tells whether it is known to be a value.
func (m Maybe[T]) Is(value T) bool { return m.Known && m.Value == value }

// Or returns the value or, where it is unknown, another.
func (m Maybe[T]) Or(other T) T {
	if m.Known {
		return m.Value
	}
	return other
}

// MarshalJSON writes the value or null.
func (m Maybe[T]) MarshalJSON() ([]byte, error) {
	if !m.Known {
		return []byte("null"), nil
	}
	return json.Marshal(m.Value)
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (m *Maybe[T]) UnmarshalJSON(b []byte) error {
	*m = Maybe[T]{}
	if string(b) == "null" {
		return nil
	}
	m.Known = true
	return json.Unmarshal(b, &m.Value)
}
