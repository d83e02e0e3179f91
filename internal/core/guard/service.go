package guard

import (
	"maps"
	"slices"
)

// Decided is what the service's records hold of a cluster: they are synced before any
// message of that term (rule 1). An unknown owner is "".
type Decided struct {
	Term  int64  `json:"term"`
	Owner string `json:"owner"`
}

// Member is one agent of a cluster, as the records have it.
type Member struct {
	Name    string
	Never   bool
	Referee bool // no database: it notes terms and counts towards the majority
}

// LacksVote reports whether an agent that never leads has no vote, and would get it by
// being told so again (SetRank).
func (s Service) LacksVote(m Member) bool {
	return m.Never && s.heard[m.Name].answer.Lost && (s.Settled() || s.omits(VoteOfKnown))
}

// heard is the newest answer of an agent to this process.
type heard struct {
	answer Answer
	at     Time
}

// Service is the machine of the service for one cluster. Only its methods change it.
type Service struct {
	Process string // random, another one at each start
	Decided Decided
	Members []Member
	Omit    Rule
	// Sealed: a counter outside the records says that they are the newest, or a person
	// does. Two servers need it while one does not answer (rule 11).
	Sealed bool
	// Until is when each server that was ever granted or promoted is past it (W).
	Until map[string]Time

	opened  int64 // the newest term that this process opened itself
	started Time
	heard   map[string]heard
	proven  map[string]int64 // the term under which a server was proven to have stopped
	number  int64
}

// StartService begins a process: until W has passed, every server may have a grant
// of an earlier one.
func StartService(process string, d Decided, members []Member, omit Rule, now Time) Service {
	s := Service{Process: process, Decided: d, Members: members, Omit: omit,
		Until: map[string]Time{}, heard: map[string]heard{}, proven: map[string]int64{}, started: now}
	for _, m := range members {
		if !s.omits(AllGranted) {
			s.Until[m.Name] = now + GrantWait
		}
	}
	return s
}

func (s *Service) omits(r Rule) bool { return s.Omit&r != 0 }

func (s Service) clone() Service {
	s.Until, s.heard, s.proven = maps.Clone(s.Until), maps.Clone(s.heard), maps.Clone(s.proven)
	return s
}

// Step takes an agent's answer or its proof.
func (s Service) Step(e Event, now Time) (Service, []Effect) {
	s = s.clone()
	switch e := e.(type) {
	case Answer:
		if e.Question.Process != s.Process {
			return s, nil
		}
		if n := s.heard[e.Server].answer.Nonce; n.Process != e.Nonce.Process || e.Nonce.Number > n.Number {
			s.heard[e.Server] = heard{e, now}
		}
		if e.State.Noted > s.Decided.Term && !s.omits(AdoptsHigher) {
			s.Decided = Decided{Term: e.State.Noted} // another owner than is known
			return s, []Effect{Record{s.Decided}}
		}
	case Proof:
		if (e.Question.Process == s.Process || s.omits(ProofToProcess)) &&
			(e.Term == s.Decided.Term && e.Term == s.opened || s.omits(ProofOfTerm)) &&
			(e.Server != s.Decided.Owner || s.omits(ProofOfOther)) {
			s.proven[e.Server] = s.Decided.Term
		}
	}
	return s, nil
}

// Ask polls one agent, and brings the owner of the term its grant.
func (s Service) Ask(server string, now Time) (Service, Effect) {
	s = s.clone()
	ask := Ask{Question: s.ask(), Term: s.Decided.Term}
	h, ok := s.heard[server]
	if ok && server == s.Decided.Owner && (s.Settled() || s.omits(HeardMajority)) &&
		now < h.at+GrantLasts && h.answer.State.Owner && h.answer.State.Accepted == s.Decided.Term {
		ask.Grant = &Grant{s.Decided.Term, h.answer.Nonce}
		s.granted(server, h.at)
	}
	return s, Send{server, ask}
}

func (s *Service) ask() Question {
	s.number++
	return Question{s.Process, s.number}
}

// granted counts from the receipt of the nonce (rule 3).
func (s *Service) granted(server string, heard Time) {
	s.Until[server] = max(s.Until[server], heard+GrantWait)
	delete(s.proven, server)
}

// Settled reports whether enough agents answered this process for it to know the
// newest term (rule 11). Of two, both are needed, or the seal.
func (s Service) Settled() bool {
	n := 0
	for _, m := range s.Members {
		if h, ok := s.heard[m.Name]; ok && !h.answer.Lost {
			n++
		}
	}
	return n > len(s.Members)/2 || len(s.Members) == 2 && s.Sealed && n > 0
}

// noted reports whether a majority noted the term in answer to this process (rule 4);
// of two servers, the candidate.
func (s Service) noted(candidate string) bool {
	n := 0
	for _, m := range s.Members {
		h, ok := s.heard[m.Name]
		if ok && !h.answer.Lost && h.answer.State.Noted == s.Decided.Term {
			n++
			if len(s.Members) == 2 && m.Name == candidate {
				return true
			}
		}
	}
	return n > len(s.Members)/2
}

// OpenTerm decides that a server shall own a new term. It is the one decision: whoever
// wants another owner opens another term.
func (s Service) OpenTerm(owner string, now Time) (Service, []Effect) {
	if !s.Settled() && !s.omits(HeardMajority) {
		return s, nil
	}
	s = s.clone()
	s.Decided = Decided{s.Decided.Term + 1, owner}
	s.opened = s.Decided.Term
	return s, []Effect{Record{s.Decided}}
}

// NotYet is why a promotion cannot be sent yet.
type NotYet int

// Reasons.
const (
	Now           NotYet = iota
	OwnerUnknown         // a term is to be opened first
	NotSettled           // too few agents answered this process
	NotHeard             // the candidate has not answered in this term
	TooFewNoted          // no majority noted the term
	MayStillWrite        // another server's permission may run
)

// Promote sends the promotion to the owner of the term, when nobody else can write
// (rules 4 and 5), or says what it waits for, and for which server.
func (s Service) Promote(now Time) (Service, []Effect, NotYet, string) {
	owner := s.Decided.Owner
	h, ok := s.heard[owner]
	switch {
	case owner == "":
		return s, nil, OwnerUnknown, ""
	case !s.Settled() && !s.omits(HeardMajority):
		return s, nil, NotSettled, ""
	case !ok || h.answer.State.Noted != s.Decided.Term && !s.omits(Majority):
		return s, nil, NotHeard, owner
	case !s.noted(owner) && !s.omits(Majority):
		return s, nil, TooFewNoted, ""
	}
	if other, ok := s.MayWrite(owner, now); ok && !s.omits(OthersPast) {
		return s, nil, MayStillWrite, other
	}
	s = s.clone()
	p := Promote{Question: s.ask(), Term: s.Decided.Term, Nonce: h.answer.Nonce, Set: s.Set()}
	if !s.omits(PromiseCounts) {
		s.granted(owner, h.at)
	}
	return s, []Effect{Send{owner, p}}, Now, ""
}

// MayWrite names a server, other than the candidate, that may still have a permission
// of the service's.
func (s Service) MayWrite(candidate string, now Time) (string, bool) {
	for _, m := range s.Members {
		if m.Name != candidate && !m.Referee && now < s.Until[m.Name] && s.proven[m.Name] != s.Decided.Term {
			return m.Name, true
		}
	}
	return "", false
}

// Set are the servers that have to pledge in the new term: all but the owner, and
// those that shall never lead and whose own agent answered this term that it does not.
// One that shall become eligible is in it before it learns so.
func (s Service) Set() []string {
	var set []string
	for _, m := range s.Members {
		h := s.heard[m.Name]
		never := m.Never && h.answer.Never && h.answer.State.Noted == s.Decided.Term
		if s.omits(WholeSet) {
			never = m.Never
		}
		if m.Name != s.Decided.Owner && !m.Referee && !never {
			set = append(set, m.Name)
		}
	}
	return set
}

// Follow takes over what the records hold by now. Opened: this process wrote it. It was
// written once, synced, before any message of that term (rule 1), so that a later process
// may carry the term on; it has to wait where the one that opened it could have a server
// prove itself.
func (s Service) Follow(d Decided, opened bool, members []Member) Service {
	s.Decided, s.Members = d, members
	for _, m := range members {
		if _, known := s.Until[m.Name]; !known {
			s = s.clone()
			s.Until[m.Name] = s.started + GrantWait
		}
	}
	if opened {
		s.opened = d.Term
	}
	return s
}

// OpenedHere reports whether this process opened the present term: only then a proof
// counts.
func (s Service) OpenedHere() bool { return s.opened == s.Decided.Term && s.Decided.Owner != "" }

// StandDown asks a server of an earlier term to stop and to prove it: one that this
// process wants to promote another server in place of.
func (s Service) StandDown(server string, final bool) (Service, []Effect) {
	if !s.OpenedHere() || server == s.Decided.Owner {
		return s, nil
	}
	s = s.clone()
	return s, []Effect{Send{server, StandDown{s.ask(), s.Decided.Term, final}}}
}

// Proven reports whether a server was proven to have stopped in the present term.
func (s Service) Proven(server string) bool {
	return s.proven[server] == s.Decided.Term && s.Decided.Term > 0
}

// SetRank tells a server that it never leads, or that it may: the latter only after
// the owner of the present term accepted it with this server in its set (rule 9). One that
// never leads, and has no vote because it is new or lost its state, gets it back once a
// majority without it has answered this process: whatever term it ever noted with others,
// one of these noted too, and it is told the newest.
func (s Service) SetRank(server string, never bool) (Service, []Effect) {
	a := s.heard[s.Decided.Owner].answer
	accepted := a.State.Owner && a.State.Accepted == s.Decided.Term && slices.Contains(a.Set, server)
	if !never && !accepted && !s.omits(EligibleLast) {
		return s, nil
	}
	s = s.clone()
	votes := s.LacksVote(Member{Name: server, Never: never})
	return s, []Effect{Send{server, SetRank{s.ask(), s.Decided.Term, never, votes}}}
}

// Heard gives the newest answer of an agent to this process, and when it came.
func (s Service) Heard(server string) (Answer, Time, bool) {
	h, ok := s.heard[server]
	return h.answer, h.at, ok
}
