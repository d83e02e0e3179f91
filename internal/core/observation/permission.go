package observation

import "crosstwin/internal/core/guard"

// Permission is what an agent says of its server's permission to take writes. Seconds are
// those that are left, by the agent's own clock; 0: none.
type Permission struct {
	// Fencing: without a permission that runs the database is stopped.
	Fencing bool `json:"fencing"`
	// Deadman: the process that stops it, should the agent not live, is there.
	Deadman       bool    `json:"deadman"`
	GrantSeconds  float64 `json:"grant_seconds,omitempty"`  // by the service
	PledgeSeconds float64 `json:"pledge_seconds,omitempty"` // by the other agents
	// PledgedSeconds: so long this server has promised not to become primary.
	PledgedSeconds float64 `json:"pledged_seconds,omitempty"`
	// NeverLeads: its agent refuses every promotion, because it was told that its rank is never,
	// or not yet by a primary of now that it is another one, or because it lost its state.
	NeverLeads bool `json:"never_leads,omitempty"`
	// Set are the servers that have to pledge when the service is away.
	Set []string `json:"set,omitempty"`
	// Answer is for the service's machine; nil when it asked for none.
	Answer *guard.Answer `json:"answer,omitempty"`
}

// Left is for how many seconds the server may still write.
func (p *Permission) Left() float64 {
	if p == nil {
		return 0
	}
	return max(p.GrantSeconds, p.PledgeSeconds)
}
