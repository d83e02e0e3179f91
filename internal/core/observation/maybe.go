package observation

import "encoding/json"

// Maybe is a value that may not be known: that is a state of its own, not zero.
// In JSON it is the value, or null.
type Maybe[T any] struct {
	value T
	known bool
}

// Known returns a Maybe that holds v.
func Known[T any](v T) Maybe[T] { return Maybe[T]{v, true} }

// Get returns the value and whether it is known.
func (m Maybe[T]) Get() (v T, known bool) { return m.value, m.known }

// Or returns the value, or other when it is not known.
func (m Maybe[T]) Or(other T) T {
	if m.known {
		return m.value
	}
	return other
}

// MarshalJSON implements json.Marshaler.
func (m Maybe[T]) MarshalJSON() ([]byte, error) {
	if !m.known {
		return []byte("null"), nil
	}
	return json.Marshal(m.value)
}

// UnmarshalJSON implements json.Unmarshaler.
func (m *Maybe[T]) UnmarshalJSON(b []byte) error {
	if string(b) == "null" {
		*m = Maybe[T]{}
		return nil
	}
	m.known = true
	return json.Unmarshal(b, &m.value)
}
