package agent

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
)

// memory is the agent's state file. Every change is on disk when the call that
// made it returns (invariant: what was noted or accepted survives a crash).
type memory struct {
	mu   sync.Mutex
	path string
	s    state
	// written is what this process wrote last; after an attempt that failed it is not known.
	written []byte
}

type state struct {
	Guard        guard.State       `json:"guard"`
	Unfinished   string            `json:"unfinished,omitempty"`
	Fingerprints map[string]string `json:"fingerprints,omitempty"`
	Kin          string            `json:"kin,omitempty"`
	Proof        proof             `json:"proof,omitzero"`
	Fenced       bool              `json:"fenced,omitempty"`
	// MarkLine is the history of the newest mark written or found here. Strayed:
	// a process that had no right to was open for writes on it, or on an older one,
	// since the data came here.
	MarkLine uint32 `json:"mark_line,omitempty"`
	Strayed  bool   `json:"strayed,omitempty"`
	// Filtered are filters that left something out of what was applied here, since the
	// data came: it is missing still when they are gone.
	Filtered []string `json:"filtered,omitempty"`
	// System identifies the cluster's data, as the service says; Ours is set once
	// the data here was seen to be that, and lasts until it is removed.
	System string `json:"system,omitempty"`
	Ours   bool   `json:"ours,omitempty"`
	// Stranger: the server ran open before this agent knew of any term, and still is what
	// it was then.
	Stranger bool `json:"stranger,omitempty"`
	// Certificates are those by which agents of the cluster are known; nil: the service never
	// said.
	Certificates *agentapi.Certificates `json:"certificates,omitempty"`
	// Opened is the newest process that took writes here by right.
	Opened string `json:"opened,omitempty"`
	// Fencing: no process here may take writes without a permission that runs. Set are the
	// servers that pledge in the term that this one owns; Never and Lost as in
	// guard.Durable. Peers are the addresses of the other agents, by name.
	Fencing bool              `json:"fencing,omitempty"`
	Set     []string          `json:"set,omitempty"`
	Never   bool              `json:"never,omitempty"`
	Lost    bool              `json:"lost,omitempty"`
	Peers   map[string]string `json:"peers,omitempty"`
	// Opening: a process is being opened for writes; it stands here before that begins,
	// until Open names it. Open is the process that may take writes now.
	Opening bool   `json:"opening,omitempty"`
	Open    string `json:"open,omitempty"`
	// Decision is the newest that the service signed.
	Decision guard.Signed `json:"decision,omitzero"`
	// Promise is the highest number of a change of what acknowledged writes rest on.
	Promise int64 `json:"promise,omitempty"`
	// Left: the server was removed from Cross Twin.
	Left bool `json:"left,omitempty"`
}

func openMemory(dir string) (*memory, error) {
	m := &memory{path: filepath.Join(dir, "state.json"), s: state{Fingerprints: map[string]string{}}}
	b, err := os.ReadFile(m.path)
	if errors.Is(err, fs.ErrNotExist) {
		m.s.Lost = true // new, or what stood in it is not known any more
		return m, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(b, &m.s); err != nil {
		return nil,
			fmt.Errorf(
				"the agent's state in %s cannot be read: %w; without it the agent must not act: restore the file, or remove "+
					"it and rejoin the server", m.path, err)
	}
	if m.s.Fingerprints == nil {
		m.s.Fingerprints = map[string]string{}
	}
	return m, nil
}

// change applies f to a copy and keeps it only once it is on disk. What is on disk already is
// not written again: each time takes milliseconds, some of them while writes pause.
func (m *memory) change(f func(*state) error) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	next := m.s
	next.Fingerprints = map[string]string{}
	for k, v := range m.s.Fingerprints {
		next.Fingerprints[k] = v
	}
	if err := f(&next); err != nil {
		return err
	}
	b, err := json.MarshalIndent(next, "", "  ")
	if err != nil {
		return err
	}
	if !bytes.Equal(b, m.written) {
		m.written = nil
		if err := writeSynced(m.path, b, 0o600); err != nil {
			return fmt.Errorf("the agent cannot write its state: %w", err)
		}
		m.written = b
	}
	m.s = next
	return nil
}

// durable is what the machine of permissions has on disk.
func (s state) durable() guard.Durable {
	return guard.Durable{State: s.Guard, Set: s.Set, Never: s.Never, Lost: s.Lost}
}

func (m *memory) get() state {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.s
}

// Unfinished implements engine.Memory.
func (m *memory) Unfinished() string { return m.get().Unfinished }

// SetUnfinished implements engine.Memory.
func (m *memory) SetUnfinished(kind string) error {
	return m.change(func(s *state) error {
		if kind == "" {
			s.Strayed, s.Filtered = false, nil // the copy or rewind is done: nothing of before is left
		}
		s.Unfinished = kind
		return nil
	})
}

// Fingerprint implements engine.Memory.
func (m *memory) Fingerprint(key string) string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.s.Fingerprints[key]
}

// SetFingerprint implements engine.Memory.
func (m *memory) SetFingerprint(key, value string) error {
	return m.change(func(s *state) error { s.Fingerprints[key] = value; return nil })
}

// ForgetFingerprints implements engine.Memory.
func (m *memory) ForgetFingerprints() error {
	return m.change(func(s *state) error { s.Fingerprints, s.Kin, s.Proof = map[string]string{}, "", proof{}; return nil })
}

// writeSynced replaces a file by way of a temporary one; file and directory
// are synced.
func writeSynced(path string, b []byte, mode fs.FileMode) error {
	f, err := os.OpenFile(path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(path+".new", path); err != nil {
		return err
	}
	d, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}
