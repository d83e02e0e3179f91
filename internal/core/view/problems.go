package view

import (
	"slices"
	"sort"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
)

// Problem is one thing that is wrong, why, and what to do.
type Problem struct {
	Rule   cluster.Rule `json:"rule"`
	Server string       `json:"server,omitempty"`
	Cause  cause.Cause  `json:"cause"`
	Remedy cause.Cause  `json:"remedy"`
	// Text and Mend are Cause and Remedy in words.
	Text string `json:"text"`
	Mend string `json:"mend,omitempty"`
	// SettingUp problems belong to a cluster that is being set up: shown, not told.
	SettingUp bool `json:"setting_up,omitempty"`
	// Fix is the operation that puts it right, where one does.
	Fix *Fix `json:"fix,omitempty"`
}

// Fix names an operation that puts a problem right. It is a proposal: the
// operation shows its plan first.
type Fix struct {
	Kind   operation.Kind `json:"kind"`
	Server string         `json:"server,omitempty"`
	To     string         `json:"to,omitempty"`
}

// problems lists what is wrong, worst first.
func problems(in Input, v *View) []Problem {
	out := clusterProblems(in, v)
	for _, s := range v.Servers {
		if p, found := healthProblem(in, v, s); found {
			out = append(out, p)
		}
		out = append(out, slotProblems(in, v, s)...)
		out = append(out, slowProblems(in, v, s)...)
	}
	out = append(out, synchronousProblems(in, v)...)
	for i := range v.Referees {
		if p, found := refereeProblem(in, &v.Referees[i]); found {
			out = append(out, p)
		}
	}
	for i := range v.Gates {
		if p, found := gateProblem(in, &v.Gates[i]); found {
			out = append(out, p)
		}
	}
	place := map[cluster.Rule]int{}
	for i, r := range cluster.Rules {
		place[r] = i
	}
	sort.SliceStable(out, func(i, j int) bool { return place[out[i].Rule] < place[out[j].Rule] })
	return out
}

func clusterProblems(in Input, v *View) []Problem {
	out := []Problem{}
	if in.Owner == "" {
		p := Problem{Rule: cluster.RuleNoPrimary, SettingUp: true,
			Cause:  cause.Cause{Code: cause.NoPrimary, Cluster: in.Cluster},
			Remedy: cause.Cause{Code: cause.AddPrimary, Cluster: in.Cluster}}
		if slices.ContainsFunc(v.Servers, func(s Server) bool { return s.ReportsAs == observation.Primary }) {
			p.Fix = &Fix{Kind: operation.Adopt}
		}
		out = append(out, p)
	}
	var report []string
	for _, s := range v.Servers {
		if o := s.Observation; o != nil && s.Health != Unseen && !o.Data.Foreign && o.Process.Running &&
			o.Process.Role == observation.Primary {
			report = append(report, s.Name)
		}
	}
	if len(report) > 1 && in.Owner != "" {
		out = append(out, Problem{Rule: cluster.RuleTwoPrimaries, Cause: cause.Cause{Code: cause.TwoPrimaries, Names: report},
			Remedy: cause.Cause{Code: cause.SeeTail, Cluster: in.Cluster, Server: other(report, in.Owner)}})
	}
	if n := in.NeedsYou; n != nil {
		out = append(out, Problem{Rule: cluster.RuleNeedsYou,
			Cause:  cause.Cause{Code: cause.NeedsYou, Number: n.ID, Name: string(n.Kind)},
			Remedy: cause.Cause{Code: cause.ReadOperation, Number: n.ID}})
	}
	if c := in.NoFailover; !c.IsZero() {
		out = append(out, Problem{Rule: cluster.RuleNoFailover,
			Cause:  cause.Cause{Code: cause.NoFailover, Cluster: in.Cluster, Because: &c},
			Remedy: cause.Cause{Code: cause.FailoverByHand, Cluster: in.Cluster}})
	}
	r := v.AtRisk
	switch {
	case r.Known && r.Everything && len(v.Servers) > 1:
		out = append(out, Problem{Rule: cluster.RuleAtRisk, Cause: cause.Cause{Code: cause.AllAtRisk},
			Remedy: cause.Cause{Code: cause.BringBackRank, Cluster: in.Cluster}})
	case r.Known && !r.Everything && in.Policy.AtRiskBytes > 0 && r.Bytes > in.Policy.AtRiskBytes:
		out = append(out, Problem{Rule: cluster.RuleAtRisk,
			Cause:  cause.Cause{Code: cause.AtRisk, Bytes: r.Bytes, Seconds: r.Seconds},
			Remedy: cause.Cause{Code: cause.WatchStages, Cluster: in.Cluster}})
	}
	return out
}

func other(names []string, but string) string {
	for _, n := range names {
		if n != but {
			return n
		}
	}
	return but
}

var healthRules = map[Health]cluster.Rule{Adrift: cluster.RuleAdrift, Stalled: cluster.RuleStalled,
	Behind: cluster.RuleBehind, Unseen: cluster.RuleUnseen,
	Fenced: cluster.RuleDown, Stopped: cluster.RuleDown, TakesNoWrite: cluster.RuleNoWrites}

// healthProblem is the problem that a server's health itself is.
func healthProblem(in Input, v *View, s Server) (Problem, bool) {
	if s.Name == v.Primary && s.Health == TakesWrites || s.Health == InStep || s.Health == Seeding {
		return Problem{}, false
	}
	rule := healthRules[s.Health]
	if s.Name == v.Primary {
		rule = cluster.RuleNoWrites
		if s.Health == Unseen {
			rule = cluster.RuleUnseen // silence of its agent alone does not say that it takes no writes
		}
	}
	if s.Health == Stalled && (s.Cause.Code == cause.LinkDown || s.Cause.Code == cause.UpstreamSilent) {
		rule = cluster.RuleLinkDown
	}
	m := findMember(in, s.Name)
	unmade := s.LastContactSeconds < 0 && !m.HeldData || s.Observation != nil && s.Observation.Data.Empty && !m.HeldData &&
		s.Name != v.Primary
	p := Problem{Rule: rule, Server: s.Name,
		Cause: cause.Cause{Code: cause.HealthIs, Server: s.Name, Health: string(s.Health)}, SettingUp: unmade}
	why := s.Cause
	if !s.Wait.IsZero() && (s.Health == Behind || s.Health == Stalled) {
		why = s.Wait
	}
	if !why.IsZero() {
		p.Cause.Because = &why
	}
	p.Remedy, p.Fix = remedy(in, v, s)
	return p, true
}

// remedy says what puts a server right, and names the operation that does, where
// one does.
func remedy(in Input, v *View, s Server) (cause.Cause, *Fix) {
	c := cause.Cause{Cluster: in.Cluster, Server: s.Name}
	with := func(code cause.Code) cause.Cause { c.Code = code; return c }
	primary := v.Find(v.Primary)
	switch {
	case v.Operation != nil:
		return cause.Cause{Code: cause.FollowOperation, Number: v.Operation.ID, Name: string(v.Operation.Kind)}, nil
	case s.Cause.Code == cause.SyncWaits:
		c.Names = s.Cause.Names
		return with(cause.SyncReleases), nil
	case s.Cause.Code == cause.CommitsWait:
		c.Name = dialect.Of(in.Engine).FirstWrite.Setting
		return with(cause.EndSyncWait), nil
	case s.Cause.Code == cause.ReadOnlyBySet:
		c.Text = dialect.Of(in.Engine).ReadOnly.Mend
		return with(cause.LetWrite), nil // another server may well have the same setting
	case s.Cause.Code == cause.NotLetIn:
		return with(cause.LetIn), nil // what is not known is no reason to change the primary
	case s.Cause.Code == cause.NoReads:
		return with(cause.LetRead), nil
	case s.Cause.Code == cause.Doomed && s.Name != v.Primary:
		return with(cause.SeeDisk), nil
	case s.Name == v.Primary && s.Health == Unseen && v.feeds(s.Name):
		c.At = s.Agent
		return with(cause.SeeAgent), nil // its database lives: a failover would stop a sound primary
	case s.Name == v.Primary && in.Policy.Automatic.On && in.NoFailover.IsZero():
		return with(cause.FailsOverSoon), &Fix{Kind: operation.Failover}
	case s.Name == v.Primary:
		return with(cause.MakeAnother), &Fix{Kind: operation.Failover}
	case s.Cause.Code == cause.NotEnrolled:
		return with(cause.EnrollIt), nil
	case s.Health == Unseen:
		c.At = s.Agent
		return with(cause.SeeAgent), nil
	case s.Cause.Code == cause.OpenBefore && s.Cause.Peer != "":
		c.Text = dialect.Of(in.Engine).Shut
		return with(cause.CloseAndAdopt), nil
	case s.Cause.Code == cause.OpensByItself:
		c.Text = dialect.Of(in.Engine).ShutStopped
		return with(cause.CloseAndRejoin), nil
	case s.Observation != nil && s.Observation.Data.Foreign:
		return with(cause.RemoveOrReplace), nil
	case s.Observation != nil && (s.Observation.Data.Empty || s.Observation.Data.Unfinished == observation.UnfinishedSeed):
		return with(cause.SeedIt), &Fix{Kind: operation.Seed, Server: s.Name}
	case s.Health == Behind && s.Cause.Wait.Conflict():
		if dialect.Of(in.Engine).CancelsQueries {
			return with(cause.SeeConflicts), nil
		}
		return with(cause.WaitSession), nil
	case s.Health == Behind:
		return with(cause.WatchIt), nil
	case s.Cause.Code == cause.NothingArrives || s.Cause.Code == cause.PeerSaysNothing:
		c.Peer = s.Follows
		return with(cause.CheckNetwork), nil
	case s.Health == Stalled && s.Follows == v.Primary && primary != nil && awayFor(primary, &s):
		return with(cause.NothingToDo), nil
	case s.Observation != nil && s.Observation.Replay.Paused && s.Cause.Code != cause.LinkDown:
		c.Text = dialect.Of(in.Engine).Resume
		return with(cause.ResumeReplay), nil
	case s.Cause.Code == cause.ApplierStopped && !s.Observation.Links.Upstream.ApplierMayPass:
		return with(cause.TailThenRebuild), &Fix{Kind: operation.Rejoin, Server: s.Name}
	}
	rejoin := with(cause.RejoinIt)
	switch m := findMember(in, s.Name); {
	case m == nil:
	case m.StaysApart != "":
		rejoin.Code, rejoin.Text = cause.RejoinByHand, m.StaysApart
	case m.ComesBack:
		rejoin.Code = cause.RejoinsSoon
	}
	return rejoin, &Fix{Kind: operation.Rejoin, Server: s.Name}
}

// feeds reports whether some replica receives from a server now.
func (v *View) feeds(server string) bool {
	return slices.ContainsFunc(v.Servers, func(s Server) bool {
		_, does := s.ReceivesFrom(server, FreshSeconds)
		return does
	})
}

// awayFor reports whether a replica is stalled because its primary is away. One that waits for
// its replicas is not, and a replica that does not answer itself has its own reason.
func awayFor(primary, replica *Server) bool {
	return primary.Health != TakesWrites && primary.Cause.Code != cause.SyncWaits &&
		primary.Cause.Code != cause.CommitsWait && replica.Observation != nil && replica.Observation.Process.Accepting
}

// slotProblems are slots that are lost, or that keep log which nobody reads.
func slotProblems(in Input, v *View, s Server) (out []Problem) {
	if s.Observation == nil {
		return nil
	}
	for _, x := range s.Observation.Links.Slots {
		reader, ours := verb.SlotOwner(x.Name)
		if ours && findMember(in, reader) == nil {
			reader = "" // left over from a server that was removed
		}
		lost := x.State == observation.SlotLost
		c := cause.Cause{Cluster: in.Cluster, Server: s.Name, Name: x.Name, Peer: reader, Bytes: x.KeptBytes}
		do := c
		do.Code = cause.DropSlot
		p := Problem{Rule: cluster.RuleSlotFilling, Server: s.Name}
		switch {
		case lost:
			c.Code = cause.SlotLost
			if reader != "" {
				do.Code, p.Fix = cause.SeedReplace, &Fix{Kind: operation.Seed, Server: reader}
			}
		case x.Active:
			continue
		case ours && reader == "" && s.Name == v.Primary:
			c.Code = cause.SlotOfNone
		case in.Policy.SlotBytes <= 0 || x.KeptBytes <= in.Policy.SlotBytes:
			continue
		case reader != "":
			c.Code, do.Code, p.Fix = cause.SlotUnread, cause.BringBack, &Fix{Kind: operation.Rejoin, Server: reader}
		default:
			c.Code, do.Code = cause.SlotForeign, cause.StartReader
		}
		p.Cause, p.Remedy = c, do
		out = append(out, p)
	}
	return out
}

// certificateDays is how long before its end a certificate is spoken of.
const certificateDays = 30

// slowProblems are those that come on slowly.
func slowProblems(in Input, v *View, s Server) (out []Problem) {
	o := s.Observation
	if o == nil || s.Health == Unseen {
		return nil
	}
	add := func(rule cluster.Rule, c, do cause.Cause) {
		out = append(out, Problem{Rule: rule, Server: s.Name, Cause: c, Remedy: do})
	}
	here := cause.Cause{Cluster: in.Cluster, Server: s.Name}
	with := func(code cause.Code) cause.Cause { here.Code = code; return here }
	if m := findMember(in, s.Name); m != nil && m.Claim > 0 {
		add(cluster.RuleClaim, cause.Cause{Code: cause.FalseClaim, Server: s.Name, Term: m.Claim}, with(cause.SeeHost))
	}
	if r := o.Agent.Refused; len(r) > 0 {
		last := r[len(r)-1]
		whose := cause.Cause{Code: cause.CallRefused, Server: s.Name, Name: last.Name, Peer: last.Server,
			Cluster: last.Cluster, Text: last.Asks, At: last.From}
		do := whose
		do.Code = cause.SeeKey
		if last.Cluster == in.Cluster && last.Server != "" && findMember(in, last.Server) == nil {
			do.Code = cause.SeeOldKey
		}
		add(cluster.RuleRefused, whose, do)
	}
	if f := s.LogFull; f != nil && f.Seconds >= 0 && f.Seconds < in.Policy.FullHours*3600 {
		add(cluster.RuleLogFilling, f.what, f.remedy)
	}
	if in.Policy.ConflictsPerHour > 0 && s.ConflictsPerHour > in.Policy.ConflictsPerHour {
		add(cluster.RuleConflicts, cause.Cause{Code: cause.ConflictsMany, Server: s.Name,
			Count: int64(s.ConflictsPerHour + 0.5)}, with(cause.SeeConflicts))
	}
	if in.Policy.ClockSeconds > 0 && max(s.ClockSkew, -s.ClockSkew) > in.Policy.ClockSeconds {
		add(cluster.RuleClock, cause.Cause{Code: cause.ClockOff, Server: s.Name, Seconds: s.ClockSkew}, with(cause.SetClock))
	}
	switch wire := o.Agent.Wire; {
	case wire == 0 || wire == observation.Wire:
	case wire < observation.Wire:
		add(cluster.RuleAgent, cause.Cause{Code: cause.AgentOld, Server: s.Name, Text: o.Agent.Version},
			with(cause.UpdateAgent))
	default:
		add(cluster.RuleAgent, cause.Cause{Code: cause.AgentNew, Server: s.Name, Text: o.Agent.Version},
			with(cause.UpdateService))
	}
	ends := o.CertificateEnds
	if e := o.Encryption; e != nil && e.State == observation.ProofAuthority && e.CertificateEnds.Before(ends) {
		ends = e.CertificateEnds // the database's own, by which others follow it
	}
	if left := ends.Sub(in.Now); !ends.IsZero() && left.Hours() < certificateDays*24 {
		add(cluster.RuleCertificate, cause.Cause{Code: cause.CertificateEnd, Server: s.Name, Seconds: left.Seconds()},
			with(cause.EnrollAgain))
	}
	if s.Name == v.Primary && s.Health == TakesWrites && !o.Data.ClosedByDefault {
		add(cluster.RuleOpen, with(cause.OpenByDefault), with(cause.AgentCloses))
	}
	return out
}
