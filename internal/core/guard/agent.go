package guard

import "slices"

// Durable is what an agent has on disk before anything rests on it (rule 1). Grants,
// pledges and proofs are never in it.
type Durable struct {
	State
	// Set are the servers that have to pledge in the accepted term, when this server
	// owns it.
	Set []string `json:"set,omitempty"`
	// Never: this server is never promoted. Lost: its state was lost, or it is new.
	Never bool `json:"never,omitempty"`
	Lost  bool `json:"lost,omitempty"`
}

// Agent is the machine of one server's agent. Its fields are for the simulation's
// checks and for the console; only Step changes them.
type Agent struct {
	Name    string
	Process string // random, another one at each start
	Durable Durable
	Omit    Rule

	// Held are the ends that the deadman keeps to: only they are used.
	Held Ends
	// Pledged is until when this server promised not to be promoted.
	Pledged Time
	// Started is when this process began.
	Started Time

	issued   []issued // nonces, oldest first
	number   int64    // of nonces, questions and holds
	hold     Hold     // the newest told to the deadman
	kept     int64    // the newest that it said it keeps to
	shorter  int64    // the newest that made an end earlier
	toldAt   Time
	question Question // the newest put to the set
	askedAt  Time
	answered []string // who pledged to it
	silent   Time     // no questions before this
	// ownerWrites: whoever this server pledged to said that it may write.
	ownerWrites bool
	standing    *standing
	pending     *pending
	database    DatabaseState
	commits     bool
}

// issued is a nonce and when it was given out.
type issued struct {
	number int64
	at     Time
}

// standing is a stand-down that is to be proven.
type standing struct {
	question Question
	term     int64
	told     int64 // the hold that the deadman has to keep first
	ready    bool
}

// pending is a promotion that the deadman is to know of first.
type pending struct {
	promote Promote
	end     Time
	told    int64
}

// StartAgent begins a process. What the deadman holds is the only permission that
// goes on; nonces and questions of an earlier process are void (rule 10).
func StartAgent(name, process string, d Durable, held Ends, omit Rule, now Time) Agent {
	a := Agent{Name: name, Process: process, Durable: d, Held: held, Omit: omit, Started: now,
		askedAt: now - askEvery}
	a.hold, a.toldAt = Hold{Ends: held}, now
	if a.omits(VoidAtStart) && d.Owner {
		a.Held.Grant = now + GrantLasts - Fencing
	}
	return a
}

func (a *Agent) omits(r Rule) bool { return a.Omit&r != 0 }

// MayWrite reports whether this server owns its term and a permission runs that the
// deadman knows of.
func (a Agent) MayWrite(now Time) bool { return a.Durable.Owner && a.Held.Runs(now) }

// Waits reports whether the process is too young for a promotion: it may have
// pledged before it began.
func (a Agent) Waits(now Time) bool { return now < a.Started+PledgeWait }

// StandsDown reports whether a proof is owed that the database has stopped.
func (a Agent) StandsDown() bool { return a.standing != nil }

// Step takes one event, and says what is to be done, in order.
func (a Agent) Step(e Event, now Time) (Agent, []Effect) {
	var do []Effect
	switch e := e.(type) {
	case Ask:
		do = a.ask(e, now)
	case Promote:
		do = a.promote(e, now)
	case StandDown:
		do = a.standDown(e, now)
	case SetRank:
		do = a.setRank(e, now)
	case PledgeAsk:
		do = a.pledgeAsk(e, now)
	case Pledge:
		do = a.pledge(e, now)
	case Held:
		do = a.held(e, now)
	case DeadmanGone:
		a.kept = 0 // whoever comes next has to be told
	case DatabaseIs:
		a.database, a.commits = e.State, e.Commits
		do = a.prove()
	case Tick:
	}
	return a, append(do, a.look(now)...)
}

// look keeps the invariants as time passes: a database that may write without a
// permission is stopped, one that has a permission is opened, and pledges are asked
// for while there is time.
func (a *Agent) look(now Time) []Effect {
	for len(a.issued) > 0 && now >= a.issued[0].at+GrantLasts && !a.omits(FromTheNonce) && !a.omits(NonceRuns) {
		a.issued = a.issued[1:]
	}
	var do []Effect
	may := a.MayWrite(now)
	switch {
	case !may && a.database >= DatabaseOpening:
		do = append(do, Kill{})
	case may && a.database == DatabaseShut && a.standing == nil:
		a.database = DatabaseOpening // whatever was seen before says nothing any more
		do = append(do, Open{a.Durable.Accepted})
	}
	if a.hold.Number != a.kept && now >= a.toldAt+tellEvery {
		a.toldAt = now
		do = append(do, TellDeadman{a.hold})
	}
	return append(do, a.questions(now)...)
}

// answer says how the agent stands.
func (a *Agent) answer(q Question, now Time) Effect {
	a.number++
	a.issued = append(slices.Clip(a.issued), issued{a.number, now})
	return Send{Message: Answer{Server: a.Name, Question: q, Nonce: Nonce{a.Process, a.number}, State: a.Durable.State,
		Set: a.Durable.Set, Never: a.Durable.Never, Lost: a.Durable.Lost, Pledged: max(0, a.Pledged-now),
		Writes: a.ownerWrites && now < a.Pledged}}
}

// until gives the end of a permission that counts from a nonce; false when the nonce
// is void.
func (a *Agent) until(n Nonce, now Time) (Time, bool) {
	i := slices.IndexFunc(a.issued, func(o issued) bool { return o.number == n.Number })
	var at Time
	ok := i >= 0
	if ok {
		at = a.issued[i].at
	}
	if n.Process != a.Process {
		if !a.omits(ForTheProcess) {
			return 0, false
		}
		at, ok = now, true
	}
	if a.omits(FromTheNonce) {
		at = now
	}
	end := at + GrantLasts - Fencing
	return end, ok && (now < end || a.omits(NonceRuns))
}

// tell gives the deadman other ends. A longer one is used when it has answered, a
// shorter one at once.
func (a *Agent) tell(to Ends, now Time) Effect {
	a.number++
	a.toldAt = now
	if to.Grant < a.hold.Ends.Grant || to.Pledge < a.hold.Ends.Pledge {
		a.shorter = a.number
	}
	a.hold = Hold{a.number, to}
	a.Held = a.Held.least(to)
	if a.omits(DeadmanTold) {
		a.Held = to
	}
	return TellDeadman{a.hold}
}

// held is the deadman's answer. One to an earlier Hold counts when the later ones, which
// are on their way to it, make no end earlier: where it is told faster than it answers the
// permission would run out otherwise.
func (a *Agent) held(h Held, now Time) []Effect {
	if h.Number < a.shorter || h.Number > a.hold.Number || h.Number < a.kept {
		return nil
	}
	a.Held, a.kept = h.Ends.least(a.hold.Ends), h.Number
	if s := a.standing; s != nil && s.told <= h.Number {
		next := *s
		next.ready = true
		a.standing = &next
	}
	if p := a.pending; p != nil && p.told <= h.Number {
		return a.accept(*p, now)
	}
	return nil
}

// ask notes the newest term and takes a grant.
func (a *Agent) ask(e Ask, now Time) []Effect {
	var do []Effect
	do = append(do, a.note(e.Term)...)
	if g := e.Grant; g != nil {
		if end, ok := a.until(g.Nonce, now); ok && a.takes(*g) && end > a.hold.Ends.Grant {
			do = append(do, a.tell(Ends{end, a.hold.Ends.Pledge}, now))
		}
	}
	return append(do, a.answer(e.Question, now))
}

// takes reports whether a grant's term lets this server write (rule 2).
func (a *Agent) takes(g Grant) bool {
	d := a.Durable
	if g.Term < d.Noted && !a.omits(GrantOfNoted) {
		return false
	}
	return d.Owner && (g.Term == d.Accepted || a.omits(GrantOfOwner)) || a.omits(GrantOfOwner) && !d.Never
}

// note puts a higher term on disk.
func (a *Agent) note(term int64) []Effect {
	if term <= a.Durable.Noted {
		return nil
	}
	a.Durable.Noted = term
	return []Effect{Persist{a.Durable}}
}

// promote makes this server the owner of a new term (rule 5), once the deadman knows
// of the permission. The primary itself may get a newer one in place: it goes on by
// what it has until then.
func (a *Agent) promote(e Promote, now Time) []Effect {
	end, ok := a.until(e.Nonce, now)
	if !ok || !a.obeys(e, now) {
		return []Effect{a.answer(e.Question, now)}
	}
	if a.omits(NonceRuns) {
		end = now + GrantLasts - Fencing
	}
	do := a.tell(Ends{max(end, a.hold.Ends.Grant), a.hold.Ends.Pledge}, now)
	a.pending = &pending{e, end, a.hold.Number}
	return []Effect{do}
}

// obeys reports whether a promotion may be carried out here.
func (a *Agent) obeys(e Promote, now Time) bool {
	d := a.Durable
	return (e.Term >= d.Noted || a.omits(PromoteOfNoted)) &&
		(e.Term > d.Accepted || a.omits(NewTerm) && e.Term == d.Accepted) &&
		(!d.Lost || a.omits(LostIsNever)) &&
		(!d.Never || d.Lost || a.omits(OwnRank)) &&
		(now >= a.Pledged || a.omits(NoPledge)) &&
		(!a.Waits(now) || a.omits(StartWait))
}

// accept takes the term of a promotion that the deadman knows of. Pledges of an
// earlier term end with it: another set gave them.
func (a *Agent) accept(p pending, now Time) []Effect {
	a.pending = nil
	if (now >= p.end && !a.omits(NonceRuns)) || !a.obeys(p.promote, now) {
		return []Effect{a.answer(p.promote.Question, now)}
	}
	term := p.promote.Term
	a.Durable = Durable{State: State{max(a.Durable.Noted, term), term, true}, Set: p.promote.Set}
	a.silent, a.standing, a.question = 0, nil, Question{} // what is in flight was asked in another term
	to := Ends{Grant: p.end}
	if a.omits(PledgesOfTerm) {
		to.Pledge = a.hold.Ends.Pledge
	}
	return []Effect{Persist{a.Durable}, a.tell(to, now), a.answer(p.promote.Question, now)}
}

// standDown ends what this server may, and proves it when nothing can be
// acknowledged here any more (rule 6).
func (a *Agent) standDown(e StandDown, now Time) []Effect {
	d := a.Durable
	if e.Term < d.Noted || e.Term == d.Accepted && d.Owner {
		return []Effect{a.answer(e.Question, now)}
	}
	do := a.note(e.Term)
	if e.Final && d.Owner {
		a.Durable.State = State{e.Term, e.Term, false}
		do = append(do, Persist{a.Durable})
	}
	if !a.omits(DropsAll) {
		a.question = Question{}
		if !a.omits(NoQuestionsYet) {
			a.silent = now + NoQuestions
		}
	}
	a.pending = nil
	to := Ends{}
	if a.omits(DropsAll) {
		to = a.hold.Ends
	}
	do = append(do, a.tell(to, now), a.answer(e.Question, now))
	a.standing = &standing{question: e.Question, term: e.Term, told: a.hold.Number, ready: a.omits(DeadmanFirst)}
	if a.omits(SeenStopped) {
		do = append(do, Send{Message: Proof{a.Name, e.Question, e.Term}})
	}
	return append(do, Kill{})
}

// prove sends the proof once the deadman holds nothing and the database, looked at
// afterwards, has stopped.
func (a *Agent) prove() []Effect {
	s := a.standing
	if s == nil || !s.ready || a.database >= DatabaseOpening {
		return nil
	}
	a.standing = nil
	return []Effect{Send{Message: Proof{a.Name, s.question, s.term}}}
}

// setRank keeps the own rank (rule 9). The owner's is fixed.
func (a *Agent) setRank(e SetRank, now Time) []Effect {
	d := a.Durable
	if e.Term < d.Noted || d.Owner {
		return []Effect{a.answer(e.Question, now)}
	}
	a.Durable.Noted, a.Durable.Never = max(d.Noted, e.Term), e.Never
	if !e.Never || e.Votes {
		a.Durable.Lost = false
	}
	return []Effect{Persist{a.Durable}, a.answer(e.Question, now)}
}
