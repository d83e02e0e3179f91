package e2e

import (
	"os"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/view"
)

// A pair that runs already, and that no Cross Twin ever knew, is taken over as it
// runs: nothing is copied or restarted, and its replicas are proven by themselves.
func TestRunningPairIsTakenOver(t *testing.T) { engines(t, true, runningPair) }

func runningPair(t *testing.T, w *world) {
	load := w.Load(2, 20*time.Millisecond)
	defer load.Stop()
	w.settled()
	for _, s := range w.Servers {
		if err := w.KillAgent(s.Name); err != nil {
			t.Fatal(err)
		}
		if err := os.RemoveAll(s.AgentDir); err != nil {
			t.Fatal(err)
		}
	}
	w.must(0, nil, "cluster", "remove", "bookings", "--yes")
	if w.mariadb() {
		w.sql("gull", "drop database crosstwin", "drop user crosstwin_follow_plover@'127.0.0.1'")
	}
	before := map[string]string{}
	for _, s := range w.Servers {
		before[s.Name] = w.startedAt(s.Name)
	}
	if err := w.AddMembers(w.ctx); err != nil {
		t.Fatal(err)
	}
	if err := w.StartAgents(w.ctx); err != nil {
		t.Fatal(err)
	}
	if err := w.Await(w.ctx, func(v view.View) bool {
		return v.Primary == w.as("gull") && w.find(v, "tern").MayTakeOver && w.find(v, "heron").Health == view.InStep
	}); err != nil {
		v, _ := w.Client.Cluster(w.ctx, w.Name)
		t.Fatalf("%v\n%+v\n%+v", err, v.Problems, v.WithoutObservations().Servers)
	}
	for _, s := range w.Servers {
		if now := w.startedAt(s.Name); now != before[s.Name] {
			t.Errorf("%s was restarted: %s, %s", s.Name, before[s.Name], now)
		}
	}
	// The account and the rules by which they follow each other are set up as the
	// refusal says.
	w.must(3, []string{"crosstwin rejoin set up the account and the rules"}, "switchover", "bookings", "--to", "tern",
		"--yes")
	for _, s := range []string{"tern", "heron"} {
		op := w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: s})
		for _, way := range op.Plan.Ways {
			if way.Chosen != (way.Name == plan.WayFollow) {
				t.Errorf("%s: %+v", s, way)
			}
		}
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: "tern", Compare: true})
	load.Stop()
	w.settled()
	w.holdsAll(load, nil, "gull", "tern", "heron")
}

// startedAt tells when a database was started.
func (w *world) startedAt(server string) string {
	if w.mariadb() {
		return w.query(server, "select variable_value - unix_timestamp() > -100000000 from "+
			"information_schema.global_status where variable_name = 'uptime'")
	}
	return w.query(server, "select pg_postmaster_start_time()::text")
}
