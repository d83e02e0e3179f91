package view

import (
	"cmp"
	"fmt"
	"sort"
	"strings"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

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
		out = append(out, Problem{Rule: cluster.RuleNoPrimary, SettingUp: true, Text: in.Cluster + " has no primary yet", Mend: "add the server that runs as primary: crosstwin server add " + in.Cluster + " NAME --primary"})
	}
	var believe []string
	for _, s := range v.Servers {
		if o := s.Observation; o != nil && s.Health != Unseen && o.Process.Running && o.Process.Role == observation.Primary {
			believe = append(believe, s.Name)
		}
	}
	if len(believe) > 1 {
		out = append(out, Problem{Rule: cluster.RuleTwoPrimaries, Text: List(believe) + " each believe to be primary", Mend: "see what only one of them has: crosstwin tail " + in.Cluster + " " + other(believe, in.Owner)})
	}
	if in.NeedsYou != nil {
		out = append(out, Problem{Rule: cluster.RuleNeedsYou, Text: fmt.Sprintf("operation %d (%s) did not come to its end: it needs you", in.NeedsYou.ID, in.NeedsYou.Kind),
			Mend: fmt.Sprintf("read what was done and what was not: crosstwin operation show %d", in.NeedsYou.ID)})
	}
	r := v.AtRisk
	switch {
	case r.Known && r.Everything && len(v.Servers) > 1:
		out = append(out, Problem{Rule: cluster.RuleAtRisk, Text: "every write is at risk: no replica may take over", Mend: "bring a replica with a rank back: crosstwin status " + in.Cluster})
	case r.Known && !r.Everything && in.Policy.AtRiskBytes > 0 && r.Bytes > in.Policy.AtRiskBytes:
		out = append(out, Problem{Rule: cluster.RuleAtRisk, Text: fmt.Sprintf("at risk: %s, the writes of the last %s", Size(r.Bytes), Span(r.Seconds)), Mend: "see where the bytes wait: crosstwin watch " + in.Cluster})
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

// healthProblem is the problem that a server's health itself is.
func healthProblem(in Input, v *View, s Server) (Problem, bool) {
	if s.Name == v.Primary && s.Health == TakesWrites || s.Health == InStep || s.Health == Seeding {
		return Problem{}, false
	}
	rule := map[Health]cluster.Rule{Adrift: cluster.RuleAdrift, Stalled: cluster.RuleStalled, Behind: cluster.RuleBehind, Unseen: cluster.RuleUnseen, Fenced: cluster.RuleDown, Stopped: cluster.RuleDown, TakesNoWrite: cluster.RuleNoWrites}[s.Health]
	if s.Name == v.Primary {
		rule = cluster.RuleNoWrites
		if s.Health == Unseen {
			rule = cluster.RuleUnseen // silence of its agent alone does not say that it takes no writes
		}
	}
	if o := s.Observation; s.Health == Stalled && o != nil && o.Links.Upstream != nil && !o.Links.Upstream.Connected {
		rule = cluster.RuleLinkDown
	}
	m := findMember(in, s.Name)
	unmade := s.LastContactSeconds < 0 && !m.HeldData || s.Observation != nil && s.Observation.Data.Empty && !m.HeldData && s.Name != v.Primary
	why := s.Why
	if s.Diagnosis != "" && (s.Health == Behind || s.Health == Stalled) {
		why = s.Diagnosis
	}
	mend, fix := mend(in, v, s)
	return Problem{Rule: rule, Server: s.Name, Text: s.Name + " " + s.Health.said() + ifNot(": ", why), Mend: mend, Fix: fix, SettingUp: unmade}, true
}

func slotProblems(in Input, v *View, s Server) (out []Problem) {
	if s.Observation == nil {
		return nil
	}
	for _, x := range s.Observation.Links.Slots {
		reader, ours := verb.SlotOwner(x.Name)
		if ours && findMember(in, reader) == nil {
			reader = "" // left over from a server that was removed
		}
		drop := fmt.Sprintf("drop it on %s if nothing needs it: select pg_drop_replication_slot('%s')", s.Name, x.Name)
		p := Problem{Rule: cluster.RuleSlotFilling, Server: s.Name}
		switch {
		case x.State == "lost" && reader != "":
			p.Text = fmt.Sprintf("slot %s on %s is lost: log that %s needs is gone", x.Name, s.Name, reader)
			p.Mend = fmt.Sprintf("crosstwin seed %s %s --replace", in.Cluster, reader)
		case x.State == "lost":
			p.Text, p.Mend = fmt.Sprintf("slot %s on %s is lost: log that its reader needs is gone", x.Name, s.Name), drop
		case x.Active:
			continue
		case ours && reader == "" && s.Name == v.Primary:
			p.Text, p.Mend = fmt.Sprintf("slot %s on %s belongs to no server of %s and keeps %s of log", x.Name, s.Name, in.Cluster, Size(x.KeptBytes)), drop
		case in.Policy.SlotBytes <= 0 || x.KeptBytes <= in.Policy.SlotBytes:
			continue
		case reader != "":
			p.Text = fmt.Sprintf("slot %s on %s is not being read and keeps %s of log", x.Name, s.Name, Size(x.KeptBytes))
			p.Mend = fmt.Sprintf("bring %s back (crosstwin rejoin %s %s), or remove it: crosstwin server remove %s %s", reader, in.Cluster, reader, in.Cluster, reader)
		default:
			p.Text = fmt.Sprintf("slot %s on %s, which Cross Twin did not make, is not being read and keeps %s of log", x.Name, s.Name, Size(x.KeptBytes))
			p.Mend = "start its reader again, or " + drop
		}
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
	if f := s.LogFull; f != nil && f.Seconds < in.Policy.FullHours*3600 {
		out = append(out, Problem{Rule: cluster.RuleLogFilling, Server: s.Name, Text: f.Text, Mend: f.Mend})
	}
	if in.Policy.ConflictsPerHour > 0 && s.ConflictsPerHour > in.Policy.ConflictsPerHour {
		out = append(out, Problem{Rule: cluster.RuleConflicts, Server: s.Name, Text: fmt.Sprintf("replay cancels %.0f queries an hour on %s", s.ConflictsPerHour, s.Name), Mend: "see the causes and the trade: crosstwin conflicts " + in.Cluster})
	}
	if in.Policy.ClockSeconds > 0 && (s.ClockSkew > in.Policy.ClockSeconds || -s.ClockSkew > in.Policy.ClockSeconds) {
		way := "ahead of"
		if s.ClockSkew < 0 {
			way = "behind"
		}
		out = append(out, Problem{Rule: cluster.RuleClock, Server: s.Name, Text: fmt.Sprintf("the clock of %s is %s %s the service's", s.Name, Span(max(s.ClockSkew, -s.ClockSkew)), way), Mend: "set it by a time server; lag is measured with the service's clock alone and stays right"})
	}
	if left := o.CertificateEnds.Sub(in.Now); !o.CertificateEnds.IsZero() && left.Hours() < certificateDays*24 {
		out = append(out, Problem{Rule: cluster.RuleCertificate, Server: s.Name, Text: fmt.Sprintf("the certificate of %s's agent ends in %s", s.Name, Span(max(0, left.Seconds()))), Mend: fmt.Sprintf("enroll it again: crosstwin server code %s %s, then the command it prints", in.Cluster, s.Name)})
	}
	if s.Name == v.Primary && s.Health == TakesWrites && !o.Data.ClosedByDefault {
		out = append(out, Problem{Rule: cluster.RuleOpen, Server: s.Name, Text: s.Name + " would open for writes if somebody else than its agent started it", Mend: "its agent puts that right by itself; if this stays, read the agent's log"})
	}
	return out
}

// mend says what puts a server right, and names the operation that does, where
// one does.
func mend(in Input, v *View, s Server) (string, *Fix) {
	c := in.Cluster
	switch {
	case v.Operation != nil:
		return fmt.Sprintf("operation %d (%s) is under way: crosstwin operation follow %d", v.Operation.ID, v.Operation.Kind, v.Operation.ID), nil
	case s.Name == v.Primary:
		return fmt.Sprintf("make another server primary: crosstwin failover %s; or start %s again: crosstwin failover %s --to %s", c, s.Name, c, s.Name), &Fix{Kind: operation.Failover}
	case s.Health == Unseen:
		return "see that its agent runs and can be reached at " + cmp.Or(s.Agent, "its address"), nil
	case s.Observation != nil && (s.Observation.Data.Empty || s.Observation.Data.Unfinished == "seed"):
		return fmt.Sprintf("crosstwin seed %s %s", c, s.Name), &Fix{Kind: operation.Seed, Server: s.Name}
	case s.Health == Behind && conflictWait(v.Engine, waitOf(s)) != "":
		if in.Engine == position.EngineMariaDB {
			return "it goes on when that session ends: find it with show processlist on " + s.Name, nil
		}
		return "it goes on when that session ends; the trade between cancelled queries and lag: crosstwin conflicts " + c, nil
	case s.Health == Behind:
		return "watch it: crosstwin watch " + c, nil
	case strings.Contains(s.Why, "looks alive"):
		return fmt.Sprintf("see to the network between %s and %s, and that the receiver on %s is not frozen; it goes on by itself", s.Follows, s.Name, s.Name), nil
	case s.Health == Stalled && s.Follows == v.Primary && v.Find(v.Primary) != nil && v.Find(v.Primary).Health != TakesWrites:
		return "nothing to do on it: it follows again once there is a primary", nil
	case s.Observation != nil && s.Observation.Replay.Paused:
		return "let it go on: " + ResumeReplay(v.Engine) + " on " + s.Name, nil
	case s.Observation != nil && s.Observation.Links.Upstream != nil && s.Observation.Links.Upstream.ApplierProblem != "":
		return fmt.Sprintf("see what differs: crosstwin tail %s %s; then crosstwin rejoin %s %s --way rebuild", c, s.Name, c, s.Name), nil
	}
	return fmt.Sprintf("crosstwin rejoin %s %s", c, s.Name), &Fix{Kind: operation.Rejoin, Server: s.Name}
}

func waitOf(s Server) string {
	if s.Observation == nil {
		return ""
	}
	return s.Observation.Replay.Wait
}

// ResumeReplay is the statement with which a person lets applying go on.
func ResumeReplay(engine string) string {
	if engine == position.EngineMariaDB {
		return "start slave sql_thread"
	}
	return "select pg_wal_replay_resume()"
}
