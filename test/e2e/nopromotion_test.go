package e2e

import (
	"cmp"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// The candidate of a failover dies when it is recorded as the owner of its term, before it is
// promoted, and cannot be started. It wrote nothing: what was proven of the others still
// holds, and another one takes over, and what is lost is known exactly.
func TestCandidateIsNotPromoted(t *testing.T) { anEngine(t, true, candidateIsNotPromoted) }

func candidateIsNotPromoted(t *testing.T, w *world) {
	w.must(0, nil, "server", "set", "bookings", "heron", "--rank", "3")
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	w.crash(load, "gull", false)
	w.restartService("CROSSTWIN_TEST_KILL=failover/decide/after")
	p, err := w.Client.Preview(w.ctx, w.Name, operation.Request{Kind: operation.Failover})
	if err != nil {
		t.Fatal(err)
	}
	chosen, other := p.Candidate, w.as("heron") // who holds most, be it by a record
	if chosen == other {
		other = w.as("tern")
	}
	// By its name: on a busy machine a second look may find another one that holds as much.
	w.Client.BeginUnseen(w.ctx, w.Name, operation.Request{Kind: operation.Failover, To: chosen})
	if err := w.WaitServiceGone(w.ctx); err != nil {
		t.Fatal(err)
	}
	dead := w.Server(chosen)
	config := cmp.Or(dead.ConfigFile, filepath.Join(dead.DataDir, "postgresql.conf"))
	was, err := os.ReadFile(config)
	if err == nil {
		err = os.WriteFile(config, append(slices.Clone(was), "\nno_such_setting = 1\n"...), 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	demo.KillDatabase(dead)
	if err := w.StartService(w.ctx); err != nil {
		t.Fatal(err)
	}
	all, err := w.Client.Operations(w.ctx, w.Name, "", string(operation.Failover), 1)
	if err != nil || len(all) != 1 {
		t.Fatalf("%+v %v", all, err)
	}
	op, err := w.Client.Follow(w.ctx, all[0].ID, time.Minute, func(operation.Operation) {})
	if err != nil || op.Outcome != operation.OutcomeNeedsYou {
		t.Fatalf("%s cannot be promoted, and the failover ended as %q: %s (%v)", chosen, op.Outcome, op.Message, err)
	}
	took := w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Failover})
	if took.Plan.Candidate != other || took.Plan.Loss != nil && !took.Plan.Loss.Known {
		t.Errorf("%s took over, want %s; what is lost: %+v", took.Plan.Candidate, other, took.Plan.Loss)
	}
	lost := w.named(load) // a write that only the dead candidate had received
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(config, was, 0o644); err != nil {
		t.Fatal(err)
	}
	for _, n := range []string{chosen, w.as("gull")} {
		w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: n})
	}
	w.await(func(v view.View) bool { return v.CanLose > 0 })
	w.settled()
	w.holdsAll(load, lost, "gull", "tern", "heron")
}
