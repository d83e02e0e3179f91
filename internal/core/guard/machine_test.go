package guard

import (
	"slices"
	"testing"
	"time"
)

// bench plays one agent with a deadman that answers at once.
type bench struct {
	t    *testing.T
	a    Agent
	now  Time
	done []Effect // of the newest step
}

func newBench(t *testing.T, d Durable) *bench {
	return &bench{t: t, a: StartAgent("gull", "p1", d, Ends{}, 0, time.Hour), now: time.Hour + PledgeWait}
}

func (b *bench) step(e Event) {
	var do []Effect
	b.a, do = b.a.Step(e, b.now)
	b.done = do
	for i := 0; i < len(do); i++ {
		if h, ok := do[i].(TellDeadman); ok {
			var more []Effect
			b.a, more = b.a.Step(Held(h.Hold), b.now)
			do = append(do, more...)
			b.done = do
		}
	}
}

// nonce asks the agent, and gives the nonce of its answer.
func (b *bench) nonce(term int64) Nonce {
	b.step(Ask{Term: term})
	return sent[Answer](b).Nonce
}

func sent[T Event](b *bench) T {
	b.t.Helper()
	for _, e := range slices.Backward(b.done) {
		if s, ok := e.(Send); ok {
			if m, ok := s.Message.(T); ok {
				return m
			}
		}
	}
	var none T
	b.t.Fatalf("no %T in %+v", none, b.done)
	return none
}

func (b *bench) does(e Effect) bool {
	return slices.ContainsFunc(b.done, func(o Effect) bool {
		_, kill := o.(Kill)
		_, open := o.(Open)
		return e == Effect(Kill{}) && kill || e == Effect(Open{}) && open
	})
}

var owner = Durable{State: State{Noted: 3, Accepted: 3, Owner: true}, Set: []string{"tern"}}

// A grant counts from its nonce, and only for the owner of its term; when it ends the
// database is stopped.
func TestGrant(t *testing.T) {
	for name, c := range map[string]struct {
		d     Durable
		grant func(Nonce) Grant
		want  bool
	}{
		"its own":           {owner, func(n Nonce) Grant { return Grant{3, n} }, true},
		"an older term":     {Durable{State: State{4, 3, true}}, func(n Nonce) Grant { return Grant{3, n} }, false},
		"a follower":        {Durable{State: State{3, 3, false}}, func(n Nonce) Grant { return Grant{3, n} }, false},
		"another process's": {owner, func(n Nonce) Grant { return Grant{3, Nonce{"p0", n.Number}} }, false},
		"a made-up nonce":   {owner, func(n Nonce) Grant { return Grant{3, Nonce{"p1", n.Number + 7}} }, false},
	} {
		b := newBench(t, c.d)
		g := c.grant(b.nonce(3))
		b.now += time.Second
		b.step(Ask{Term: 3, Grant: &g})
		if got := b.a.MayWrite(b.now); got != c.want {
			t.Errorf("%s: may write: %t", name, got)
		}
		if c.want && b.a.Held.Grant != b.now-time.Second+GrantLasts-Fencing {
			t.Errorf("%s: until %v, at %v", name, b.a.Held.Grant, b.now)
		}
	}
	b := newBench(t, owner)
	g := Grant{3, b.nonce(3)}
	b.step(Ask{Term: 3, Grant: &g})
	b.step(DatabaseIs{DatabaseShut, false})
	if !b.does(Open{}) {
		t.Error("a database with a permission is not opened")
	}
	b.step(DatabaseIs{DatabaseOpen, false}) // it commits nothing: no pledges are asked for
	b.now += GrantLasts - Fencing
	if b.step(Tick{}); !b.does(Kill{}) {
		t.Error("a database goes on when its grant has ended")
	}
}

// A promotion waits out the own pledge and a process's first seconds, and ends what
// ran in an earlier term.
func TestPromotion(t *testing.T) {
	follower := Durable{State: State{Noted: 3, Accepted: 3}}
	for name, c := range map[string]struct {
		d      Durable
		before func(*bench)
		term   int64
		want   bool
	}{
		"in time":        {follower, nil, 4, true},
		"the same term":  {follower, nil, 3, false},
		"an older term":  {Durable{State: State{Noted: 5, Accepted: 3}}, nil, 4, false},
		"never":          {Durable{State: follower.State, Never: true}, nil, 4, false},
		"a lost state":   {Durable{Lost: true}, nil, 4, false},
		"just begun":     {follower, func(b *bench) { b.now = time.Hour + PledgeWait - 1 }, 4, false},
		"it has pledged": {follower, func(b *bench) { b.step(PledgeAsk{From: "tern", Term: 3}) }, 4, false},
		"in place":       {owner, nil, 4, true},
	} {
		b := newBench(t, c.d)
		if c.before != nil {
			c.before(b)
		}
		b.step(Promote{Term: c.term, Nonce: b.nonce(0), Set: []string{"heron"}})
		if got := b.a.Durable.Owner && b.a.Durable.Accepted == c.term && c.term == 4; got != c.want {
			t.Errorf("%s: %+v", name, b.a.Durable)
		}
	}
	b := newBench(t, follower)
	n := b.nonce(3)
	b.now += GrantLasts - Fencing
	if b.step(Promote{Term: 4, Nonce: n}); b.a.Durable.Owner {
		t.Error("a promotion counts though its nonce has run out")
	}
}

// Who stands down asks for no pledges, and proves it when deadman and database have
// stopped; not before.
func TestStandDown(t *testing.T) {
	b := newBench(t, owner)
	g := Grant{3, b.nonce(3)}
	b.step(Ask{Term: 3, Grant: &g})
	b.step(DatabaseIs{DatabaseOpen, true})
	ask := Question{"service/1", 9}
	b.step(StandDown{Question: ask, Term: 4})
	if !b.does(Kill{}) || b.a.MayWrite(b.now) || b.a.Durable.Noted != 4 {
		t.Fatalf("%+v, %+v", b.done, b.a)
	}
	for _, e := range b.done {
		if s, ok := e.(Send); ok {
			if _, early := s.Message.(Proof); early {
				t.Error("proven before the database has stopped")
			}
		}
	}
	b.step(DatabaseIs{DatabaseStopped, false})
	if p := sent[Proof](b); p != (Proof{"gull", ask, 4}) {
		t.Errorf("%+v", p)
	}
	b.step(DatabaseIs{DatabaseShut, true})
	b.now += NoQuestions - 1
	for _, after := range []struct {
		d    Time
		asks bool
	}{{0, false}, {time.Second, true}} {
		b.now += after.d
		b.step(Tick{})
		asks := slices.ContainsFunc(b.done, func(e Effect) bool { s, ok := e.(Send); return ok && s.To == "tern" })
		if asks != after.asks {
			t.Errorf("questions after %v: %t", after.d, asks)
		}
	}
	b.step(StandDown{Question: ask, Term: 3})
	if b.done == nil || b.a.Durable.Noted != 4 {
		t.Error("a stand-down of an older term")
	}
}

// The owner writes by the pledges of all of its set, from before it asked; whoever
// pledged is not promoted before V has passed.
func TestPledges(t *testing.T) {
	d := owner
	d.Set = []string{"tern", "heron"}
	b := newBench(t, d)
	b.step(DatabaseIs{DatabaseShut, true})
	q := sent[PledgeAsk](b)
	asked := b.now
	b.now += 300 * time.Millisecond
	b.step(Pledge{q.Question, "tern", 3})
	if b.a.MayWrite(b.now) {
		t.Error("one of two pledges is enough")
	}
	b.step(Pledge{q.Question, "heron", 3})
	if !b.a.MayWrite(b.now) || b.a.Held.Pledge != asked+PledgeLasts-Fencing {
		t.Errorf("%+v, asked at %v", b.a.Held, asked)
	}

	p := newBench(t, Durable{State: State{Noted: 3, Accepted: 2}})
	p.step(PledgeAsk{Question: q.Question, From: "gull", Term: 3})
	if sent[Pledge](p).Term != 3 || p.a.Durable.Accepted != 3 || p.a.Pledged != p.now+PledgeWait {
		t.Errorf("%+v", p.a)
	}
	p.step(PledgeAsk{Question: q.Question, From: "wren", Term: 2})
	if len(p.done) != 0 {
		t.Errorf("a pledge for a term that is over: %+v", p.done)
	}
	alone := newBench(t, Durable{State: owner.State})
	if alone.step(DatabaseIs{DatabaseShut, true}); !alone.a.MayWrite(alone.now) {
		t.Error("an owner that nobody may follow has nobody to ask")
	}
}

// The service promotes when everybody else is past W or proven, and a majority noted
// the term in answer to this process.
func TestServiceWaits(t *testing.T) {
	members := []Member{{Name: "gull"}, {Name: "tern"}, {Name: "heron"}}
	now := Time(0)
	s := StartService("s1", Decided{3, "gull"}, members, 0, now)
	hear := func(name string, noted int64, process string) {
		s, _ = s.Step(Answer{Server: name, Question: Question{process, 1}, Nonce: Nonce{name, int64(now) + noted},
			State: State{Noted: noted, Accepted: 3, Owner: name == "gull"}}, now)
	}
	want := func(what string, not NotYet) {
		t.Helper()
		if _, do, got, _ := s.Promote(now); got != not || (got == Now) != (len(do) == 1) {
			t.Errorf("%s: %v, %+v", what, got, do)
		}
	}
	if next, do := s.OpenTerm("tern", now); do != nil || next.Decided.Term != 3 {
		t.Error("a term is opened before anybody answered")
	}
	hear("tern", 3, "s0")
	if s.Settled() {
		t.Error("an answer to an earlier process counts")
	}
	hear("tern", 3, "s1")
	hear("heron", 3, "s1")
	s, _ = s.OpenTerm("tern", now)
	want("nobody noted it", NotHeard)
	hear("tern", 4, "s1")
	want("one noted it", TooFewNoted)
	hear("heron", 4, "s1")
	want("all may have a grant of an earlier process", MayStillWrite)
	now += GrantWait
	hear("tern", 4, "s1")
	want("W is over", Now)

	s, _ = s.OpenTerm("gull", now) // tern was promised the term before
	hear("gull", 5, "s1")
	hear("heron", 5, "s1")
	hear("tern", 5, "s1")
	s, _, _, _ = s.Promote(now)
	want("nobody was granted since", Now)
	s, _ = s.OpenTerm("heron", now)
	hear("heron", 6, "s1")
	hear("tern", 6, "s1")
	want("gull was promised the term", MayStillWrite)
	s, _ = s.Step(Proof{"gull", Question{"s1", 2}, 5}, now)
	want("a proof of an older term", MayStillWrite)
	s, _ = s.Step(Proof{"gull", Question{"s1", 2}, 6}, now)
	want("gull is proven to have stopped", Now)
	hear("tern", 9, "s1")
	if s.Decided != (Decided{Term: 9}) {
		t.Errorf("a higher term that an agent noted: %+v", s.Decided)
	}
}

// A deadman that is told faster than it answers keeps the permission all the same; an
// answer from before a shorter end counts no more.
func TestToldFasterThanItAnswers(t *testing.T) {
	d := Durable{State: State{Noted: 1, Accepted: 1, Owner: true}}
	a := StartAgent("gull", "p", d, Ends{}, 0, 0)
	var told []Hold
	step := func(e Event, now Time) {
		next, do := a.Step(e, now)
		a = next
		for _, x := range do {
			if h, is := x.(TellDeadman); is {
				told = append(told, h.Hold)
			}
		}
	}
	ask := func(now Time) {
		step(Ask{Term: 1}, now)
		n := a.issued[len(a.issued)-1].number
		step(Ask{Term: 1, Grant: &Grant{1, Nonce{"p", n}}}, now)
	}
	const between = 20 * time.Millisecond
	for i := range Time(300) { // six seconds; each answer comes ten questions late
		ask(i * between)
		if late := len(told) - 10; late >= 0 {
			step(Held(told[late]), i*between)
		}
		if i > 20 && !a.MayWrite(i*between) {
			t.Fatalf("no permission after %s, though a grant came each %s", i*between, between)
		}
	}
	before := told[len(told)-1]
	step(StandDown{Question: Question{"s", 1}, Term: 2}, 300*between)
	step(Held(before), 300*between)
	if a.MayWrite(300*between) || a.standing == nil || a.standing.ready {
		t.Error("an answer from before it stood down gives the permission back")
	}
}

// The records are an older copy: they have tern own term 2, and gull owns term 3, which the
// referee noted with it and has forgotten. While gull does not answer, the referee counts
// for nothing, and tern is granted nothing; when it has, the referee is told term 3.
func TestVoteOfWhoForgot(t *testing.T) {
	members := []Member{{Name: "gull"}, {Name: "tern"}, {Name: "cairn", Never: true, Referee: true}}
	tern := Durable{State: State{Noted: 2, Accepted: 2, Owner: true}}
	forgot := Durable{Lost: true}
	for _, omit := range []Rule{0, VoteOfKnown} {
		s := StartService("p", Decided{2, "tern"}, members, omit, time.Hour)
		votes := func() bool {
			_, do := s.SetRank("cairn", true)
			return do[0].(Send).Message.(SetRank).Votes
		}
		s = heardOf(s, "tern", tern)
		s = heardOf(s, "cairn", forgot)
		if got := votes(); got != (omit == VoteOfKnown) {
			t.Errorf("without %v: it votes before a majority without it answered: %t", omit, got)
		}
		if omit == VoteOfKnown { // the hole: tern is granted term 2 again
			s = heardOf(s, "cairn", Durable{State: State{Noted: 2}, Never: true})
			if !s.Settled() {
				t.Error("the rule is redundant")
			}
			continue
		}
		if s.Settled() {
			t.Error("who forgot counts")
		}
		s = heardOf(s, "gull", Durable{State: State{Noted: 3, Accepted: 3, Owner: true}})
		if _, do := s.SetRank("cairn", true); do[0].(Send).Message.(SetRank).Term != 3 || !votes() {
			t.Errorf("it is not told the newest term: %+v", do)
		}
	}
}

// heardOf has an agent answer the service's question, an hour later.
func heardOf(s Service, from string, d Durable) Service {
	const now = 2 * time.Hour
	s, do := s.Ask(from, now)
	s, _ = s.Step(Answer{Server: from, Question: do.(Send).Message.(Ask).Question, Nonce: Nonce{from, s.number},
		State: d.State, Never: d.Never, Lost: d.Lost}, now)
	return s
}
