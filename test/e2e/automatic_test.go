package e2e

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// automaticFailover: a failover begins by itself when the primary crashes, and says what was
// seen; when a person stopped it in order none does, and that is said. It loses nothing, or
// what its plan named and the policy accepts.
func automaticFailover(t *testing.T, w *world) {
	w.fenced() // without a word from anybody: a new cluster of three
	w.must(0, nil, "cluster", "set", "bookings", "--fencing", "off")
	w.must(2, []string{"automatic failover needs fencing"}, "cluster", "set", "bookings", "--automatic", "on")
	w.must(0, nil, "cluster", "set", "bookings", "--fencing", "on", "--automatic", "on", "--quiet-seconds", "0",
		"--rejoin", "after saving the tail")
	w.must(0, []string{"automatic rejoin: after saving the tail"}, "cluster", "show", "bookings")
	w.must(2, []string{"automatic rejoin is"}, "cluster", "set", "bookings", "--rejoin", "always")
	w.fenced()
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	demo.KillDatabase(w.server("gull"))
	w.await(func(v view.View) bool {
		s := w.find(v, "tern")
		return v.Primary == s.Name && s.Health == view.TakesWrites && v.Operation == nil
	})
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	all, err := w.Client.Operations(w.ctx, w.Name, "", string(operation.Failover), 1)
	if err != nil || len(all) != 1 || all[0].Plan.Decided == nil || len(all[0].Plan.Decided.Evidence) != 3 {
		t.Fatalf("no failover with its evidence: %+v %v", all, err)
	}
	op, err := w.Client.Operation(w.ctx, all[0].ID)
	if n := len(op.Moments); err != nil || n < 5 || !strings.HasPrefix(op.Moments[n-1].What, "first write on") {
		t.Errorf("how it went, in time: %+v %v", op.Moments, err)
	}
	lost := w.named(load)
	w.must(0, []string{"It began by itself: gull's database crashed", "gull's agent: its database crashed"},
		"operation", "show", strconv.FormatInt(all[0].ID, 10))
	w.fenced() // gull comes back by itself
	all, err = w.Client.Operations(w.ctx, w.Name, "", string(operation.Rejoin), 1)
	if err != nil || len(all) != 1 || all[0].Plan.Decided == nil || all[0].Outcome != operation.OutcomeFinished {
		t.Fatalf("no rejoin that began by itself: %+v %v", all, err)
	}
	w.must(0, []string{"It began by itself: gull has come apart from bookings"}, "operation", "show",
		strconv.FormatInt(all[0].ID, 10))

	lost = append(lost, w.startedAgainFirst(load)...)
	lost = append(lost, w.comesBackShut(load)...)
	demo.StopDatabase(w.server("tern"))
	w.says([]string{"no failover of bookings begins by itself: tern was stopped in order"}, "status", "bookings")
	if err := w.server("tern").StartByHand(w.ctx); err != nil {
		t.Fatal(err)
	}
	w.fenced()
	w.must(0, nil, "cluster", "set", "bookings", "--automatic", "off", "--for", "1h")
	w.must(0, []string{"automatic failover off for"}, "cluster", "show", "bookings")
	w.must(0, nil, "cluster", "set", "bookings", "--automatic", "off")
	w.must(2, []string{"automatic failover is off already"}, "cluster", "set", "bookings", "--automatic", "off", "--for",
		"1h")
	load.Stop()
	w.settled()
	w.holdsAll(load, lost, "gull", "tern", "heron")
}

// startedAgainFirst: where the policy says so a crashed primary is started where it is. When
// it cannot be within its time, another server takes over, and it comes back later.
func (w *world) startedAgainFirst(load *demo.Workload) (lost []string) {
	w.must(2, []string{"a crashed primary may take"}, "cluster", "set", "bookings", "--start-seconds", "3600")
	w.must(0, nil, "cluster", "set", "bookings", "--start-seconds", "20", "--least-left", "2")
	w.must(0, []string{"started again first, and given 20.0 s", "servers that have to be left: 2"}, "cluster", "show",
		"bookings")
	before := w.settled()
	demo.KillDatabase(w.server("tern"))
	w.await(func(v view.View) bool {
		s := w.find(v, "tern")
		return v.OwnerTerm > before.OwnerTerm && v.Primary == s.Name && s.Health == view.TakesWrites && v.Operation == nil
	})
	all, err := w.Client.Operations(w.ctx, w.Name, "", string(operation.Failover), 1)
	if err != nil || len(all) != 1 || !all[0].Plan.StartsAgain() {
		w.t.Fatalf("tern was not started again by itself: %+v %v", all, err)
	}
	w.fenced()

	// It cannot be started: its configuration says what its server does not know.
	config := cmp.Or(w.server("tern").ConfigFile, filepath.Join(w.server("tern").DataDir, "postgresql.conf"))
	was, err := os.ReadFile(config)
	if err != nil {
		w.t.Fatal(err)
	}
	w.must(0, nil, "cluster", "set", "bookings", "--start-seconds", "5")
	if err := os.WriteFile(config, append(slices.Clone(was), "\nno_such_setting = 1\n"...), 0o644); err != nil {
		w.t.Fatal(err)
	}
	demo.KillDatabase(w.server("tern"))
	w.await(func(v view.View) bool {
		return v.Primary != w.as("tern") && v.Find(v.Primary).Health == view.TakesWrites && v.Operation == nil
	})
	lost = w.named(load)
	if err := os.WriteFile(config, was, 0o644); err != nil {
		w.t.Fatal(err)
	}
	w.fenced() // tern comes back by itself
	w.must(0, nil, "cluster", "set", "bookings", "--start-seconds", "0", "--least-left", "1")
	w.must(0, []string{"tern is primary of bookings"}, "switchover", "bookings", "--to", "tern", "--yes")
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
	w.fenced()
	return lost
}

// comesBackShut: the agent of a deposed primary that was frozen meanwhile finds its database
// dead, and starts it shut: it follows nobody. That is not what a person did.
func (w *world) comesBackShut(load *demo.Workload) (lost []string) {
	agent := w.AgentPID(w.as("tern"))
	syscall.Kill(agent, syscall.SIGSTOP)
	demo.KillDatabase(w.server("tern"))
	w.await(func(v view.View) bool {
		return v.Primary != w.as("tern") && v.Find(v.Primary).Health == view.TakesWrites && v.Operation == nil
	})
	lost = w.named(load)
	syscall.Kill(agent, syscall.SIGCONT)
	w.fenced()
	w.must(0, []string{"tern is primary of bookings"}, "switchover", "bookings", "--to", "tern", "--yes")
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
	w.fenced()
	return lost
}

// automaticSurvives: wherever in a failover that began by itself, or in the rejoin that
// follows it, the service dies: the next one carries it through, or decides anew.
func automaticSurvives(t *testing.T, w *world) {
	w.fenced()
	w.must(0, nil, "cluster", "set", "bookings", "--automatic", "on", "--quiet-seconds", "0",
		"--rejoin", "after saving the tail")
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	first := w.takenOver("")
	steps := func(kind operation.Kind) (names []string) {
		all, err := w.Client.Operations(w.ctx, w.Name, "", string(kind), 1)
		if err != nil || len(all) != 1 || all[0].Plan.Decided == nil {
			t.Fatalf("no %s that began by itself: %+v %v", kind, all, err)
		}
		for _, s := range all[0].Plan.Steps {
			names = append(names, w.stepOf(s.Name, first))
		}
		return names
	}
	failover, rejoin := steps(operation.Failover), steps(operation.Rejoin)
	for i, kind := range []operation.Kind{operation.Failover, operation.Rejoin} {
		for _, b := range someOf(t, boundaries([][]string{failover, rejoin}[i]), 1) {
			step := w.stepOf(b[0], w.settled().Primary)
			t.Logf("killed at %s %s of a %s", b[1], step, kind)
			w.takenOver(string(kind) + "/" + step + "/" + b[1])
			if err := load.AwaitAcks(w.ctx, 20); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// killedAt waits until the service has killed itself at a place. It is false where the
// operation came to its end without it: whether a rejoin has a tail to take back, chance
// decides.
func (w *world) killedAt(place string, after time.Time) bool {
	w.t.Helper()
	kind, step, _ := strings.Cut(place, "/")
	step, _, _ = strings.Cut(step, "/")
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); {
		ctx, cancel := context.WithTimeout(w.ctx, 300*time.Millisecond)
		err := w.WaitServiceGone(ctx)
		cancel()
		if err == nil {
			return true
		}
		all, err := w.Client.Operations(w.ctx, w.Name, "", kind, 1)
		if err != nil || len(all) == 0 || all[0].State != operation.Ended || !all[0].CreatedAt.After(after) {
			continue
		}
		if !slices.ContainsFunc(all[0].Plan.Steps, func(s operation.Step) bool { return s.Name == step }) {
			return false
		}
	}
	w.t.Fatalf("the service did not come to %s", place)
	return false
}

// takenOver kills the primary's database, waits until another server has taken over and the
// old primary is back by itself, and returns the old one. The service dies on the way at the
// place that is named.
func (w *world) takenOver(killAt string) (old string) {
	w.t.Helper()
	if killAt != "" {
		w.restartService("CROSSTWIN_TEST_KILL=" + killAt)
	}
	w.fenced()
	before := w.settled()
	demo.KillDatabase(w.Server(before.Primary))
	switch {
	case killAt == "":
	case w.killedAt(killAt, before.At):
		if err := w.StartService(w.ctx); err != nil {
			w.t.Fatal(err)
		}
	default:
		w.t.Logf("there was no %s this time", killAt)
		w.restartService()
	}
	w.await(func(v view.View) bool {
		p := v.Find(v.Primary)
		return v.Primary != before.Primary && p != nil && p.Health == view.TakesWrites
	})
	w.fenced()
	if n := w.writable(); n != 1 {
		w.t.Fatalf("%d servers take writes after the service was killed at %q", n, killAt)
	}
	return before.Primary
}
