// Package simulation runs the machines of package guard against each other: servers
// with agent, deadman and database, a service that restarts and is restored from old
// backups, a network that loses, delays, repeats and cuts, and clocks that drift. Time
// and chance come from a seed, so that a run can be repeated. After every event the
// invariants of the protocol are checked:
//
//	I1  no two servers can acknowledge writes at one time
//	I2  no permission is used after a party that may promote takes it to be over
//	I3  terms never go back
//	I4  no server is promoted while its own pledge runs
//
// and at the end, or all along where nothing but the service was disturbed:
//
//	L1  losing only the service stops no writes
//	L2  after the faults the cluster takes writes again
//	L3  a planned change ends with one server that takes writes
package simulation

import (
	"container/heap"
	"fmt"
	"math/rand/v2"
	"time"

	"crosstwin/internal/core/guard"
)

// Time is the world's own time, which no process can read.
type Time = time.Duration

// Config is what a run is made of.
type Config struct {
	Seed uint64
	// Servers with a database, 2 to 5, and whether a referee stands beside them.
	Servers int
	Referee bool
	// Kind says what is disturbed.
	Kind Kind
	// Omit are rules that are left out.
	Omit guard.Rule
	// Synchronous: commits wait for replicas. Without is a rule of that which is left out.
	Synchronous bool
	Without     SyncRule
	// Drift is how far a clock's rate may be off, 0.01 by default.
	Drift float64
}

// Kind is what a schedule disturbs.
type Kind int

// Kinds of schedules.
const (
	Everything  Kind = iota
	ServiceOnly      // the service, and its paths
	PlannedOnly      // nothing: planned changes, one after another
	RoleChanges      // changes of the primary under way: crashes between two acts, and late messages
)

var kindWords = map[Kind]string{Everything: "everything", ServiceOnly: "the service alone",
	PlannedOnly: "planned changes alone",
	RoleChanges: "changes under way"}

func (k Kind) String() string { return kindWords[k] }

// Result is what came of a run.
type Result struct {
	Config    Config
	Violation string // the first, "" for none
	Timeline  []string
	Changes   int // of the server that takes writes
	Events    int
}

// calm is when the disturbances end, and end when the run does.
const (
	calm = 50 * time.Second
	end  = 110 * time.Second
)

type world struct {
	cfg      Config
	rng      *rand.Rand
	now      Time
	queue    queue
	order    int
	servers  []*server
	service  *service
	cut      map[[2]string]bool
	loss     float64
	slow     float64 // share of messages that are delayed by seconds
	timeline []string
	broken   string
	events   int
	last     string // the server that took writes last
	wish     string // the newest planned change
	changes  int
	modes    *modes // nil without a synchronous mode
}

// clock is one host's: what it reads at the world's time.
type clock struct {
	rate   float64
	offset Time
}

func (c clock) read(now Time) guard.Time { return c.offset + Time(float64(now)*c.rate) }

// span turns a host's time into the world's.
func (c clock) span(d Time) Time { return Time(float64(d) / c.rate) }

type event struct {
	at    Time
	order int
	do    func()
}

type queue []event

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, j int) bool {
	return q[i].at < q[j].at || q[i].at == q[j].at && q[i].order < q[j].order
}
func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)   { *q = append(*q, x.(event)) }
func (q *queue) Pop() any {
	old := *q
	e := old[len(old)-1]
	*q = old[:len(old)-1]
	return e
}

// Run plays one schedule.
func Run(cfg Config) Result {
	if cfg.Drift == 0 {
		cfg.Drift = 0.01
	}
	w := &world{cfg: cfg, rng: rand.New(rand.NewPCG(cfg.Seed, 1)), cut: map[[2]string]bool{}}
	w.make()
	if cfg.Synchronous {
		w.startData()
	}
	w.disturb()
	for w.queue.Len() > 0 && w.broken == "" {
		e := heap.Pop(&w.queue).(event)
		if e.at > end {
			break
		}
		w.now = e.at
		w.events++
		e.do()
		w.check()
	}
	if w.broken == "" && !cfg.Synchronous { // what may not be lost is waited for, also for ever
		w.checkEnd()
	}
	return Result{cfg, w.broken, w.timeline, w.changes, w.events}
}

// after does something later.
func (w *world) after(d Time, do func()) {
	w.order++
	heap.Push(&w.queue, event{w.now + max(0, d), w.order, do})
}

func (w *world) log(format string, a ...any) {
	w.timeline = append(w.timeline, fmt.Sprintf("%8.3f s  %s", w.now.Seconds(), fmt.Sprintf(format, a...)))
}

func (w *world) breaks(invariant, format string, a ...any) {
	if w.broken == "" {
		w.broken = invariant + ": " + fmt.Sprintf(format, a...)
		w.log("VIOLATION %s", w.broken)
	}
}

// between gives a random time.
func (w *world) between(a, b Time) Time { return a + Time(w.rng.Int64N(int64(b-a)+1)) }

func (w *world) chance(p float64) bool { return w.rng.Float64() < p }

func (w *world) clock() clock {
	rate := 1 + w.cfg.Drift*(2*w.rng.Float64()-1)
	if w.chance(0.7) { // the errors are mostly as large as they may be
		rate = 1 + w.cfg.Drift*float64(2*w.rng.IntN(2)-1)
	}
	return clock{rate, w.between(time.Hour, 100*time.Hour)}
}

// names are those of the made-up world.
var names = []string{"gull", "tern", "heron", "dunlin", "plover"}

const referee = "cairn"

func (w *world) make() {
	var members []guard.Member
	for i := range w.cfg.Servers {
		members = append(members, guard.Member{Name: names[i]})
	}
	if w.cfg.Referee {
		members = append(members, guard.Member{Name: referee, Referee: true, Never: true})
	}
	for i, m := range members {
		s := &server{w: w, name: m.Name, clock: w.clock(), referee: m.Referee}
		s.disk = guard.Durable{State: guard.State{Noted: 1, Accepted: 1, Owner: i == 0}, Never: m.Never}
		if i == 0 {
			for _, o := range members[1:] {
				if !o.Referee {
					s.disk.Set = append(s.disk.Set, o.Name)
				}
			}
		}
		s.database = guard.DatabaseShut
		w.servers = append(w.servers, s)
		s.startDeadman()
		s.startAgent()
	}
	w.service = &service{w: w, clock: w.clock(), members: members,
		records: guard.Decided{Term: 1, Owner: members[0].Name}, sealed: true}
	w.service.start()
}

// send gives a message to the network.
func (w *world) send(from, to string, deliver func()) {
	times := 1
	if w.chance(0.03) {
		times = 2
	}
	for range times {
		if w.cut[[2]string{from, to}] || w.chance(w.loss) {
			continue
		}
		delay := w.between(time.Millisecond, 20*time.Millisecond)
		if w.chance(w.slow) {
			delay = w.between(50*time.Millisecond, 7*time.Second)
		}
		w.after(delay, deliver)
	}
}

func (w *world) server(name string) *server {
	for _, s := range w.servers {
		if s.name == name {
			return s
		}
	}
	return nil
}
