package view

import (
	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
)

// Gate is an address that applications connect to, as judged.
type Gate struct {
	Name  string `json:"name"`
	Agent string `json:"agent,omitempty"` // address at which the service reaches it
	// Answers: it has answered lately.
	Answers            bool              `json:"answers"`
	LastContactSeconds float64           `json:"last_contact_seconds"` // -1: never
	Cause              cause.Cause       `json:"cause"`                // why it does not answer
	Why                string            `json:"why,omitempty"`        // Cause in words
	Shows              *observation.Gate `json:"shows,omitempty"`      // at the last contact
}

func gates(in Input) (out []Gate) {
	for _, m := range in.Gates {
		g := Gate{Name: m.Name, Agent: m.Agent}
		g.LastContactSeconds, g.Cause = contact(in, &m)
		g.Answers = g.Cause.Code == ""
		if m.Last != nil {
			g.Shows = m.Last.Gate
		}
		out = append(out, g)
	}
	return out
}

// contact is when an agent without a database was heard last, -1 for never, and why it counts
// as silent.
func contact(in Input, m *Member) (seconds float64, silent cause.Cause) {
	seconds = -1
	if m.Last != nil {
		seconds = max(0, in.Now.Sub(m.SeenAt).Seconds())
	}
	switch {
	case !m.Enrolled:
		silent = cause.Cause{Code: cause.NotEnrolled}
	case m.Last == nil:
		silent = cause.Cause{Code: cause.NeverAnswered, Text: m.Problem}
	case seconds > in.Policy.UnseenSeconds:
		silent = cause.Cause{Code: cause.Silent, Seconds: seconds, Text: m.Problem}
	}
	return seconds, silent
}

// gateProblem is that a gate does not answer.
func gateProblem(in Input, g *Gate) (Problem, bool) {
	if g.Answers {
		return Problem{}, false
	}
	why := g.Cause
	p := Problem{Rule: cluster.RuleUnseen, Server: g.Name,
		Cause:  cause.Cause{Code: cause.GateSilent, Name: g.Name, Because: &why},
		Remedy: cause.Cause{Code: cause.StartGate, Cluster: in.Cluster, Server: g.Name}}
	if g.LastContactSeconds < 0 {
		p.SettingUp = true
		p.Remedy.Code = cause.EnrollGate
	}
	return p, true
}
