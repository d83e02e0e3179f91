package agent

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/pki"
)

// Share implements engine.Sharer.
func (f *fakeEngine) Share(_ context.Context, what string, q url.Values, w io.Writer) error {
	if _, err := io.WriteString(w, strings.Repeat("a part of the "+what+" ", 5000)); err != nil {
		return err
	}
	switch q.Get("how") {
	case "fails":
		return errors.New("the disk of the source is gone,\nsaid in 100 % of cases")
	case "dies":
		panic(http.ErrAbortHandler)
	}
	return nil
}

// A stream between agents ends in order or with the reason: half a copy never
// passes for a whole one. Only agents of the same cluster are given anything.
func TestSharedStream(t *testing.T) {
	r := newRig(t)
	gull := verb.Peer{Name: "gull", Agent: r.target.Address}
	as := func(name string) peers {
		t.Helper()
		pair, err := r.authority.Pair(name)
		if err != nil {
			t.Fatal(err)
		}
		return peers{trust(&Agent{cfg: Config{Cluster: "bookings", Server: "tern"}, cert: pair, memory: &memory{}},
			r.authority)}
	}
	tern := as(pki.AgentName("bookings", "tern"))
	for how, want := range map[string]string{"": "", "fails": "the disk of the source is gone,\nsaid in 100 % of cases",
		"dies": "EOF"} {
		s, err := tern.Fetch(permit(t, r.authority, "tern", guard.PermitLife), gull, "copy", url.Values{"how": {how}})
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(s)
		s.Close()
		if want == "" && (err != nil || len(b) != 5000*len("a part of the copy ")) || want != "" &&
			(err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%q: %d bytes, then %v", how, len(b), err)
		}
	}
	for _, name := range []string{pki.AgentName("cargo", "wren"), pki.ServiceName} {
		if _, err := as(name).Fetch(t.Context(), gull, "copy", nil); err == nil ||
			!strings.Contains(err.Error(), "may not ask this") {
			t.Errorf("%s: %v", name, err)
		}
	}
	o, err := r.caller.Observe(t.Context(), r.target, agentapi.ObserveRequest{})
	if err != nil || len(o.Agent.Refused) != 2 || o.Agent.Refused[0].Name != pki.AgentName("cargo", "wren") ||
		o.Agent.Refused[0].From != "127.0.0.1" || o.Agent.Refused[0].At.IsZero() {
		t.Errorf("the service is not told of the refusals: %+v %v", o, err)
	}
	if _, err := tern.Fetch(t.Context(), verb.Peer{Name: "gull", Agent: "127.0.0.1:9"}, "copy", nil); err == nil ||
		!strings.Contains(err.Error(), "ask gull's agent") {
		t.Errorf("nobody there: %v", err)
	}
}

// A peer is given nothing without a permit that the service made for it just now: not
// the agent of a server that was removed, which still has its certificate.
func TestPeersNeedAPermit(t *testing.T) {
	r := newRig(t)
	pair, err := r.authority.Pair(pki.AgentName("bookings", "tern"))
	if err != nil {
		t.Fatal(err)
	}
	stranger, err := pki.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	tern := trust(&Agent{cfg: Config{Cluster: "bookings", Server: "tern"}, cert: pair, memory: &memory{},
		dir: t.TempDir(), engine: &fakeEngine{}}, r.authority)
	gull := verb.Peer{Name: "gull", Agent: r.target.Address}
	for name, c := range map[string]struct {
		ctx  context.Context
		want string
	}{
		"none":          {t.Context(), "no permit of the service is shown"},
		"garbage":       {agentapi.WithPermit(t.Context(), "%%%"), "cannot be read"},
		"another's":     {permit(t, r.authority, "heron", guard.PermitLife), "the permit is for heron"},
		"over":          {permit(t, r.authority, "tern", -time.Minute), "the permit ended at"},
		"for ever":      {permit(t, r.authority, "tern", 24*time.Hour), "longer than any does"},
		"self-made":     {permit(t, stranger, "tern", guard.PermitLife), "is not signed by the service"},
		"the service's": {permit(t, r.authority, "tern", guard.PermitLife), ""},
	} {
		aerr := tern.learnAccount(c.ctx, gull)
		_, ferr := peers{tern}.Fetch(c.ctx, gull, "copy", nil)
		for what, err := range map[string]error{"account": aerr, "copy": ferr} {
			if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
				t.Errorf("%s with %s permit: %v", what, name, err)
			}
		}
	}
}
