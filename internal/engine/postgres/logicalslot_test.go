package postgres

import (
	"testing"

	"crosstwin/internal/core/observation"
)

// A logical slot is seen as one, with its database, and is nobody's of ours, whatever its
// name says.
func TestLogicalSlotIsSeen(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("alter system set wal_level = 'logical'")
	if err := p.Stop(p.ctx()); err != nil {
		t.Fatal(err)
	}
	if err := p.Start(p.ctx(), observation.Primary); err != nil {
		t.Fatal(err)
	}
	p.sql("select pg_create_logical_replication_slot('ct_feed', 'pgoutput')",
		"select pg_create_physical_replication_slot('ct_tern', true)")
	seen := map[string]observation.Slot{}
	for _, s := range p.Observe(p.ctx(), false).Links.Slots {
		seen[s.Name] = s
	}
	if s := seen["ct_feed"]; s.Database != "postgres" || s.Ours || s.Active {
		t.Errorf("%+v", s)
	}
	if s := seen["ct_tern"]; s.Database != "" || !s.Ours {
		t.Errorf("%+v", s)
	}
}
