package view

import (
	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
)

// Referee is an agent without a database, as judged: it notes terms and counts towards the
// majority, and is asked for nothing else.
type Referee struct {
	Name  string `json:"name"`
	Agent string `json:"agent,omitempty"` // address at which the service reaches it
	// Answers: its agent has answered lately; it is counted with the majority only then.
	Answers bool `json:"answers"`
	// Noted is the newest term that it has noted.
	Noted              int64       `json:"noted"`
	LastContactSeconds float64     `json:"last_contact_seconds"` // -1: never
	Cause              cause.Cause `json:"cause"`                // why it does not answer
	Why                string      `json:"why,omitempty"`        // Cause in words
}

func referees(in Input) (out []Referee) {
	for _, m := range in.Referees {
		r := Referee{Name: m.Name, Agent: m.Agent}
		r.LastContactSeconds, r.Cause = contact(in, &m)
		r.Answers = r.Cause.Code == ""
		if m.Last != nil {
			r.Noted = m.Last.Guard.Noted
		}
		out = append(out, r)
	}
	return out
}

// refereeProblem is that a referee does not answer.
func refereeProblem(in Input, r *Referee) (Problem, bool) {
	if r.Answers {
		return Problem{}, false
	}
	why := r.Cause
	p := Problem{Rule: cluster.RuleUnseen, Server: r.Name,
		Cause:  cause.Cause{Code: cause.RefereeSilent, Name: r.Name, Because: &why},
		Remedy: cause.Cause{Code: cause.StartReferee, Cluster: in.Cluster, Server: r.Name}}
	if r.LastContactSeconds < 0 {
		p.SettingUp = true
		p.Remedy.Code = cause.EnrollIt
	}
	return p, true
}
