package view

import (
	"crosstwin/internal/core/cause"
)

// Permission is who may take writes under fencing, and until when.
type Permission struct {
	Server  string  `json:"server"`
	Seconds float64 `json:"seconds"` // left when its agent was last heard; 0: none runs
	// ByPledges: the service's grant has ended, or ends first.
	ByPledges bool `json:"by_pledges"`
	// Set are the servers that have to pledge while the service is away, Silent those of
	// them whose agent does not answer: losing the service stops writes then.
	Set    []string      `json:"set"`
	Silent []string      `json:"silent"`
	Causes []cause.Cause `json:"causes"`
	// Text is Causes in words.
	Text string `json:"text"`
}

// permission tells who may write; nil where fencing is off, or there is no primary.
func permission(in Input, v *View) *Permission {
	s := v.Find(v.Primary)
	if !in.Policy.Fencing || s == nil {
		return nil
	}
	p := &Permission{Server: s.Name, Set: []string{}, Silent: []string{}}
	if s.Observation == nil || s.Observation.Permission == nil || !s.Observation.Permission.Fencing {
		p.Causes = []cause.Cause{{Code: cause.FencingBegins, Name: s.Name}}
		return p
	}
	o := s.Observation.Permission
	p.Seconds, p.ByPledges = o.Left(), o.PledgeSeconds > o.GrantSeconds
	p.Set = append(p.Set, o.Set...)
	for _, n := range p.Set {
		if x := v.Find(n); x == nil || x.Health == Unseen && x.Cause.Code != cause.NotLetIn {
			p.Silent = append(p.Silent, n)
		}
	}
	switch {
	case s.Health == Unseen:
		p.Causes = append(p.Causes, cause.Cause{Code: cause.PermissionUnseen, Name: s.Name})
	case p.Seconds == 0:
		p.Causes = append(p.Causes, cause.Cause{Code: cause.PermissionNone, Name: s.Name})
		if !o.Deadman {
			p.Causes = append(p.Causes, cause.Cause{Code: cause.PermissionNoDeadman, Name: s.Name})
		}
	case p.ByPledges:
		p.Causes = append(p.Causes, cause.Cause{Code: cause.PermissionPledged, Name: s.Name, Names: p.Set,
			Seconds: p.Seconds})
	default:
		p.Causes = append(p.Causes, cause.Cause{Code: cause.PermissionGranted, Name: s.Name, Seconds: p.Seconds})
	}
	if len(p.Silent) > 0 {
		p.Causes = append(p.Causes, cause.Cause{Code: cause.PermissionAlone, Names: p.Silent})
	}
	return p
}
