package view

import (
	"cmp"
	"strings"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
)

// commitLimit is for how many seconds a commit may wait for others before its
// primary counts as one that takes no writes.
const commitLimit = 5

// unansweredLimit is how many questions in a row a primary may leave without an answer
// where a failover may begin by itself: three and a half seconds. What follows has to be
// prepared when the primary's permission ends.
const unansweredLimit = 7

// health decides the one word for a server, in order of precedence, and why.
func health(in Input, m Member, owner *Member, s *Server) (Health, cause.Cause) {
	o := m.Last
	silent := in.Now.Sub(m.SeenAt).Seconds()
	switch {
	case !m.Enrolled:
		return Unseen, cause.Cause{Code: cause.NotEnrolled}
	case o == nil:
		return Unseen, cause.Cause{Code: cause.NeverAnswered, Text: m.Problem}
	case silent > in.Policy.UnseenSeconds, in.Policy.Automatic.On && m.Unanswered >= unansweredLimit:
		return Unseen, cause.Cause{Code: cause.Silent, Seconds: s.LastContactSeconds, Text: m.Problem}
	}
	if o.Process.Doomed { // what its data holds cannot be looked at
		return Stopped, cause.Cause{Code: cause.Doomed}
	}
	if c := adrift(in, m, owner); !c.IsZero() {
		return Adrift, c
	}
	switch {
	case o.Job != nil && o.Job.State == observation.JobRunning && (o.Job.Kind == "seed" || o.Job.Kind == "verify"):
		return Seeding, cause.Cause{Code: cause.Copying, Text: o.Job.Note}
	case o.Data.Unfinished != "":
		return Stopped, cause.Cause{Code: cause.Interrupted, Name: o.Data.Unfinished}
	case !o.Process.Running && o.Process.Fenced:
		return Fenced, cause.Cause{Code: cause.FencedByAgent}
	case !o.Process.Running && o.Data.Empty:
		return Stopped, cause.Cause{Code: cause.NoDatabase}
	case !o.Process.Running:
		return Stopped, stoppedHow(o)
	case o.Process.NotLetIn:
		return Unseen, cause.Cause{Code: cause.NotLetIn, Text: o.Process.Problem}
	case !o.Process.Accepting && o.Process.NoReads:
		return Stalled, cause.Cause{Code: cause.NoReads}
	case !o.Process.Accepting:
		return stuck(m.Name == in.Owner), cause.Cause{Code: cause.NoAnswer, Text: o.Process.Problem}
	case m.Name == in.Owner && o.Process.Role == observation.Primary && diskWaits(o) > commitLimit:
		return TakesNoWrite, cause.Cause{Code: cause.DiskHangs, Seconds: diskWaits(o)}
	case m.Name == in.Owner && o.Process.Role == observation.Primary && len(waitsFor(in, &m)) > 0:
		return TakesNoWrite, cause.Cause{Code: cause.SyncWaits, Names: waitsFor(in, &m), Seconds: o.Process.CommitWaits}
	case m.Name == in.Owner && o.Process.Role == observation.Primary && o.Process.CommitWaits > commitLimit:
		return TakesNoWrite, cause.Cause{Code: cause.CommitsWait, Seconds: o.Process.CommitWaits}
	case m.Name == in.Owner && o.Process.Role == observation.Primary && o.Process.Writable:
		return TakesWrites, cause.Cause{}
	case m.Name == in.Owner && o.Process.Role == observation.Primary:
		return TakesNoWrite, cause.Cause{Code: cause.ReadOnlyBySet, Name: dialect.Of(in.Engine).ReadOnly.Setting}
	case m.Name == in.Owner:
		return TakesNoWrite, cause.Cause{Code: cause.RunsAsReplica}
	}
	return replicaHealth(in, m, owner, s)
}

// diskWaits is for how long commits have been waiting for the server's own disk: it hangs,
// or has no room.
func diskWaits(o *observation.Server) float64 {
	if _, full := DiskFull(o); full {
		return max(o.Process.DiskWaits, o.Process.CommitWaits)
	}
	return o.Process.DiskWaits
}

func stuck(owner bool) Health {
	if owner {
		return TakesNoWrite
	}
	return Stalled
}

// stoppedHow tells a clean stop from a crash by what the data records of itself.
func stoppedHow(o *observation.Server) cause.Cause {
	switch {
	case o.Process.Problem != "":
		return cause.Cause{Code: cause.NotRunning, Text: o.Process.Problem}
	case strings.HasPrefix(o.Data.State, observation.StateShutDown):
		return cause.Cause{Code: cause.StoppedCleanly}
	case o.Data.State != "":
		return cause.Cause{Code: cause.Crashed, Text: o.Data.State}
	}
	return cause.Cause{Code: cause.NotRunning}
}

// adrift says why a server holds, or can be making, writes that the current
// history lacks; no cause when there is no sign of it. A stopped server's tail is
// known for certain only to an examination: here only what its observation shows.
func adrift(in Input, m Member, owner *Member) cause.Cause {
	o := m.Last
	if m.Name == in.Owner || in.Owner == "" {
		return cause.Cause{}
	}
	if o.Data.Foreign {
		switch {
		case o.Process.Role == observation.Primary && o.Links.Upstream.Runs():
			return cause.Cause{Code: cause.OpenBefore, Peer: upstreamOf(in, o)}
		case !o.Process.Running && !o.Data.ClosedByDefault && owner != nil && owner.Last != nil &&
			o.Data.System == owner.Last.Data.System:
			return cause.Cause{Code: cause.OpensByItself}
		case o.Data.System != "" && owner != nil && owner.Last != nil && o.Data.System == owner.Last.Data.System:
			return cause.Cause{Code: cause.OpenBefore}
		}
		c := cause.Cause{Code: cause.ForeignOrigin, Peer: in.Owner, At: o.Data.System}
		if owner != nil && owner.Last != nil {
			c.Fork = owner.Last.Data.System
		}
		return c
	}
	if o.Process.Running && o.Process.Role == observation.Primary {
		return cause.Cause{Code: cause.OpenWithoutTerm, Peer: in.Owner, Term: in.OwnerTerm}
	}
	if o.Data.Strayed {
		return cause.Cause{Code: cause.Strayed, Peer: in.Owner}
	}
	switch x := m.Examined; {
	case x == nil || o.Process.Running:
	case x.TailBytes > 0:
		return cause.Cause{Code: cause.PastFork, Peer: in.Owner, At: x.End, Fork: x.Fork}
	case x.Kinship == string(position.Stranger):
		return cause.Cause{Code: cause.Strayed, Peer: in.Owner}
	}
	if owner == nil || owner.Last == nil || owner.Last.Process.Role != observation.Primary {
		if proven(in, o) {
			return cause.Cause{}
		}
		return m.WasAdrift // there is nobody to compare with: it stays until it is proven
	}
	p := position.Parted(in.Engine, o.Standing(), owner.Last.Standing(), owner.AskedAt.After(m.StateSince))
	code := map[position.Parting]cause.Code{position.PartedOrigin: cause.ForeignOrigin,
		position.PartedNumber: cause.OtherHistory, position.PartedPast: cause.PastFork,
		position.PartedExtra: cause.ExtraGTIDs, position.PartedNever: cause.NoAncestor}[p.How]
	if code == "" {
		return cause.Cause{}
	}
	return cause.Cause{Code: code, Peer: in.Owner, At: p.At, Fork: p.Fork, History: p.History, Text: p.Text}
}

// replicaHealth judges a running replica. The causes that stop it come first,
// then those that only look like trouble, then plain distance.
func replicaHealth(in Input, m Member, owner *Member, s *Server) (Health, cause.Cause) {
	o := m.Last
	up := o.Links.Upstream
	ownerUp := owner != nil && owner.Last != nil && owner.Last.Process.Accepting &&
		owner.Last.Process.Role == observation.Primary
	switch {
	case (up == nil || up.Host == "") && m.Deposed:
		return Stalled, cause.Cause{Code: cause.Deposed}
	case up == nil || up.Host == "":
		return Stalled, cause.Cause{Code: cause.FollowsNone}
	case owner != nil && s.Follows != in.Owner && findMember(in, s.Follows) == nil:
		return Stalled, cause.Cause{Code: cause.FollowsStranger, Peer: s.Follows}
	case !up.Connected && ownerUp:
		return Stalled, cause.Cause{Code: cause.LinkDown, Peer: s.Follows, Text: up.Problem}
	case !up.Connected:
		return Stalled, cause.Cause{Code: cause.UpstreamSilent, Peer: s.Follows}
	case up.ApplierProblem != "":
		return Stalled, cause.Cause{Code: cause.ApplierStopped, Text: up.ApplierProblem}
	case o.Replay.Paused && s.Stages.NotApplied > 0:
		return Stalled, cause.Cause{Code: cause.ReplayPaused}
	}
	if c := silentLink(in, m, owner, s); !c.IsZero() {
		return Stalled, c
	}
	still := in.Now.Sub(m.AppliedSince).Seconds()
	switch {
	case delayed(s) && s.Lag.Seconds <= float64(up.DelaySeconds)+in.Policy.BehindSeconds:
		return InStep, cause.Cause{Code: cause.Delayed, Seconds: float64(up.DelaySeconds)}
	case s.LagBytes > 0 && !delayed(s) && !m.AppliedSince.IsZero() && still > in.Policy.StalledSeconds &&
		s.Lag.Seconds > in.Policy.StalledSeconds:
		return Stalled, cause.Cause{Code: cause.NothingApplied, Seconds: still}
	case s.Lag.Known && s.Lag.Seconds > in.Policy.BehindSeconds:
		return Behind, bytesWait(in, s, o)
	case o.Replay.Paused:
		return InStep, cause.Cause{Code: cause.ReplayPaused}
	}
	return InStep, cause.Cause{}
}

func delayed(s *Server) bool {
	o := s.Observation
	return o != nil && o.Links.Upstream != nil && o.Links.Upstream.DelaySeconds > 0
}

// silenceLimit is how long an upstream that has nothing to send may be silent:
// PostgreSQL's sender speaks at least each half of wal_sender_timeout (30 s),
// and a receiver that hears nothing asks then.
const silenceLimit = 40.0

// silentLink finds a connection that both sides still call alive and that moves
// nothing: the primary has written on, and nothing of it came for longer than a
// replica may be behind; or the upstream is silent for longer than it may be.
func silentLink(in Input, m Member, owner *Member, s *Server) cause.Cause {
	o := m.Last
	waits := s.Stages.NotSent + s.Stages.NotReceived
	quiet := in.Now.Sub(m.ReceivedSince).Seconds()
	if owner != nil && s.Follows == in.Owner && waits > 0 && !m.ReceivedSince.IsZero() &&
		quiet > in.Policy.StalledSeconds && s.Lag.Seconds > in.Policy.StalledSeconds {
		return cause.Cause{Code: cause.NothingArrives, Peer: s.Follows, Seconds: quiet}
	}
	if idle := o.Links.Upstream.IdleSeconds; idle > silenceLimit {
		return cause.Cause{Code: cause.PeerSaysNothing, Peer: s.Follows, Seconds: idle}
	}
	return cause.Cause{}
}

// proven reports whether a server was proven to share the history of the present
// term (invariant: numbers are compared among kin only, so nobody else is a
// candidate, whatever its number says).
func proven(in Input, o *observation.Server) bool {
	return o != nil && o.Log.ProvenTerm > 0 && o.Log.ProvenTerm >= cmp.Or(in.KinTerm, in.OwnerTerm)
}

// proofProblem is what the last attempt to prove a server met.
func proofProblem(in Input, name string) string {
	for _, m := range in.Members {
		if m.Name == name {
			return m.ProofProblem
		}
	}
	return ""
}

// diskLeast is what a server needs to change its role at all: settings are written,
// and log.
const diskLeast = 16 << 20

// DiskFull reports whether a server has no room left for data or log, and how much it
// has. What is not known is no reason.
func DiskFull(o *observation.Server) (left int64, full bool) {
	if o == nil {
		return 0, false
	}
	for _, free := range []observation.Maybe[int64]{o.Host.DiskFreeBytes, o.Host.LogDiskFreeBytes} {
		if n, known := free.Get(); known && n < diskLeast {
			return n, true
		}
	}
	return 0, false
}

// mayTakeOver reports whether a server may become primary, and why not.
func mayTakeOver(in Input, s *Server) (bool, cause.Cause) {
	switch {
	case s.Name == in.Owner:
		return false, cause.Cause{Code: cause.IsPrimary}
	case s.Rank == 0:
		return false, cause.Cause{Code: cause.RankNever}
	case s.Observation != nil && len(s.Observation.Log.Filters) > 0:
		return false, cause.Cause{Code: cause.Filtered, Names: s.Observation.Log.Filters} // a filter is no copy
	case s.Observation != nil && len(s.Observation.Log.Filtered) > 0:
		return false, cause.Cause{Code: cause.WasFiltered, Names: s.Observation.Log.Filtered}
	}
	if left, full := DiskFull(s.Observation); full {
		return false, cause.Cause{Code: cause.DiskFull, Bytes: left}
	}
	if o := s.Observation; in.Policy.Fencing && o != nil && (o.Permission == nil || !o.Permission.Deadman) {
		return false, cause.Cause{Code: cause.NoDeadman} // it would get no permission to write
	}
	if o := s.Observation; in.Policy.Fencing && o != nil && o.Permission.Fencing && o.Permission.NeverLeads {
		return false, cause.Cause{Code: cause.RankNotTold} // its agent would not obey
	}
	// A dead primary stalls every replica; what counts is that it answers.
	answers := s.Health == Stalled && s.Observation != nil && s.Observation.Process.Accepting &&
		s.Observation.Process.Role == observation.Replica
	if answers || s.Health == InStep || s.Health == Behind {
		if !proven(in, s.Observation) {
			return false, cause.Cause{Code: cause.NotProven, Peer: in.Owner, Text: proofProblem(in, s.Name)}
		}
		return true, cause.Cause{}
	}
	c := cause.Cause{Code: cause.UnfitNow, Health: string(s.Health)}
	if !s.Cause.IsZero() {
		because := s.Cause
		c.Because = &because
	}
	return false, c
}
