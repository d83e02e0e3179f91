package failover

import (
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

// rejoinsAfter is how long a server has to have been apart from its cluster before it is
// brought back: whoever started or stopped it may be at it still.
const rejoinsAfter = 10 * time.Second

// CameApart reports whether a server is one that may be brought back without a person: it
// crashed, was fenced, lost its role to another server, or holds writes of its own. One that
// was stopped in order, was open for writes without right, or whose data came from elsewhere
// is left to a person.
func CameApart(v *view.View, s *view.Server) bool {
	o := s.Observation
	if s.Name == v.Primary || o == nil || o.Data.Foreign || o.Data.Strayed || o.Data.Unfinished != "" || o.Data.Empty {
		return false
	}
	switch s.Cause.Code {
	case cause.FencedByAgent, cause.Crashed, cause.Deposed:
		return true
	case cause.PastFork, cause.ExtraGTIDs:
		return s.Health == view.Adrift
	}
	return false
}

// Rejoins decides whether a server is brought back as a replica now, that has been apart
// from its cluster for a while.
func Rejoins(in Input, s *view.Server, apart time.Duration) Decision {
	v, policy := &in.View, in.View.Policy.Automatic
	p := v.Find(v.Primary)
	switch {
	case policy.Rejoin != cluster.RejoinWithoutTail && policy.Rejoin != cluster.RejoinAfterSaving || !CameApart(v, s):
		return Decision{Verdict: Nothing}
	case p == nil || p.Health != view.TakesWrites && p.Cause.Code != cause.SyncWaits || v.Operation != nil ||
		in.WaitsForPerson || apart < rejoinsAfter,
		v.Policy.Maintenance.On(in.Now), in.Now.Before(policy.OffUntil):
		return Decision{Verdict: Wait}
	}
	because := s.Cause
	return Decision{Verdict: Go, Why: cause.Cause{Code: cause.RejoinsByItself, Name: s.Name, Cluster: v.Cluster,
		Because: &because},
		Evidence: []operation.Evidence{{At: in.Now.UTC(), By: s.Name + "'s agent", Of: s.Name, Seen: s.Cause,
			Position: s.Position}}}
}

// RejoinAgain is how long after a rejoin was refused for the nth time, from 1, the next one is
// tried. What refuses it is often over in a moment (a server that is being started, a term
// that is being renewed), and every try looks at the data of every server.
func RejoinAgain(refused int) time.Duration {
	const first, most = 10 * time.Second, 5 * time.Minute
	return min(first<<min(max(refused-1, 0), 10), most)
}

// AcceptsRejoin says why a rejoin is not carried out without a person; empty if it is.
// Invariant: nothing is taken back that was not saved before, and no data is copied over.
func AcceptsRejoin(p *operation.Plan, policy cluster.Rejoin) string {
	way := ""
	for _, w := range p.Ways {
		if w.Chosen {
			way = w.Name
		}
	}
	saved := false
	for i := range p.Steps {
		saved = saved || p.Steps[i].Keep.Kind == verb.FactTail
	}
	switch {
	case way == plan.WayFollow && p.Destroys == "":
		return ""
	case way != plan.WayRewind:
		return "only copying all data again brings it back"
	case policy != cluster.RejoinAfterSaving:
		return "it holds a tail, which is not taken back without a person: " + p.Destroys
	case !saved:
		return "its tail cannot be saved before it is taken back"
	}
	return ""
}
