package service

import (
	"testing"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/pki"
	"crosstwin/internal/store"
)

// What an agent says of a term makes nobody its owner, unless this service decided so
// and signed that.
func TestClaims(t *testing.T) {
	s := newService(t, t.TempDir())
	stranger, err := pki.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	sign := func(a *pki.Authority, d guard.Decision) guard.Signed {
		signature, err := a.SignStatement(d.Statement())
		if err != nil {
			t.Fatal(err)
		}
		return guard.Signed{Decision: d, Signature: signature}
	}
	made := time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC)
	decided := func(made time.Time, cluster string, term int64, owner string) guard.Decision {
		return guard.Decision{Cluster: cluster, Made: guard.MadeText(made), Term: term, Owner: owner}
	}
	good := decided(made, "bookings", 9, "heron")
	for _, c := range []struct {
		name    string
		records store.Cluster
		first   bool
		guard   guard.State
		shown   guard.Signed
		takes   int64
		decided bool
		claim   int64
	}{
		{name: "in line with the records", guard: guard.State{Noted: 4, Accepted: 4}},
		{name: "restored records, signed", guard: guard.State{Noted: 9, Accepted: 9, Owner: true},
			shown: sign(s.Authority, good),
			takes: 9, decided: true},
		{name: "no decision at all", guard: guard.State{Noted: 9, Accepted: 9, Owner: true}, takes: 9, claim: 9},
		{name: "signed by another service", guard: guard.State{Noted: 9, Accepted: 9, Owner: true},
			shown: sign(stranger, good), takes: 9, claim: 9},
		{name: "another server's decision", guard: guard.State{Noted: 9, Accepted: 9, Owner: true},
			shown: sign(s.Authority, decided(made, "bookings", 9, "gull")), takes: 9, claim: 9},
		{name: "another cluster's decision", guard: guard.State{Noted: 9, Accepted: 9, Owner: true},
			shown: sign(s.Authority, decided(made, "cargo", 9, "heron")), takes: 9, claim: 9},
		{name: "an older decision", guard: guard.State{Noted: 9, Accepted: 9, Owner: true},
			shown: sign(s.Authority, decided(made, "bookings", 3, "heron")), takes: 9, claim: 9},
		{name: "of a removed cluster of this name", guard: guard.State{Noted: 9, Accepted: 9, Owner: true},
			shown: sign(s.Authority, decided(made.Add(-time.Hour), "bookings", 9, "heron")), takes: 9, claim: 9},
		{name: "a changed decision", guard: guard.State{Noted: 9, Accepted: 9, Owner: true},
			shown: guard.Signed{Decision: good,
				Signature: sign(s.Authority, decided(made, "bookings", 3, "heron")).Signature}, takes: 9, claim: 9},
		{name: "terms used up", guard: guard.State{Noted: 1 << 62, Accepted: 4}, claim: 1 << 62},
		{name: "a running pair", records: store.Cluster{Cluster: cluster.Cluster{Name: "bookings"}}, first: true,
			guard: guard.State{Noted: 7, Accepted: 7, Owner: true}, takes: 8, decided: true},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.records.CreatedAt = made; c.records.Name == "" {
				c.records = store.Cluster{CreatedAt: made,
					Cluster: cluster.Cluster{Name: "bookings", Term: 4, OwnerTerm: 4, Owner: "gull"}}
			}
			m := store.Server{Member: cluster.Member{Name: "heron", FirstPrimary: c.first}}
			o := &observation.Server{Guard: c.guard, Decision: c.shown,
				Process: observation.Process{Accepting: true, Role: observation.Primary}}
			term, decided := s.termToTake(c.records, m, o)
			if term != c.takes || decided != c.decided {
				t.Errorf("term %d is taken over, decided: %t", term, decided)
			}
			if got := s.claimOf(c.records, m, o); got != c.claim {
				t.Errorf("claim %d", got)
			}
		})
	}
}
