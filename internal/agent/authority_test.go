package agent

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/pki"
)

// An authority is exchanged step by step while the agent runs: at none of them does agent
// or service refuse the other, and after the last one the former authority proves nothing.
func TestAuthorityIsExchanged(t *testing.T) {
	r := newRig(t)
	name := pki.AgentName("bookings", "gull")
	former, err := r.authority.Pair(pki.ServiceName)
	if err != nil {
		t.Fatal(err)
	}
	formerPool := r.authority.Pool()
	tell := func() error {
		text := r.authority.PEM()
		signature, err := r.authority.SignStatement(pki.AuthoritiesStatement(text))
		if err != nil {
			t.Fatal(err)
		}
		return r.caller.Trust(t.Context(), r.target, agentapi.Authorities{Certificates: string(text), Signature: signature})
	}
	renew := func() error {
		return r.caller.Renew(t.Context(), r.target, func(asked agentapi.Renewal) (agentapi.Renewal, error) {
			b, err := r.authority.SignRequest([]byte(asked.Request), name)
			return agentapi.Renewal{Certificate: string(b)}, err
		})
	}
	// observe is as the service does it after each step.
	observe := func(step string) {
		t.Helper()
		pair, err := r.authority.Pair(pki.ServiceName)
		if err != nil {
			t.Fatal(err)
		}
		r.caller.Use(pair, r.authority.Pool())
		o, err := r.caller.Observe(t.Context(), r.target, agentapi.ObserveRequest{Term: 1})
		if err != nil {
			t.Fatalf("%s: %v", step, err)
		}
		if want := pki.SignedBy(r.certificate().Leaf, r.authority.Trusted()); o.CertificateBy != want {
			t.Errorf("%s: the agent's certificate is by %q, not %q", step, o.CertificateBy, want)
		}
	}
	must := func(step string, err error) {
		t.Helper()
		if err != nil {
			t.Fatalf("%s: %v", step, err)
		}
		observe(step)
	}
	must("introduce", r.authority.Introduce())
	must("tell of both", tell())
	if got := pki.Fingerprints(r.authorities()); len(got) != 2 {
		t.Errorf("the agent trusts %q", got)
	}
	must("switch", r.authority.Switch())
	must("tell which one signs", tell())
	must("renew", renew())
	must("forget", r.authority.Forget())
	must("tell to forget", tell())

	as := agentapi.NewCaller(former, formerPool)
	if _, err := as.Observe(t.Context(), r.target, agentapi.ObserveRequest{}); err == nil {
		t.Error("the service's certificate of the former authority still lets somebody in")
	}
	kept, err := os.ReadFile(filepath.Join(r.dir, authorityFile))
	if err != nil || string(kept) != string(r.authority.PEM()) {
		t.Errorf("kept over a restart: %s %v", kept, err)
	}
}

// Nobody is trusted because somebody with the service's certificate says so: it takes the
// authority's signature. Nor does an agent agree to trust whom its own certificate is not
// of: the service could not reach it any more.
func TestAuthoritiesHaveToBeSigned(t *testing.T) {
	r := newRig(t)
	stranger, err := pki.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	sign := func(by *pki.Authority, text []byte) []byte {
		signature, err := by.SignStatement(text)
		if err != nil {
			t.Fatal(err)
		}
		return signature
	}
	both := slices.Concat(r.authority.PEM(), stranger.PEM())
	d := guard.Decision{Cluster: "bookings", Term: 1, Owner: "gull"}
	for what, c := range map[string]struct {
		a    agentapi.Authorities
		want string
	}{
		"by the stranger": {agentapi.Authorities{Certificates: string(both),
			Signature: sign(stranger, pki.AuthoritiesStatement(both))}, "not signed by one"},
		"without a signature": {agentapi.Authorities{Certificates: string(both)}, "not signed by one"},
		"with that of another statement": {agentapi.Authorities{Certificates: string(both),
			Signature: sign(r.authority, d.Statement())}, "not signed by one"},
		"the stranger alone": {agentapi.Authorities{Certificates: string(stranger.PEM()),
			Signature: sign(r.authority, pki.AuthoritiesStatement(stranger.PEM()))}, "has to be renewed first"},
		"nothing": {agentapi.Authorities{Certificates: "hello"}, "no certificate"},
	} {
		if err := r.caller.Trust(t.Context(), r.target, c.a); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", what, err)
		}
		if got := pki.Fingerprints(r.authorities()); len(got) != 1 || got[0] != r.authority.Fingerprint() {
			t.Fatalf("%s: the agent trusts %q", what, got)
		}
	}
	tern := r.as(t, pki.AgentName("bookings", "tern"))
	if err := tern.Trust(t.Context(), r.target, agentapi.Authorities{}); code(err) != "forbidden" {
		t.Errorf("an agent names authorities: %v", err)
	}
}
