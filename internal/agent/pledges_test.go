package agent

import (
	"strings"
	"testing"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/pki"
)

// An agent pledges to the owner of a term, by the service's signed decision, and to nobody
// else: not to a peer that somebody has taken over, nor by a decision of another cluster.
func TestPledgesNeedADecision(t *testing.T) {
	r := newRig(t)
	stranger, err := pki.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	signed := func(by *pki.Authority, made string, term int64, owner string) guard.Signed {
		d := guard.Decision{Cluster: "bookings", Made: made, Term: term, Owner: owner}
		signature, err := by.SignStatement(d.Statement())
		if err != nil {
			t.Fatal(err)
		}
		return guard.Signed{Decision: d, Signature: signature}
	}
	if err := r.memory.change(func(s *state) error { s.Lost = false; return nil }); err != nil {
		t.Fatal(err)
	}
	now := signed(r.authority, "now", 3, "heron")
	if err := r.keepDecision(&now); err != nil {
		t.Fatal(err)
	}
	pair, err := r.authority.Pair(pki.AgentName("bookings", "tern"))
	if err != nil {
		t.Fatal(err)
	}
	tern := trust(&Agent{cfg: Config{Cluster: "bookings", Server: "tern"}, cert: pair, memory: &memory{}}, r.authority)
	ask := func(from string, term int64, d guard.Signed) error {
		_, err := tern.askPeer(t.Context(), "gull", r.target.Address,
			agentapi.PledgeQuestion{Ask: guard.PledgeAsk{From: from, Term: term}, Decision: d})
		return err
	}
	unsigned := guard.Signed{Decision: guard.Decision{Cluster: "bookings", Term: 4, Owner: "tern"}}
	for name, err := range map[string]error{
		"unsigned":           ask("tern", 4, unsigned),
		"self-signed":        ask("tern", 4, signed(stranger, "now", 4, "tern")),
		"another's":          ask("tern", 4, signed(r.authority, "now", 4, "heron")),
		"in another's name":  ask("heron", 4, signed(r.authority, "now", 4, "heron")),
		"of another term":    ask("tern", 5, signed(r.authority, "now", 4, "tern")),
		"of another cluster": ask("tern", 9, signed(r.authority, "before", 9, "tern")),
	} {
		if err == nil || !strings.Contains(err.Error(), "403") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if s := r.memory.get(); s.Guard != (guard.State{}) || s.Fencing {
		t.Errorf("a question that was refused changed something: %+v", s)
	}
	if err := ask("tern", 4, signed(r.authority, "now", 4, "tern")); err != nil {
		t.Errorf("the owner's: %v", err)
	}
	if s := r.memory.get(); s.Guard != (guard.State{Noted: 4, Accepted: 4}) || !s.Fencing {
		t.Errorf("who pledged knows the term, and is under fencing: %+v", s)
	}
	// The promise holds: this server cannot be made primary meanwhile, nor opened.
	q := guard.Promote{Question: guard.Question{Process: "service", Number: 1}, Term: 5}
	if a, err := r.caller.PromotePermission(t.Context(), r.target, agentapi.GuardPromote{Promote: q}); err != nil ||
		a.State.Owner || a.Pledged == 0 {
		t.Errorf("promoted against its pledge: %+v %v", a, err)
	}
	if err := r.permission.own(4); err == nil || !strings.Contains(err.Error(), "no permission that runs") {
		t.Errorf("opened without a permission: %v", err)
	}
	if err := ask("tern", 3, signed(r.authority, "now", 3, "tern")); err == nil {
		t.Error("a pledge in an older term")
	}
}

// An agent whose state is lost has no vote and no rank; where fencing is off that means
// nothing.
func TestLostState(t *testing.T) {
	r := newRig(t)
	if !r.memory.get().durable().Lost {
		t.Fatal("an agent without a state file does not say so")
	}
	q := guard.Question{Process: "service", Number: 1}
	a, err := r.caller.AskPermission(t.Context(), r.target, agentapi.GuardAsk{Ask: guard.Ask{Question: q, Term: 7}})
	if err != nil || a == nil || !a.Lost || a.State.Noted != 7 {
		t.Fatalf("%+v %v", a, err)
	}
	if _, err := r.caller.SetRank(t.Context(), r.target, guard.SetRank{Question: q, Term: 7}); err != nil {
		t.Fatal(err)
	}
	if r.memory.get().Lost {
		t.Error("told its rank, it still counts as lost")
	}
	other := newRig(t)
	if _, err := other.caller.Observe(t.Context(), other.target, agentapi.ObserveRequest{}); err != nil {
		t.Fatal(err)
	}
	if other.memory.get().Lost {
		t.Error("lost, although fencing is off")
	}
}

// What is killed may take writes, is under fencing, and is this cluster's: a server that is
// not is left as it is, whoever is told to stand down.
func TestWhatIsKilled(t *testing.T) {
	for name, c := range map[string]struct {
		fencing, judged, foreign bool
		seen                     guard.DatabaseState
		want                     bool
	}{
		"open":           {true, true, false, guard.DatabaseOpen, true},
		"opening":        {true, true, false, guard.DatabaseOpening, true},
		"shut":           {true, true, false, guard.DatabaseShut, false},
		"no fencing":     {false, true, false, guard.DatabaseOpen, false},
		"foreign":        {true, true, true, guard.DatabaseOpen, false},
		"not looked yet": {true, false, false, guard.DatabaseOpen, false},
	} {
		r := newRig(t)
		if err := r.memory.change(func(s *state) error { s.Fencing = c.fencing; return nil }); err != nil {
			t.Fatal(err)
		}
		r.judged, r.foreign, r.permission.seen = c.judged, c.foreign, c.seen
		if r.permission.kills(guard.StandDown{}) != c.want {
			t.Errorf("%s: %t", name, !c.want)
		}
	}
}
