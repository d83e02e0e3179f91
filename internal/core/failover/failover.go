// Package failover decides whether a cluster is given another primary without a person. It
// is pure: what was seen goes in, and the decision comes out with its reason and with what
// was seen, so that it can be read afterwards. It refuses rather than guesses; whether two
// servers could write at once is not its business, but that of package guard.
package failover

import (
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/view"
)

// Verdict is what a decision comes to.
type Verdict string

// Verdicts. Each but Go goes on to be asked again with every look.
const (
	Nothing Verdict = "nothing" // the primary takes writes, or nobody asked for a decision
	Wait    Verdict = "wait"    // soon it will be known, or the primary comes back
	Refuse  Verdict = "refuse"
	Go      Verdict = "go"
)

// Input is what a decision is made from.
type Input struct {
	View view.View
	Now  time.Time
	// Down is for how long the primary has not been seen to take writes.
	Down time.Duration
	// Last is when the newest automatic failover of the cluster began; zero: never.
	Last time.Time
	// AtRisk is what was at risk when the primary was last seen to take writes.
	AtRisk view.AtRisk
	// StartedAgain: the primary was started again in this outage already, or just before it.
	StartedAgain bool
	// StartFailed: that came to nothing, or takes too long.
	StartFailed bool
	// WaitsForPerson: an operation ended so that somebody has to look.
	WaitsForPerson bool
}

// Decision is a verdict with its reason and what was seen.
type Decision struct {
	Verdict Verdict `json:"verdict"`
	// To is the primary itself where it is started again; empty: whoever is fittest.
	To       string               `json:"to,omitempty"`
	Why      cause.Cause          `json:"why"`
	Evidence []operation.Evidence `json:"evidence,omitempty"`
}

// How long a state has to last before it counts.
const (
	// hungFor is how long a database that runs may not answer, since it was last looked at
	// and did: longer than one look that waits for it in vain.
	hungFor = 6 * time.Second
	// diskHangsFor is how long, in seconds, commits may wait for the primary's disk: a
	// snapshot of its volume can hold it up for a few.
	diskHangsFor = 10.0
	// fresh is how long ago a message of the primary is a sign of life, and freshPledge
	// how much of a pledge is left then, in seconds.
	fresh       = 2.5
	freshPledge = 2.0
	// silentFor is how long, in seconds, a primary has to have been silent when the others
	// are looked at for its signs of life: one that hears the service no more asks them for
	// their pledges within that time.
	silentFor = 3.0
	// reopensFor is how long a primary that was restarted may take to be opened again.
	reopensFor = 15 * time.Second
)

// Decide says whether another server is to become primary now.
func Decide(in Input) Decision {
	v, policy := &in.View, in.View.Policy.Automatic
	p := v.Find(v.Primary)
	if !policy.On || p == nil || p.Health == view.TakesWrites {
		return Decision{Verdict: Nothing}
	}
	refuse := func(c cause.Cause) Decision {
		return Decision{Verdict: Refuse, Why: c, Evidence: evidence(in, p)}
	}
	wait := func(c cause.Cause) Decision { return Decision{Verdict: Wait, Why: c} }
	switch {
	case !v.Policy.Fencing:
		return refuse(cause.Cause{Code: cause.FailoverUnfenced})
	case v.Operation != nil:
		return wait(cause.Cause{Code: cause.FailoverBusy, Text: string(v.Operation.Kind)})
	case in.WaitsForPerson:
		return refuse(cause.Cause{Code: cause.FailoverNeedsYou})
	case v.Policy.Maintenance.On(in.Now):
		return refuse(cause.Cause{Code: cause.FailoverMaintenance, Text: v.Policy.Maintenance.Why})
	case in.Now.Before(policy.OffUntil):
		return refuse(cause.Cause{Code: cause.FailoverOff, Seconds: policy.OffUntil.Sub(in.Now).Seconds()})
	}
	lost, why := gone(in, p)
	switch {
	case lost == Wait:
		return wait(why)
	case lost == Refuse:
		return refuse(why)
	case why.Code == cause.FailoverCrashed && policy.StartSeconds > 0 && !in.StartedAgain:
		return Decision{Verdict: Go, To: p.Name, Evidence: evidence(in, p),
			Why: cause.Cause{Code: cause.StartsAgain, Name: p.Name, Seconds: policy.StartSeconds, Because: &why}}
	case !in.Last.IsZero() && in.Now.Sub(in.Last).Seconds() < policy.QuietSeconds:
		return refuse(cause.Cause{Code: cause.FailoverQuiet, Seconds: policy.QuietSeconds - in.Now.Sub(in.Last).Seconds()})
	case !candidate(v):
		return refuse(cause.Cause{Code: cause.FailoverNobody, Name: p.Name})
	}
	if n := left(v); n < policy.LeastLeft {
		return refuse(cause.Cause{Code: cause.FailoverTooFew, Count: int64(n), Total: int64(policy.LeastLeft)})
	}
	safe, missing := covered(in, p)
	if !missing.IsZero() {
		return refuse(missing)
	}
	if c := tooMuch(in, p); p.Health == view.Unseen && !safe && !c.IsZero() {
		return refuse(c) // otherwise the plan knows it exactly: Accepts
	}
	return Decision{Verdict: Go, Why: why, Evidence: evidence(in, p)}
}

// gone says whether the primary is lost: Go, and why; or why not, or not yet.
func gone(in Input, p *view.Server) (Verdict, cause.Cause) {
	o := p.Observation
	switch {
	case p.Health == view.Unseen && o != nil && !o.Process.NotLetIn:
		return unseen(in, p)
	case o == nil:
		return Refuse, cause.Cause{Code: cause.FailoverUnclear, Name: p.Name}
	case in.StartFailed:
		return Go, cause.Cause{Code: cause.FailoverNoStart, Name: p.Name}
	case p.Cause.Code == cause.Crashed:
		return Go, cause.Cause{Code: cause.FailoverCrashed, Name: p.Name}
	case p.Cause.Code == cause.SyncWaits:
		return Wait, cause.Cause{Code: cause.FailoverSyncWaits, Name: p.Name, Names: p.Cause.Names}
	case p.Cause.Code == cause.DiskHangs:
		if p.Cause.Seconds < diskHangsFor {
			return Wait, cause.Cause{Code: cause.FailoverDisk, Name: p.Name, Seconds: p.Cause.Seconds}
		}
		return Go, cause.Cause{Code: cause.FailoverDisk, Name: p.Name, Seconds: p.Cause.Seconds}
	case p.Cause.Code == cause.StoppedCleanly:
		return Refuse, cause.Cause{Code: cause.FailoverStopped, Name: p.Name}
	case o.Process.Accepting && o.Process.Role == observation.Replica:
		if in.Down < reopensFor {
			return Wait, cause.Cause{Code: cause.FailoverReopens, Name: p.Name}
		}
		return Refuse, cause.Cause{Code: cause.FailoverClosed, Name: p.Name}
	case o.Process.Running && !o.Process.Accepting && !o.Process.Passing && !o.Process.NotLetIn:
		if in.Down < hungFor {
			return Wait, cause.Cause{Code: cause.FailoverHangs, Name: p.Name, Seconds: in.Down.Seconds()}
		}
		return Go, cause.Cause{Code: cause.FailoverHangs, Name: p.Name, Seconds: in.Down.Seconds()}
	}
	return Refuse, cause.Cause{Code: cause.FailoverUnclear, Name: p.Name}
}

// unseen tells a lost host from a lost path: while any replica receives from the primary, or
// was asked for its pledge by it, it lives and writes. Replicas that do not answer say
// nothing, and all that answer have to have lost it.
func unseen(in Input, p *view.Server) (Verdict, cause.Cause) {
	answer, early := 0, false
	for i := range in.View.Servers {
		s := &in.View.Servers[i]
		if s.Name == p.Name || s.Health == view.Unseen || s.Observation == nil {
			continue
		}
		answer++
		early = early || p.LastContactSeconds-s.LastContactSeconds < silentFor
		if _, does := s.ReceivesFrom(p.Name, fresh); does {
			return Refuse, cause.Cause{Code: cause.FailoverPath, Name: p.Name, Peer: s.Name}
		}
		if x := s.Observation.Permission; x != nil && x.PledgedSeconds > freshPledge {
			return Refuse, cause.Cause{Code: cause.FailoverPledged, Name: p.Name, Peer: s.Name}
		}
	}
	for i := range in.View.Referees {
		if in.View.Referees[i].Answers {
			answer++
		}
	}
	if agents := len(in.View.Servers) + len(in.View.Referees); 2*answer <= agents && agents > 2 {
		return Refuse, cause.Cause{Code: cause.FailoverAlone, Count: int64(answer), Name: p.Name}
	}
	lost := cause.Cause{Code: cause.FailoverUnseen, Name: p.Name, Seconds: p.LastContactSeconds}
	if early {
		return Wait, lost
	}
	return Go, lost
}

// covered reports whether enough of those answer that commits waited for: the one that holds most
// of them holds every acknowledged write. Where a cluster may lose none, it is given no other
// primary before that is so.
func covered(in Input, p *view.Server) (bool, cause.Cause) {
	s := in.View.Synchronous
	if s == nil {
		return false, cause.Cause{}
	}
	lossless := s.Mode != synchronous.None && s.AwaySeconds == 0
	if len(s.Promised) == 0 {
		if lossless {
			return false, cause.Cause{Code: cause.FailoverNoPromise, Name: p.Name}
		}
		return false, cause.Cause{}
	}
	ok, lack := synchronous.Covered(s.Promised, func(n string) bool {
		x := in.View.Find(n)
		return x != nil && x.Name != p.Name && x.Health != view.Unseen && x.Observation != nil &&
			x.Observation.Process.Accepting && x.Observation.Log.ProvenTerm > 0 &&
			x.Observation.Log.ProvenTerm >= in.View.KinTerm
	})
	if !ok && s.Mode != synchronous.None {
		c := cause.Cause{Code: cause.FailoverNotCovered, Name: p.Name}
		for _, l := range lack {
			c.Others = append(c.Others, cause.Cause{Code: cause.Answers, Names: l.Names, Count: int64(l.Need)})
		}
		return false, c
	}
	return ok, cause.Cause{}
}

func candidate(v *view.View) bool {
	for _, s := range v.Servers {
		if s.MayTakeOver {
			return true
		}
	}
	return false
}

// left counts the servers that would be there without the primary: they answer, and their
// databases do.
func left(v *view.View) (n int) {
	for i := range v.Servers {
		s := &v.Servers[i]
		runs := s.Observation != nil && s.Observation.Process.Accepting
		if s.Name != v.Primary && runs && (s.Health == view.InStep || s.Health == view.Behind || s.Health == view.Stalled) {
			n++
		}
	}
	return n
}

// tooMuch says that more may be lost than the policy accepts, by what was at risk when the
// primary was last seen.
func tooMuch(in Input, p *view.Server) cause.Cause {
	if policy := in.View.Policy.Automatic; !within(in.AtRisk, policy) {
		return cause.Cause{Code: cause.FailoverLoss, Name: p.Name, Bytes: in.AtRisk.Bytes, Total: policy.LossBytes}
	}
	return cause.Cause{}
}

func within(r view.AtRisk, policy cluster.Automatic) bool {
	return r.Known && !r.Everything && r.Bytes <= policy.LossBytes
}

// Accepts reports whether the loss that a plan names may be had without asking anybody:
// nothing, or as much as the policy says; of what cannot be known, as much as was at risk
// when the primary was last seen.
func Accepts(p *operation.Plan, policy cluster.Automatic, atRisk view.AtRisk) bool {
	switch l := p.Loss; {
	case l == nil:
		return p.ConfirmName == ""
	case !l.Known:
		return within(atRisk, policy)
	case l.Distance.Unit == position.Bytes:
		return l.Distance.Amount <= policy.LossBytes
	default:
		return l.Distance.Amount <= policy.LossTransactions
	}
}

// evidence is what everybody saw of the primary.
func evidence(in Input, p *view.Server) []operation.Evidence {
	at := in.Now.UTC()
	out := []operation.Evidence{{At: at, By: p.Name + "'s agent", Of: p.Name, Seen: p.Cause}}
	if p.Health == view.Unseen {
		out[0].By = "the service"
	}
	for i := range in.View.Servers {
		s := &in.View.Servers[i]
		if s.Name == p.Name {
			continue
		}
		e := operation.Evidence{At: at, By: s.Name + "'s agent", Of: p.Name, Position: s.Received,
			Seen: cause.Cause{Code: cause.LinkDown, Peer: p.Name}}
		ago, does := 0.0, false
		if s.Observation != nil {
			ago, does = s.ReceivesFrom(p.Name, fresh)
		}
		switch o := s.Observation; {
		case s.Health == view.Unseen || o == nil:
			e.By, e.Of, e.Seen, e.Position = "the service", s.Name, cause.Cause{Code: cause.Silent,
				Seconds: s.LastContactSeconds}, ""
		case does:
			e.Seen = cause.Cause{Code: cause.StillReceives, Peer: p.Name, Seconds: ago}
		case o.Links.Upstream != nil:
			e.Seen.Text = o.Links.Upstream.Problem
		}
		out = append(out, e)
	}
	for i := range in.View.Referees {
		r := &in.View.Referees[i]
		e := operation.Evidence{At: at, By: r.Name + " (referee)", Of: r.Name,
			Seen: cause.Cause{Code: cause.RefereeCounts, Count: r.Noted}}
		if !r.Answers {
			e.By, e.Seen = "the service", r.Cause
		}
		out = append(out, e)
	}
	return out
}
