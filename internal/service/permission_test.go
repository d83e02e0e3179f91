package service

import (
	"strings"
	"testing"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/store"
)

// fencedCluster is bookings under fencing in term 3 of gull, as the service remembers it.
func fencedCluster() *watched {
	c := newWatched()
	c.rec = store.Cluster{Cluster: cluster.Cluster{Name: "bookings", Term: 3, OwnerTerm: 3, KinTerm: 3, Owner: "gull",
		Policy: cluster.Policy{Fencing: true}}}
	for i, n := range []string{"gull", "tern", "heron"} {
		c.members = append(c.members, &member{rec: store.Server{Member: cluster.Member{Name: n, Enrolled: true,
			Placement: cluster.Placement{Rank: i + 1}}},
			last: &observation.Server{Permission: &observation.Permission{Fencing: true, Deadman: true}}})
	}
	return c
}

// answers has a server's agent answer the next question.
func (c *watched) answers(server string, s guard.State) {
	q := c.guardAsk(c.member(server))
	c.hear(guard.Answer{Server: server, Question: q.Question, State: s,
		Nonce: guard.Nonce{Process: server, Number: q.Question.Number}})
}

// The owner is granted the next seconds once most agents have answered, and no more from
// the moment on that any agent knows of a newer term: the records may be an older copy.
func TestGrants(t *testing.T) {
	owner, follower := guard.State{Noted: 3, Accepted: 3, Owner: true}, guard.State{Noted: 3, Accepted: 3}
	granted := func(c *watched) bool { return c.guardAsk(c.member("gull")).Grant != nil }
	c := fencedCluster()
	c.answers("gull", owner)
	if granted(c) {
		t.Error("granted by the word of one agent of three")
	}
	c.answers("tern", follower)
	if !granted(c) {
		t.Error("not granted although most agents answered")
	}
	if c.guardAsk(c.member("tern")).Grant != nil {
		t.Error("a replica is granted something")
	}
	c.answers("heron", guard.State{Noted: 1 << 60, Accepted: 3})
	if !granted(c) {
		t.Error("a term that nobody can have opened ends the grants")
	}
	c.answers("heron", guard.State{Noted: 5, Accepted: 3})
	if q := c.guardAsk(c.member("gull")); q.Grant != nil || q.Term != 5 {
		t.Errorf("term 5 was noted, and the owner of term 3 is told %+v", q)
	}
	if _, do, not, _ := c.permissions().Promote(0); do != nil || not != guard.OwnerUnknown {
		t.Errorf("promoted in a term whose owner is not known: %v", not)
	}
}

// Records that are older than what an agent knows do not switch its fencing off; those that
// are in line do.
func TestFencingIsSwitchedOffByNewRecordsOnly(t *testing.T) {
	c := fencedCluster()
	c.rec.Policy.Fencing = false
	for _, x := range []struct {
		state guard.State
		off   bool
	}{{guard.State{Noted: 3, Accepted: 3}, true}, {guard.State{Noted: 4, Accepted: 3}, false},
		{guard.State{Noted: 5, Accepted: 5}, false}} {
		c.member("tern").last.Guard = x.state
		if q := c.guardAsk(c.member("tern")); (q != nil) != x.off || x.off && !q.Off {
			t.Errorf("%+v: told %+v", x.state, q)
		}
	}
}

// A backup of the records from before fencing was switched on: it is on again with the
// decision that they did not know.
func TestRecordsFromBeforeFencing(t *testing.T) {
	s := newService(t, t.TempDir())
	c, err := s.Store.Cluster(t.Context(), "bookings")
	if err != nil {
		t.Fatal(err)
	}
	d := guard.Decision{Cluster: "bookings", Made: guard.MadeText(c.CreatedAt), Term: 4, Owner: "gull"}
	signature, err := s.Authority.SignStatement(d.Statement())
	if err != nil {
		t.Fatal(err)
	}
	o := &observation.Server{Guard: guard.State{Noted: 4, Accepted: 4, Owner: true},
		Decision: guard.Signed{Decision: d, Signature: signature}, Permission: &observation.Permission{Fencing: true}}
	s.settleTerm(t.Context(), c, store.Server{Member: cluster.Member{Name: "gull"}}, o)
	if c, err = s.Store.Cluster(t.Context(), "bookings"); err != nil || c.OwnerTerm != 4 || !c.Policy.Fencing {
		t.Errorf("%+v %v", c, err)
	}
}

func TestMayFence(t *testing.T) {
	for name, x := range map[string]struct {
		change func(*watched)
		on     bool
		want   string
	}{
		"on":                {func(*watched) {}, true, ""},
		"off":               {func(*watched) {}, false, ""},
		"on, in the middle": {func(c *watched) { c.op = &view.Running{ID: 7, Kind: "switchover"} }, true, "operation 7"},
		// Its plan rests on who may write, and until when.
		"off, in the middle": {func(c *watched) { c.op = &view.Running{ID: 7, Kind: "switchover"} }, false, "operation 7"},
		"two":                {func(c *watched) { c.members = c.members[:2] }, true, "three servers"},
		"no primary":         {func(c *watched) { c.rec.Owner = "" }, true, "needs a primary"},
		"one is silent":      {func(c *watched) { c.member("tern").problem = "refused" }, true, "tern's agent has to answer"},
		"an old agent":       {func(c *watched) { c.member("tern").last.Permission = nil }, true, "update it first"},
		"no deadman": {func(c *watched) { c.member("tern").last.Permission.Deadman = false }, true,
			"tern has no deadman"},
	} {
		c := fencedCluster()
		x.change(c)
		if err := c.mayFence(x.on); (err == nil) != (x.want == "") || err != nil && !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
