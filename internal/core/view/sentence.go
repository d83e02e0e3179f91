package view

import (
	"cmp"
	"slices"

	"crosstwin/internal/core/cause"
)

// sentence collects the parts of a cluster's sentence: whether it takes writes
// and where, what is wrong, who is in step, how many more servers it can lose
// and what is at risk.
func sentence(in Input, v *View) []cause.Cause {
	var parts []cause.Cause
	p := v.Find(v.Primary)
	switch {
	case len(v.Servers) == 0:
		return []cause.Cause{{Code: cause.NoServers, Cluster: in.Cluster}}
	case p == nil:
		parts = append(parts, cause.Cause{Code: cause.NoneYet, Cluster: in.Cluster})
	case p.Health != TakesWrites:
		c := cause.Cause{Code: cause.TakesNone, Cluster: in.Cluster, Server: p.Name, Health: string(p.Health)}
		if !p.Cause.IsZero() {
			why := p.Cause
			c.Because = &why
		}
		parts = append(parts, c)
	default:
		parts = append(parts, cause.Cause{Code: cause.TakesWrites, Cluster: in.Cluster, Server: p.Name, Others: wrong(v)})
	}
	parts = append(parts, steady(v)...)
	if v.Primary != "" {
		parts = append(parts, cause.Cause{Code: cause.CanLose, Count: int64(v.CanLose)})
	}
	switch r := v.AtRisk; {
	case !r.Known:
	case r.Everything:
		parts = append(parts, cause.Cause{Code: cause.AllAtRisk})
	case r.Bytes == 0:
		parts = append(parts, cause.Cause{Code: cause.NoneAtRisk})
	default:
		parts = append(parts, cause.Cause{Code: cause.AtRisk, Bytes: r.Bytes, Seconds: r.Seconds})
	}
	if m := in.Policy.Maintenance; m.On(in.Now) {
		parts = append(parts, cause.Cause{Code: cause.UnderMaintenance, At: m.Until.UTC().Format("2006-01-02 15:04 UTC"),
			Text: m.Why})
	}
	return parts
}

// wrong says of each replica that is not in step how it is, worst first.
func wrong(v *View) (out []cause.Cause) {
	var servers []*Server
	for i := range v.Servers {
		if s := &v.Servers[i]; s.Name != v.Primary && s.Health != InStep {
			servers = append(servers, s)
		}
	}
	slices.SortStableFunc(servers, func(a, b *Server) int { return cmp.Compare(b.Health.Severity(), a.Health.Severity()) })
	for _, s := range servers {
		switch {
		case s.Health == Behind:
			out = append(out, cause.Cause{Code: cause.LagIs, Server: s.Name, Seconds: s.Lag.Seconds, AtLeast: s.Lag.AtLeast})
		default:
			out = append(out, cause.Cause{Code: cause.HealthIs, Server: s.Name, Health: string(s.Health)})
		}
	}
	return out
}

// steady names the replicas that are in step; when the primary does not take
// writes, the others with their state too.
func steady(v *View) (out []cause.Cause) {
	var names []string
	replicas := 0
	for _, s := range v.Servers {
		if s.Name == v.Primary {
			continue
		}
		replicas++
		if s.Health == InStep {
			names = append(names, s.Name)
		}
	}
	switch {
	case replicas == 0:
		return []cause.Cause{{Code: cause.NoReplica}}
	case len(names) > 0:
		return []cause.Cause{{Code: cause.InStep, Names: names}}
	}
	return nil
}
