package view

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
)

// A referee answers, or is a problem that says what to do; it is never one of the servers.
func TestReferees(t *testing.T) {
	now := time.Date(2026, 12, 1, 3, 0, 0, 0, time.UTC)
	noted := &observation.Server{Guard: guard.State{Noted: 4}}
	referee := func(ago time.Duration) Member {
		return Member{Member: cluster.Member{Enrolled: true}, Last: noted, SeenAt: now.Add(-ago)}
	}
	refuses := Member{Member: cluster.Member{Enrolled: true}, Problem: "connection refused"}
	for name, c := range map[string]struct {
		m    Member
		ok   bool
		says string
	}{
		"answers":    {referee(0), true, ""},
		"silent":     {referee(time.Minute), false, "no answer for 1 min 0 s"},
		"not there":  {Member{}, false, "has not enrolled yet"},
		"never came": {refuses, false, "connection refused"},
	} {
		c.m.Name = "cairn"
		v := Assess(Input{Cluster: "bookings", Engine: "postgresql", Policy: cluster.DefaultPolicy(),
			Referees: []Member{c.m}, Now: now})
		if len(v.Servers) != 0 || len(v.Referees) != 1 || v.Referees[0].Answers != c.ok {
			t.Errorf("%s: %+v", name, v)
		}
		said := ""
		for _, p := range v.Problems {
			if p.Server == "cairn" {
				said = p.Text + " " + p.Mend
			}
		}
		if !strings.Contains(said, c.says) || c.ok != (said == "") {
			t.Errorf("%s: %q", name, said)
		}
	}
}
