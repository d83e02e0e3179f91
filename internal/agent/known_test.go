package agent

import (
	"slices"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/pki"
)

// Once the service has said which certificates count, a removed server's is good for
// nothing, with a permit and on either side of a call; and what was said goes on while
// nothing more is.
func TestKnownAgents(t *testing.T) {
	r := newRig(t)
	pair, err := r.authority.Pair(pki.AgentName("bookings", "tern"))
	if err != nil {
		t.Fatal(err)
	}
	tern := trust(&Agent{cfg: Config{Cluster: "bookings", Server: "tern"}, cert: pair, dir: t.TempDir(),
		engine: &fakeEngine{}, memory: &memory{}}, r.authority)
	ask := func() error {
		return tern.learnAccount(permit(t, r.authority, "tern", guard.PermitLife),
			verb.Peer{Name: "gull", Agent: r.target.Address})
	}
	told := func(at time.Time, serials ...string) {
		t.Helper()
		req := agentapi.ObserveRequest{}
		if len(serials) > 0 {
			req.Certificates = &agentapi.Certificates{Serials: serials, Changed: at}
		}
		if _, err := r.caller.Observe(t.Context(), r.target, req); err != nil {
			t.Fatal(err)
		}
	}
	earlier, later := time.Now().Add(-time.Minute), time.Now().Add(time.Minute) // than tern's was made
	own, terns := pki.Serial(r.cert.Leaf), pki.Serial(pair.Leaf)
	if err := ask(); err != nil {
		t.Fatalf("nothing was said yet: %v", err)
	}
	told(earlier, own)
	if err := ask(); err != nil {
		t.Errorf("just enrolled or renewed, and not told of yet: %v", err)
	}
	told(later, own)
	if err := ask(); err == nil {
		t.Error("it was enrolled and removed again while this agent was away")
	}
	told(later, own, "5eed")
	if err := ask(); err == nil || !strings.Contains(err.Error(), "is not one that counts") {
		t.Errorf("removed: %v", err)
	}
	told(later)
	if err := ask(); err == nil {
		t.Error("what was said is forgotten")
	}
	o, err := r.caller.Observe(t.Context(), r.target, agentapi.ObserveRequest{})
	if err != nil || len(o.Agent.Refused) != 1 || o.Agent.Refused[0].Name != pki.AgentName("bookings", "tern") {
		t.Errorf("the service is not told of it: %+v %v", o, err)
	}
	told(later, terns, own)
	if err := ask(); err != nil {
		t.Errorf("back again: %v", err)
	}
	tern.memory.s.Certificates = &agentapi.Certificates{Serials: []string{terns, "5eed"}, Changed: later}
	if err := ask(); err == nil || !strings.Contains(err.Error(), "is not one that counts") {
		t.Errorf("it calls a server that was removed: %v", err)
	}
	m, err := openMemory(r.dir)
	if err != nil || !slices.Equal(m.get().Certificates.Serials, []string{terns, own}) {
		t.Errorf("kept over a restart: %v %v", m.get().Certificates, err)
	}
}
