package simulation

import (
	"math/rand/v2"
	"slices"
	"time"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/synchronous"
)

// In a world with a synchronous mode the databases hold writes, and a further invariant is
// checked at every promotion:
//
//	I5  what was acknowledged is on the new primary
//
// How a database replicates is made up as simply as it may be: a replica that follows takes what
// its upstream has, if its own log is the beginning of that, and says so a while later.

// Rule of synchronous replication that a run can leave out.
type SyncRule string

// The rules; their numbers are those of the handbook's page on synchronous replication.
const (
	AsksEnough     SyncRule = "1 enough of the list are asked before a promotion"
	TakesFurthest  SyncRule = "1, 3 the one that holds most is promoted, or its log is fetched"
	DetachesFirst  SyncRule = "2 they are detached before they are asked"
	RecordedFirst  SyncRule = "4 a list is recorded before the primary has it"
	NarrowsWhen    SyncRule = "4 the list before is dropped once enough hold what was written by it"
	OlderAreKnown  SyncRule = "4 records from an older backup are known by the agents' numbers"
	TellsCandidate SyncRule = "19 the new primary's commits wait from the first one on"
)

// SyncRules are all of them.
var SyncRules = []SyncRule{AsksEnough, TakesFurthest, DetachesFirst, RecordedFirst, NarrowsWhen, OlderAreKnown,
	TellsCandidate}

// data is what a server holds. The log survives crashes.
type data struct {
	log     log
	follows string
	// detached is the newest term in which it was told to follow nobody.
	detached int64
	list     synchronous.List // whom its commits wait for, where it is primary
	provenAt int              // all of its log from there on waited for the list
	noted    int64            // the newest number of a change of what is promised
	said     map[string]int   // how much of its log each replica said to hold
	acked    int              // how much of it is acknowledged
	tenure   int
}

// modes is the part of a world with a synchronous mode.
type modes struct {
	rng     *rand.Rand
	tenures int         // of primaries, one after the other
	acked   map[int]int // how many writes of each are acknowledged
}

// log is what a server holds: the first writes of a tenure of some primary, then of a later one.
type log []stretch

type stretch struct{ tenure, writes int }

func (l log) length() (n int) {
	for _, s := range l {
		n += s.writes
	}
	return n
}

// first returns the first writes of a log, up to so many.
func (l log) first(n int) (out log) {
	for _, s := range l {
		if n <= 0 {
			break
		}
		out = append(out, stretch{s.tenure, min(n, s.writes)})
		n -= s.writes
	}
	return out
}

// shared is how many writes two logs have in common before they part.
func (l log) shared(m log) (n int) {
	for i := range min(len(l), len(m)) {
		if l[i].tenure != m[i].tenure {
			return n
		}
		n += min(l[i].writes, m[i].writes)
		if l[i].writes != m[i].writes {
			return n
		}
	}
	return n
}

// begins reports whether a log begins with another one.
func (l log) begins(with log) bool { return l.shared(with) == with.length() }

// newer reports whether a log ends with a newer write than another one.
func (l log) newer(m log) bool {
	if len(l) == 0 || len(m) == 0 {
		return len(l) > len(m)
	}
	a, b := l[len(l)-1], m[len(m)-1]
	return a.tenure > b.tenure || a.tenure == b.tenure && a.writes > b.writes
}

// with returns a log with one more write.
func (l log) with(tenure int) log {
	if n := len(l); n > 0 && l[n-1].tenure == tenure {
		out := slices.Clone(l)
		out[n-1].writes++
		return out
	}
	return append(slices.Clone(l), stretch{tenure, 1})
}

const beatEvery = 40 * time.Millisecond

func (w *world) startData() {
	w.modes = &modes{rng: rand.New(rand.NewPCG(w.cfg.Seed, 2)), acked: map[int]int{}}
	first := w.servers[0]
	for _, s := range w.servers {
		s.data.said = map[string]int{}
		if s != first {
			s.data.follows = first.name
		}
	}
	first.data.list = w.listFor(first.name)
	w.service.promised, w.service.leader = []synchronous.List{first.data.list}, first.name
	w.beat()
}

// listFor is one of all others with a database: a mode in which two have to answer of three.
func (w *world) listFor(primary string) synchronous.List {
	l := synchronous.List{Need: 1}
	for _, s := range w.servers {
		if !s.referee && s.name != primary {
			l.Names = append(l.Names, s.name)
		}
	}
	l.Need = max(1, len(l.Names)/2)
	slices.Sort(l.Names)
	return l
}

func (w *world) omits(r SyncRule) bool { return w.cfg.Without == r }

// beat lets the databases write and replicate.
func (w *world) beat() {
	for _, s := range w.servers {
		if s.database == guard.DatabaseOpen && !s.hung {
			s.data.log = s.data.log.with(s.data.tenure)
			s.acknowledge()
		}
	}
	for _, r := range w.servers {
		p := w.server(r.data.follows)
		if p == nil || r.referee || r.database != guard.DatabaseShut || r.hung || p.hung || p.down ||
			p.database == guard.DatabaseStopped || w.cut[[2]string{p.name, r.name}] || w.modes.rng.Float64() < 0.2 ||
			!p.data.log.begins(r.data.log) {
			continue
		}
		n := min(p.data.log.length(), r.data.log.length()+w.modes.rng.IntN(6))
		r.data.log = p.data.log.first(n)
		process := p.process
		w.after(Time(w.modes.rng.Int64N(int64(60*time.Millisecond))), func() {
			if p.process == process && p.database == guard.DatabaseOpen && !w.cut[[2]string{r.name, p.name}] {
				p.data.said[r.name] = max(p.data.said[r.name], n)
				p.acknowledge()
			}
		})
	}
	w.after(beatEvery, w.beat)
}

// acknowledge tells clients of the writes that enough replicas hold.
func (s *server) acknowledge() {
	d := &s.data
	for end := d.log.length(); d.acked < end; d.acked++ {
		if !d.list.IsZero() && !d.list.Held(func(n string) bool { return d.said[n] > d.acked }) {
			return
		}
		s.w.modes.acked[d.tenure]++
	}
}

// promoted begins a primary's time: nothing of its own is acknowledged yet. What was is here.
func (s *server) promoted() {
	holds := map[int]int{}
	for _, x := range s.data.log {
		holds[x.tenure] = x.writes
	}
	missing := 0
	for tenure, n := range s.w.modes.acked {
		missing += max(0, n-holds[tenure])
	}
	if missing > 0 {
		s.w.breaks("I5", "%d acknowledged writes are not on %s, which takes writes now", missing, s.name)
	}
	s.w.modes.tenures++
	s.data.tenure = s.w.modes.tenures
	s.data.said, s.data.acked, s.data.follows = map[string]int{}, s.data.log.length(), ""
	s.data.provenAt = s.data.log.length()
}

// holding is what a server says of its data, to a service process.
type holding struct {
	name     string
	log      log
	detached int64
	list     synchronous.List
	provenAt int
	noted    int64
}

// askData asks a server what it holds; what comes back is handed over if this process still runs.
func (v *service) askData(s *server, do func(*server), take func(holding)) {
	w, start := v.w, v.starts
	number := v.number
	w.send(serviceName, s.name, func() {
		if s.agent == nil || s.frozen || s.referee && do != nil {
			return
		}
		s.data.noted = max(s.data.noted, number)
		if do != nil {
			do(s)
		}
		d := &s.data
		h := holding{s.name, d.log, d.detached, d.list, d.provenAt, d.noted}
		w.send(s.name, serviceName, func() {
			if v.machine == nil || v.starts != start {
				return
			}
			if h.noted > v.number && !w.omits(OlderAreKnown) { // the records are from a backup
				v.promised, v.number = nil, h.noted+1
			}
			take(h)
		})
	})
}

// keepMode has the primary's commits wait for whom they should, and records what that comes to.
func (v *service) keepMode(owner string) {
	w := v.w
	if v.leader != owner {
		v.leader, v.holds = owner, map[string]holding{}
	}
	term := v.machine.Decided.Term
	for _, s := range w.servers {
		v.askData(s, func(s *server) {
			if s.name != owner && s.data.detached <= term {
				s.followAgain(owner)
			}
		}, func(h holding) { v.holds[h.name] = h })
	}
	p, ok := v.holds[owner]
	if !ok {
		return
	}
	want := w.listFor(owner)
	st := synchronous.State{Want: want, Promised: v.promised, Set: p.list, Live: true, Ready: true,
		Noted: v.most(v.number)}
	st.Held = want.Held(func(n string) bool {
		h, ok := v.holds[n]
		return ok && h.log.shared(p.log) >= p.provenAt
	})
	if w.omits(NarrowsWhen) {
		st.Held = true
	}
	switch act, lists := synchronous.Next(st); act {
	case synchronous.Promise:
		v.promised, v.number = lists, v.number+1
	case synchronous.Apply:
		v.askData(w.server(owner), func(s *server) { s.data.list, s.data.provenAt = want, s.data.log.length() },
			func(h holding) { v.holds[h.name] = h })
	}
}

// most reports whether most agents have noted a number.
func (v *service) most(number int64) bool {
	n := 0
	for _, h := range v.holds {
		if h.noted >= number {
			n++
		}
	}
	return synchronous.Enough(n, len(v.w.servers))
}

// followAgain has a replica follow, and give up what its new upstream does not have: a rejoin.
func (s *server) followAgain(owner string) {
	p := s.w.server(owner)
	if s.database != guard.DatabaseShut || s.referee || s.data.follows == owner && p.data.log.begins(s.data.log) ||
		p.database != guard.DatabaseOpen {
		return
	}
	s.data.log, s.data.follows = s.data.log.first(s.data.log.shared(p.data.log)), owner
}

// mayPromote prepares a promotion as far as the data goes, and reports whether nothing stands in
// its way: enough of the list are detached and asked, the candidate holds the most, and its own
// commits will wait.
func (v *service) mayPromote(owner string) bool {
	w, term := v.w, v.machine.Decided.Term
	if v.leader == owner && w.server(owner).database == guard.DatabaseOpen {
		return true // it goes on where it was: nobody else was given its place
	}
	if v.asked != term {
		v.asked, v.holds = term, map[string]holding{}
	}
	for _, s := range w.servers {
		if s.referee {
			v.askData(s, nil, func(h holding) { v.holds[h.name] = h })
			continue
		}
		v.askData(s, func(s *server) {
			if s.database == guard.DatabaseShut && !w.omits(DetachesFirst) {
				s.data.follows, s.data.detached = "", max(s.data.detached, term)
			}
		}, func(h holding) { v.holds[h.name] = h })
	}
	own, ok := v.holds[owner]
	answers := func(n string) bool {
		h, ok := v.holds[n]
		return ok && (h.detached >= term || w.omits(DetachesFirst))
	}
	covered, _ := synchronous.Covered(v.promised, answers)
	if !ok || !answers(owner) || !w.omits(AsksEnough) && (len(v.promised) == 0 || !covered) || !v.most(v.number) {
		return false
	}
	most := own
	for _, n := range names { // in one order, so that a run can be repeated
		if h, ok := v.holds[n]; ok && answers(n) && h.log.newer(most.log) {
			most = h
		}
	}
	if most.log.newer(own.log) && !w.omits(TakesFurthest) {
		v.askData(w.server(owner), func(s *server) {
			if s.database == guard.DatabaseShut {
				s.data.log = most.log
			}
		}, func(h holding) { v.holds[h.name] = h })
		return false
	}
	want := w.listFor(owner)
	if w.omits(TellsCandidate) {
		want = synchronous.List{}
	}
	if both := synchronous.With(v.promised, want); len(both) > len(v.promised) && !w.omits(RecordedFirst) {
		v.promised, v.number = both, v.number+1
		return false // most agents have to know it first
	}
	if !own.list.Equal(want) {
		v.askData(w.server(owner), func(s *server) { s.data.list = want }, func(h holding) { v.holds[h.name] = h })
		return false
	}
	return true
}
