package e2e

import (
	"errors"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
	"crosstwin/internal/store"
)

// worldsAtOnce is how many clusters are under fencing beside each other: a permission that
// lasts four seconds ends on a machine where nobody gets any time.
const worldsAtOnce = 6

// Fencing and automatic failover on real servers of both engines. They are not run beside
// everything else.
func TestUnderFencing(t *testing.T) {
	turns := make(chan bool, worldsAtOnce)
	for _, x := range []struct {
		name     string
		do       func(t *testing.T, cluster string)
		clusters []string
	}{
		{"AutomaticFailover", inFencedWorld(automaticFailover), drawn("fencing")},
		{"AutomaticSurvivesTheServiceAtEveryStep", inFencedWorld(automaticSurvives), drawn("survives")},
		{"Fencing", inFencedWorld(fencing), theOther("fencing")},
		{"DiskHangs", inFencedWorld(diskHangs), drawn("disk hangs")},
		{"Referee", inFencedWorld(twoAndReferee), drawn("referee")},
		{"Synchronous", inFencedWorld(synchronousMode), drawn("tour")},
		{"Tour", tour, theOther("tour")},
	} {
		for _, name := range x.clusters {
			t.Run(x.name+"/"+name, func(t *testing.T) {
				t.Parallel()
				turns <- true
				t.Cleanup(func() { <-turns })
				x.do(t, name)
			})
		}
	}
}

// inFencedWorld has a test of a world be carried out in one where fencing is on.
func inFencedWorld(do func(*testing.T, *world)) func(*testing.T, string) {
	return func(t *testing.T, cluster string) {
		do(t, newWorldOf(t, cluster, true, func(o *demo.Options) { o.Fencing = true }))
	}
}

// fencing: who may write has a permission that runs out, by the service or, when that is
// away, by the other agents; and who has none is stopped, whoever of its host still lives.
func fencing(t *testing.T, w *world) {
	w.switchedOverAtOnce()
	w.planned()
	w.fenced()
	w.must(2, []string{"automatic failover is on and needs fencing"}, "cluster", "set", "bookings", "--fencing", "off",
		"--automatic", "on")
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	for _, do := range []func(*world, *demo.Workload){processesRestarted, serviceAway, termHalfGiven, agentGone} {
		do(w, load)
	}
	lost := hostFrozen(w, load)
	w.must(0, []string{"gull is primary of bookings"}, "switchover", "bookings", "--yes")
	w.fenced()
	load.Stop()
	w.settled()
	w.holdsAll(load, lost, "gull", "tern", "heron")
	w.unfenced()
}

func (w *world) await(ok func(view.View) bool) {
	w.t.Helper()
	if err := w.Await(w.ctx, ok); err != nil {
		w.t.Fatal(err)
	}
}

func permission(s *view.Server) *observation.Permission {
	if s == nil || s.Observation == nil || s.Observation.Permission == nil {
		return &observation.Permission{}
	}
	return s.Observation.Permission
}

// fenced waits until every server is under fencing, the primary has a permission, and the
// only other one with a rank is the one that pledges.
func (w *world) fenced() {
	w.t.Helper()
	w.await(func(v view.View) bool {
		for i := range v.Servers {
			s := &v.Servers[i]
			p := permission(s)
			if !p.Fencing || !p.Deadman || s.Name == v.Primary && (p.Left() == 0 || len(p.Set) != 1) {
				return false
			}
		}
		return v.Primary != "" && slices.ContainsFunc(v.Servers, func(s view.Server) bool { return s.MayTakeOver })
	})
	w.settled()
}

// unfenced switches fencing off and waits until every agent knows it.
func (w *world) unfenced() {
	w.t.Helper()
	w.must(0, nil, "cluster", "set", "bookings", "--fencing", "off")
	w.await(func(v view.View) bool {
		for _, s := range v.Servers {
			if p := s.Observation.Permission; p == nil || p.Fencing {
				return false
			}
		}
		return true
	})
}

// processesRestarted: a new deadman is told by the agent what to hold, and a new agent
// hears it from the deadman. The database goes on, as with a new version of the package.
func processesRestarted(w *world, load *demo.Workload) {
	before := w.find(w.settled(), "gull").Observation.Process.Identity
	syscall.Kill(w.DeadmanPID(w.as("gull")), syscall.SIGKILL)
	time.Sleep(2 * time.Second)
	if err := w.KillAgent(w.as("gull")); err != nil {
		w.t.Fatal(err)
	}
	if err := w.StartAgent(w.ctx, w.as("gull")); err != nil {
		w.t.Fatal(err)
	}
	time.Sleep(2 * guard.GrantWait) // whatever ran before has ended
	w.fenced()
	if now := w.find(w.settled(), "gull").Observation.Process.Identity; now != before {
		w.t.Errorf("the database was stopped: %q, and now %q", before, now)
	}
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
}

// serviceAway: writes go on without the service, for longer than any grant lasts.
func serviceAway(w *world, load *demo.Workload) {
	before := observation.Process{}
	w.await(func(v view.View) bool {
		before = v.Find(v.Primary).Observation.Process
		return true
	})
	service := w.ServicePID()
	syscall.Kill(service, syscall.SIGSTOP)
	time.Sleep(2 * guard.GrantWait) // no grant runs any more
	err := load.AwaitAcks(w.ctx, 20)
	syscall.Kill(service, syscall.SIGCONT)
	if err != nil {
		w.t.Fatal("no write is taken while the service is away: ", err)
	}
	w.await(func(v view.View) bool {
		s := v.Find(v.Primary)
		return permission(s).GrantSeconds > 0 && s.Observation.Process.Identity == before.Identity
	})
}

// termHalfGiven: the service is killed after it decided a term in place, and before the
// primary heard of that. The primary writes on, by the term that it has, until a new
// service carries the term through.
func termHalfGiven(w *world, load *demo.Workload) {
	before := w.settled()
	process := before.Find(before.Primary).Observation.Process.Identity
	w.StopService()
	if err := w.WaitServiceGone(w.ctx); err != nil {
		w.t.Fatal(err)
	}
	st, err := store.Open(w.ctx, filepath.Join(w.Dir, "service"))
	if err != nil {
		w.t.Fatal(err)
	}
	err = errors.Join(st.OpenTerm(w.ctx, w.Name, before.Term+1, 0),
		st.DecideInPlace(w.ctx, w.Name, before.Term+1, before.Primary), st.Close())
	if err != nil {
		w.t.Fatal(err)
	}
	time.Sleep(guard.GrantWait) // it writes by pledges by then
	if err := w.StartService(w.ctx); err != nil {
		w.t.Fatal(err)
	}
	w.await(func(v view.View) bool {
		s := v.Find(v.Primary)
		return s.Observation != nil && s.Observation.Guard.Accepted == before.Term+1 && permission(s).GrantSeconds > 0
	})
	w.fenced()
	if v := w.settled(); v.Find(v.Primary).Observation.Process.Identity != process {
		w.t.Error("the primary was stopped although its agent could have been asked all along")
	}
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
}

// agentGone: the deadman stops a database whose agent is gone. With an agent again the
// server comes back by itself, in its own term.
func agentGone(w *world, load *demo.Workload) {
	if err := w.KillAgent(w.as("gull")); err != nil {
		w.t.Fatal(err)
	}
	w.gone("gull")
	if err := w.StartAgent(w.ctx, w.as("gull")); err != nil {
		w.t.Fatal(err)
	}
	w.await(func(v view.View) bool { return w.find(v, "gull").Health == view.TakesWrites })
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
	w.fenced()
}

// gone waits until no process of a server's database is left.
func (w *world) gone(server string) {
	w.t.Helper()
	dir := w.server(server).DataDir
	for end := time.Now().Add(time.Minute); len(processesIn(dir)) > 0; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			w.t.Fatalf("the database of %s goes on without a permission", server)
		}
	}
}

// hostFrozen: agent and database hang. The deadman kills the database, and a failover
// needs nobody's word for that. What was acknowledged and had not left the host is lost,
// as was accepted.
func hostFrozen(w *world, load *demo.Workload) (lost []string) {
	agent := w.AgentPID(w.as("gull"))
	syscall.Kill(agent, syscall.SIGSTOP)
	for _, pid := range processesIn(w.server("gull").DataDir) {
		syscall.Kill(pid, syscall.SIGSTOP)
	}
	w.gone("gull")
	w.await(func(v view.View) bool { return w.find(v, "gull").Health == view.Unseen })
	w.must(0, []string{"tern is primary of bookings", "Wait until gull's permission to write has ended"},
		"failover", "bookings", "--yes", "--accept-loss", "bookings")
	lost = w.lost(load)
	syscall.Kill(agent, syscall.SIGCONT)
	w.await(func(v view.View) bool {
		s := w.find(v, "gull")
		return s.Health != view.Unseen && s.Health != view.TakesWrites
	})
	if n := w.writable(); n != 1 {
		w.t.Fatalf("%d servers take writes", n)
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "gull", Compare: true})
	w.fenced()
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
	return lost
}

// lost are the writes that tern does not hold right after it became primary.
func (w *world) lost(load *demo.Workload) []string { return w.missing(w.as("tern"), load) }

// named are the writes that the primary does not hold right after a failover, where its plan, or
// that of one before it which did not end well, named a loss: without that nothing may be missing.
func (w *world) named(load *demo.Workload) []string {
	w.t.Helper()
	all, err := w.Client.Operations(w.ctx, w.Name, "", string(operation.Failover), 10)
	if err != nil || len(all) == 0 || all[0].Outcome != operation.OutcomeFinished {
		w.t.Fatalf("no failover that ended well: %+v %v", all, err)
	}
	for i, op := range all {
		if i > 0 && op.Outcome == operation.OutcomeFinished {
			break
		}
		if op.Plan.Loss != nil {
			return w.missing(all[0].Plan.Candidate, load)
		}
	}
	return nil
}

func (w *world) missing(server string, load *demo.Workload) []string {
	w.t.Helper()
	missing, err := w.Server(server).Missing(w.ctx, load.Acked())
	if err != nil {
		w.t.Fatal(err)
	}
	return missing
}

// switchedOverAtOnce: fencing has just been switched on, and the primary has no permission
// yet. It proves all the same that it has stopped, so that nobody waits for the end of one.
func (w *world) switchedOverAtOnce() {
	w.t.Helper()
	for _, to := range []string{"tern", "gull"} {
		w.fenced()
		w.unfenced()
		w.must(0, nil, "cluster", "set", "bookings", "--fencing", "on")
		op := w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: to})
		if op.PauseSeconds >= guard.GrantWait.Seconds() {
			w.t.Errorf("writes paused for %.1f s: the end of a permission was waited for", op.PauseSeconds)
		}
	}
	w.fenced()
}

// planned asks for the plan of a switchover again and again while the primary is given a
// new term in place, as it is when fencing has just been switched on: a plan that is made
// across the change is made anew, and says nothing of a term that is over.
func (w *world) planned() {
	w.t.Helper()
	w.fenced() // by itself
	w.unfenced()
	before, err := w.Client.Cluster(w.ctx, w.Name)
	if err != nil {
		w.t.Fatal(err)
	}
	w.must(0, nil, "cluster", "set", "bookings", "--fencing", "on")
	for made, renewed := 0, 0; made < 10 || renewed < 3; made++ {
		p, err := w.Client.Preview(w.ctx, w.Name, operation.Request{Kind: operation.Switchover})
		if err != nil {
			w.t.Fatal(err)
		}
		if why, refused := p.Refused(); refused {
			w.t.Errorf("plan %d, for term %d: %s", made, p.Term, why)
		}
		if p.Term > before.Term+1 {
			renewed++
		}
		if w.ctx.Err() != nil {
			w.t.Fatal("the primary was not given a new term")
		}
	}
}
