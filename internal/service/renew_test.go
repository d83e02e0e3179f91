package service

import (
	"testing"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/store"
)

// A database gets a certificate for the address at which its agent was reached, and for
// no other that somebody says is its own.
func TestDatabaseHost(t *testing.T) {
	for _, c := range []struct{ agent, said, host string }{
		{"10.0.0.2:7720", "10.0.0.2", "10.0.0.2"},
		{"harbour.skerry.example:7720", "harbour.skerry.example", "harbour.skerry.example"},
		{"[fd00::2]:7720", "fd00::2", "fd00::2"},
		{"10.0.0.2:7720", "10.0.0.1", ""}, // the primary's
		{"10.0.0.2:7720", "", ""}, {"", "10.0.0.2", ""},
	} {
		m := &member{rec: store.Server{Member: cluster.Member{Agent: c.agent}},
			last: &observation.Server{Host: observation.Host{Address: observation.Address{Host: c.said}}}}
		if got := m.databaseHost(); got != c.host {
			t.Errorf("an agent at %s whose database is at %s: a certificate for %q", c.agent, c.said, got)
		}
	}
}
