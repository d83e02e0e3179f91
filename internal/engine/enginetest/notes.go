// Package enginetest has what the tests of every engine share.
package enginetest

// Notes is an agent's memory that is not on disk.
type Notes struct {
	Left   string
	Prints map[string]string
}

// NewNotes makes an empty memory.
func NewNotes() *Notes { return &Notes{Prints: map[string]string{}} }

// Unfinished implements engine.Memory.
func (n *Notes) Unfinished() string { return n.Left }

// SetUnfinished implements engine.Memory.
func (n *Notes) SetUnfinished(kind string) error { n.Left = kind; return nil }

// Fingerprint implements engine.Memory.
func (n *Notes) Fingerprint(k string) string { return n.Prints[k] }

// SetFingerprint implements engine.Memory.
func (n *Notes) SetFingerprint(k, v string) error { n.Prints[k] = v; return nil }

// ForgetFingerprints implements engine.Memory.
func (n *Notes) ForgetFingerprints() error { n.Prints = map[string]string{}; return nil }
