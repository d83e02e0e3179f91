package agent

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/pki"
)

// A certificate is renewed for a key that the agent made, under the agent's own name,
// and lasts over a restart; anything else is refused and changes nothing.
func TestRenewal(t *testing.T) {
	r := newRig(t)
	before := r.certificate().Leaf.NotAfter
	name := pki.AgentName("bookings", "gull")
	stranger, err := pki.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	other, _, err := pki.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	own := func(sign func([]byte) ([]byte, error)) func(agentapi.Renewal) (agentapi.Renewal, error) {
		return func(asked agentapi.Renewal) (agentapi.Renewal, error) {
			b, err := sign([]byte(asked.Request))
			return agentapi.Renewal{Certificate: string(b)}, err
		}
	}
	for what, sign := range map[string]func([]byte) ([]byte, error){
		"not this agent's": func(b []byte) ([]byte, error) { return r.authority.SignRequest(b, pki.ServiceName) },
		"another key": func([]byte) ([]byte, error) {
			return r.authority.Sign(name, &other.PublicKey, time.Hour)
		},
		"unknown authority":    func(b []byte) ([]byte, error) { return stranger.SignRequest(b, name) },
		"holds no certificate": func([]byte) ([]byte, error) { return []byte("hello"), nil },
	} {
		if err := r.caller.Renew(t.Context(), r.target, own(sign)); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if _, err := loadPair(r.dir); err == nil || !r.certificate().Leaf.NotAfter.Equal(before) {
		t.Error("a refused certificate was kept")
	}
	if err := r.caller.Renew(t.Context(), r.target, own(func(b []byte) ([]byte, error) {
		return r.authority.SignRequest(b, name)
	})); err != nil {
		t.Fatal(err)
	}
	kept, err := loadPair(r.dir)
	if err != nil {
		t.Fatal(err)
	}
	if end := r.certificate().Leaf.NotAfter; !kept.Leaf.NotAfter.Equal(end) || time.Until(end) > pki.AgentLife ||
		time.Until(end) < pki.AgentLife-time.Hour {
		t.Errorf("the new certificate ends at %s, the kept one at %s", end, kept.Leaf.NotAfter)
	}
	if err := r.as(t, name).Renew(t.Context(), r.target, nil); code(err) != "forbidden" {
		t.Errorf("an agent may renew: %v", err)
	}
}
