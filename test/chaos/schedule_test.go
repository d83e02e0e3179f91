package chaos

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
	"crosstwin/test/harness"
)

// schedule is one random course of events on one cluster.
type schedule struct {
	*demo.Cluster
	t    *testing.T
	ctx  context.Context
	seed uint64
	rng  *rand.Rand
	load *demo.Workload

	mu       sync.Mutex
	story    []string
	began    time.Time
	lossy    bool              // a plan that named a loss was accepted
	mode     synchronous.Mode  // that commits wait by
	undo     map[string]func() // what puts each disturbance right, by its name
	writable *watch
}

// steps is how many things a schedule does, before all is put right.
const steps = 5

// newSchedule makes a cluster whose servers have hosts and networks of their own.
func newSchedule(t *testing.T, cluster string, seed uint64, fencing bool) *schedule {
	s := &schedule{t: t, seed: seed, rng: rand.New(rand.NewPCG(seed, 0)), began: time.Now(), undo: map[string]func(){}}
	s.Cluster, s.ctx = harness.World(t, binary, cluster, s.keepLogs, func(o *demo.Options) {
		o.Host, o.Fencing = hosts(t), fencing
		if throughGates(seed) {
			o.Gates = demo.Gates
		}
	})
	return s
}

func run(t *testing.T, name string, seed uint64) {
	fencing := seed/2%2 == 0 || os.Getenv("CROSSTWIN_FENCED") != "" // each engine with it and without
	s := newSchedule(t, name, seed, fencing)
	t.Cleanup(func() { t.Logf("chaos: seed %d on %s:\n  %s", seed, name, strings.Join(s.told(), "\n  ")) })
	s.smallDisks()
	if err := s.SeedAll(s.ctx, func(operation.Operation) {}); err != nil {
		t.Fatal(err)
	}
	if fencing {
		s.fence(seed/4%2 == 0)
	}
	if s.mode = modeOf(seed); s.mode != synchronous.None {
		s.synchronize()
	}
	s.load = s.Load(2, 10*time.Millisecond)
	defer s.load.Stop()
	if err := s.load.AwaitAcks(s.ctx, 20); err != nil {
		t.Fatal(err)
	}
	s.writable = watchWrites(s.Servers)
	checked := s.checkClaims()
	for range steps {
		s.step()
	}
	s.heal()
	s.writable.stop()
	s.goesOn()
	checked()
	s.load.Stop()
	s.catchUp()
	s.judge()
}

// throughGates: applications connect to gates in each third schedule, and in all with
// CROSSTWIN_GATES.
func throughGates(seed uint64) bool { return seed%3 == 0 || os.Getenv("CROSSTWIN_GATES") != "" }

// modeOf is the synchronous mode of a schedule: that of CROSSTWIN_MODE, else one in each fourth.
func modeOf(seed uint64) synchronous.Mode {
	switch mode := synchronous.Mode(os.Getenv("CROSSTWIN_MODE")); {
	case mode != "":
		return mode
	case seed/8%4 == 0:
		return synchronous.One
	}
	return synchronous.None
}

// synchronize has commits wait for a replica, for ever.
func (s *schedule) synchronize() {
	if err := s.Synchronize(s.ctx, s.mode); err != nil {
		s.t.Fatal(err)
	}
	s.tell("synchronous mode %s", s.mode)
}

func (s *schedule) tell(format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.story = append(s.story, fmt.Sprintf("%5.1f s  ", time.Since(s.began).Seconds())+fmt.Sprintf(format, args...))
}

func (s *schedule) told() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]string(nil), s.story...)
}

// step does one thing, often while another is under way.
func (s *schedule) step() {
	first := s.pick()
	if s.rng.IntN(2) == 0 {
		first()
		s.rest()
		return
	}
	second, delay := s.pick(), time.Duration(s.rng.IntN(1500))*time.Millisecond
	var both sync.WaitGroup
	both.Go(first)
	both.Go(func() { time.Sleep(delay); second() })
	both.Wait()
	s.rest()
}

func (s *schedule) rest() { time.Sleep(time.Duration(200+s.rng.IntN(1500)) * time.Millisecond) }

// pick draws an event. All that is random is drawn here, so that a seed gives the
// same schedule again; what comes of it depends on the moment all the same.
func (s *schedule) pick() func() {
	server := s.Servers[s.rng.IntN(len(s.Servers))]
	long := time.Duration(500+s.rng.IntN(6000)) * time.Millisecond
	gently := s.rng.IntN(2) == 0
	other := s.Servers[s.rng.IntN(len(s.Servers))]
	switch s.rng.IntN(16) {
	case 0, 1:
		return func() { s.operate(operation.Request{Kind: operation.Switchover}) }
	case 2, 3:
		return func() { s.failover(gently) }
	case 4:
		return func() { s.restart(server, gently) }
	case 15: // long enough for a permission to end
		return func() { s.cutHost(server, long+4*time.Second) }
	case 14:
		return func() { s.disturbDeadman(server, gently, long) }
	case 5:
		return func() { s.killAgent(server.Name, long) }
	case 6:
		return func() { s.killService(long) }
	case 7:
		return func() { s.freezeDatabase(server, long) }
	case 8:
		return func() { s.freezeAgent(server.Name, long) }
	case 9:
		return func() {
			s.cutPort("the database of "+server.Name, fmt.Sprintf("%s:%d", server.Host, server.Port), long)
		}
	case 10:
		return func() { s.cutPort("the agent of "+server.Name, server.AgentAddress, long) }
	case 11, 12:
		if other != server {
			return func() { s.cutPair(server, other, gently, long) }
		}
	}
	return func() { s.fill(server, long) }
}

// operate asks for an operation. That it is refused, undone or needs a person is no
// failure of the schedule.
func (s *schedule) operate(r operation.Request) {
	op, err := s.Operate(s.ctx, r, nil)
	if op.ID > 0 && (op.Plan.ConfirmName != "" || op.Plan.Loss != nil) && r.Kind == operation.Failover {
		s.mu.Lock()
		s.lossy = true
		s.mu.Unlock()
	}
	switch {
	case err != nil:
		s.tell("%s %s: %.200s", r.Kind, r.Server, strings.ReplaceAll(err.Error(), "\n", " "))
	default:
		s.tell("%s %s: %s: %.200s", r.Kind, r.Server, op.Outcome, op.Message)
	}
}

// failover kills the primary, or leaves it alive, and fails over.
func (s *schedule) failover(kill bool) {
	v, err := s.Client.Cluster(s.ctx, s.Name)
	if err != nil || v.Primary == "" {
		s.tell("no failover: %v", err)
		return
	}
	if kill {
		demo.KillDatabase(s.Server(v.Primary))
		s.tell("killed the database of the primary %s", v.Primary)
		time.Sleep(1500 * time.Millisecond)
	}
	s.operate(operation.Request{Kind: operation.Failover})
}

func (s *schedule) restart(server *demo.Server, gently bool) {
	if gently {
		demo.StopDatabase(server)
	} else {
		demo.KillDatabase(server)
	}
	ctx, cancel := context.WithTimeout(s.ctx, 40*time.Second)
	defer cancel()
	err := server.StartByHand(ctx)
	s.tell("restarted %s by hand (cleanly: %t): %v", server.Name, gently, firstLine(err))
}

func firstLine(err error) string {
	if err == nil {
		return "it runs"
	}
	line, _, _ := strings.Cut(err.Error(), "\n")
	return fmt.Sprintf("%.160s", line)
}

// keepLogs copies the logs of a schedule that failed.
func (s *schedule) keepLogs(dir string) {
	to := filepath.Join(os.TempDir(), fmt.Sprintf("crosstwin-chaos-%d", s.seed))
	os.RemoveAll(to)
	files, _ := filepath.Glob(filepath.Join(dir, "*", "*.log"))
	more, _ := filepath.Glob(filepath.Join(dir, "*.log"))
	for _, f := range append(files, more...) {
		rel, _ := filepath.Rel(dir, f)
		os.MkdirAll(filepath.Dir(filepath.Join(to, rel)), 0o755)
		exec.Command("cp", f, filepath.Join(to, rel)).Run()
	}
	s.t.Logf("chaos: the logs are in %s", to)
}

// restsWell is how long all has to be well: what is seen is a little old, and the newest
// disturbance may not show in it yet.
const restsWell = 5 * time.Second

// heal puts every disturbance right, and then brings back what did not come back by
// itself, as a person would.
func (s *schedule) heal() {
	s.mu.Lock()
	undo := s.undo
	s.undo = map[string]func(){}
	s.mu.Unlock()
	for _, f := range undo {
		f()
	}
	s.tell("all disturbances are over")
	ctx, cancel := context.WithTimeout(s.ctx, 4*time.Minute)
	defer cancel()
	var well time.Time
	for ; ctx.Err() == nil; time.Sleep(time.Second) {
		v, err := s.Client.Cluster(ctx, s.Name)
		switch {
		case err != nil || v.Operation != nil:
			well = time.Time{}
		case !s.settled(v):
			well = time.Time{}
			s.bringBack(ctx, v)
		case well.IsZero():
			well = time.Now()
		case time.Since(well) > restsWell:
			return
		}
	}
	v, err := s.Client.Cluster(s.ctx, s.Name)
	s.t.Fatalf("it did not come to rest (%v): %s\n%+v", err, v.Sentence, v.Problems)
}

// catchUp waits until every replica has all that was written: after a cut, TCP sends
// again only seconds later, and a comparison is refused while a server is behind.
func (s *schedule) catchUp() {
	ctx, cancel := context.WithTimeout(s.ctx, time.Minute)
	defer cancel()
	for ctx.Err() == nil {
		v, err := s.Client.Cluster(ctx, s.Name)
		if err == nil && s.settled(v) && !slices.ContainsFunc(v.Servers, func(x view.Server) bool { return x.LagBytes > 0 }) {
			return
		}
		time.Sleep(time.Second)
	}
	s.t.Fatal("nothing is written any more, and the replicas do not catch up")
}

func (s *schedule) settled(v view.View) bool {
	for _, x := range v.Servers {
		if x.Health != view.InStep && x.Health != view.TakesWrites {
			return false
		}
	}
	return v.Primary != ""
}

// patience is how long a state is left to mend itself before a person steps in.
const patience = 8 * time.Second

func (s *schedule) bringBack(ctx context.Context, v view.View) {
	// Whom commits wait for is brought back: another primary's would wait as well.
	if p := v.Find(v.Primary); p != nil && p.Health != view.TakesWrites && p.Cause.Code != cause.SyncWaits {
		if !s.lasts(ctx, func(v view.View) bool {
			q := v.Find(v.Primary)
			return q != nil && q.Name == p.Name && q.Health != view.TakesWrites
		}) {
			return
		}
		s.tell("%s: failing over", v.Sentence)
		s.operate(operation.Request{Kind: operation.Failover})
		if again, err := s.Client.Cluster(ctx, s.Name); err == nil && again.Primary == p.Name {
			s.operate(operation.Request{Kind: operation.Failover, To: p.Name}) // start it again
		}
		return
	}
	for _, x := range v.Servers {
		if x.Name == v.Primary || x.Health == view.InStep || x.Health == view.Behind {
			continue
		}
		if !s.lasts(ctx, func(v view.View) bool { return v.Find(x.Name).Health == x.Health }) {
			return
		}
		s.tell("%s is %s: %s", x.Name, x.Health, x.Why)
		s.operate(operation.Request{Kind: operation.Rejoin, Server: x.Name})
		return
	}
}

// lasts reports whether a state holds for as long as a person would wait.
func (s *schedule) lasts(ctx context.Context, holds func(view.View) bool) bool {
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(500 * time.Millisecond) {
		v, err := s.Client.Cluster(ctx, s.Name)
		if err != nil || v.Operation != nil || !holds(v) {
			return false
		}
	}
	return true
}

// judge holds the outcome against what was promised.
func (s *schedule) judge() {
	v, err := s.Client.Cluster(s.ctx, s.Name)
	if err != nil {
		s.t.Fatal(err)
	}
	missing, err := s.Server(v.Primary).Missing(s.ctx, s.load.Acked())
	if err != nil {
		s.t.Fatal(err)
	}
	all, err := s.Client.Operations(s.ctx, s.Name, "", "", 1000)
	if err != nil {
		s.t.Fatal(err)
	}
	for _, op := range all {
		if op.Plan.Decided != nil {
			s.tell("began by itself: %s: %.200s", op.Plan.Decided.Text, op.Message)
			s.lossy = s.lossy || op.Plan.Loss != nil
			if s.mode != synchronous.None && op.Plan.Loss != nil {
				s.t.Errorf("seed %d: with mode %s operation %d began by itself and named a loss", s.seed, s.mode, op.ID)
			}
		}
	}
	if len(missing) > 0 && !s.lossy {
		s.t.Errorf("seed %d: %d acknowledged writes are gone, and no plan had named a loss: %v", s.seed, len(missing),
			missing[:min(3, len(missing))])
	}
	if err := s.Server(v.Primary).Promise(s.ctx); err != nil {
		s.t.Errorf("seed %d: %v", s.seed, err)
	}
	op, err := s.Operate(s.ctx, operation.Request{Kind: operation.Compare}, nil)
	if err != nil || !strings.Contains(op.Message, "match") {
		s.t.Errorf("seed %d: the servers differ: %v %s", s.seed, err, op.Message)
	}
	changes := 0
	for _, op := range all {
		if (op.Kind == operation.Switchover || op.Kind == operation.Failover) && op.Outcome != operation.OutcomeRefused {
			changes += 2 // an undone one may lead there and back
		}
	}
	if n := s.writable.alternations(); n > changes {
		s.t.Errorf("seed %d: writes moved between servers %d times, with %d role changes: two took writes: %s", s.seed, n,
			changes, s.writable)
	}
	if len(missing) > 0 {
		s.tell("%d writes are gone, as a plan had named", len(missing))
	}
	s.tell("%d writes were acknowledged, %d changes of the primary", len(s.load.Acked()), changes/2)
}
