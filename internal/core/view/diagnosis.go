package view

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

// replicaHealth judges a running replica. The causes that stop it come first,
// then those that only look like trouble, then plain distance.
func replicaHealth(in Input, m Member, owner *Member, s *Server) (Health, string) {
	o := m.Last
	ownerUp := owner != nil && owner.Last != nil && owner.Last.Process.Accepting && owner.Last.Process.Role == observation.Primary
	switch {
	case o.Links.Upstream == nil || o.Links.Upstream.Host == "":
		return Stalled, "it follows nobody"
	case owner != nil && s.Follows != in.Owner && findMember(in, s.Follows) == nil:
		return Stalled, "it follows " + s.Follows + ", which is not a server of this cluster"
	case !o.Links.Upstream.Connected && ownerUp:
		return Stalled, cmp.Or(o.Links.Upstream.Problem, "its link to "+s.Follows+" is down")
	case !o.Links.Upstream.Connected:
		return Stalled, "its link to " + s.Follows + " is down, because " + s.Follows + " does not answer"
	case o.Links.Upstream.ApplierProblem != "":
		return Stalled, "applying stopped: " + o.Links.Upstream.ApplierProblem
	case o.Replay.Paused && s.Stages.NotApplied > 0:
		return Stalled, "replay is paused on it"
	}
	if why := silentLink(in, m, owner, s); why != "" {
		return Stalled, why
	}
	switch {
	case heldBack(s) && s.Lag.Seconds <= float64(o.Links.Upstream.DelaySeconds)+in.Policy.BehindSeconds:
		return InStep, "it is held back on purpose by " + Span(float64(o.Links.Upstream.DelaySeconds))
	case s.LagBytes > 0 && !heldBack(s) && !m.AppliedSince.IsZero() && in.Now.Sub(m.AppliedSince).Seconds() > in.Policy.StalledSeconds && s.Lag.Seconds > in.Policy.StalledSeconds:
		return Stalled, "nothing was applied for " + Span(in.Now.Sub(m.AppliedSince).Seconds())
	case s.Lag.Known && s.Lag.Seconds > in.Policy.BehindSeconds:
		return Behind, stageWords(s.Stages.Worst())
	case o.Replay.Paused:
		return InStep, "replay is paused on it"
	}
	return InStep, ""
}

func heldBack(s *Server) bool {
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
func silentLink(in Input, m Member, owner *Member, s *Server) string {
	o := m.Last
	waits := s.Stages.NotSent + s.Stages.NotReceived
	quiet := in.Now.Sub(m.ReceivedSince).Seconds()
	if owner != nil && s.Follows == in.Owner && waits > 0 && !m.ReceivedSince.IsZero() && quiet > in.Policy.StalledSeconds && s.Lag.Seconds > in.Policy.StalledSeconds {
		return fmt.Sprintf("its link to %s looks alive, and nothing came through it for %s while %s wrote on", s.Follows, Span(quiet), s.Follows)
	}
	if o.Links.Upstream.IdleSeconds > silenceLimit {
		return fmt.Sprintf("its link to %s looks alive, and %s has said nothing for %s", s.Follows, s.Follows, Span(o.Links.Upstream.IdleSeconds))
	}
	return ""
}

func stageWords(stage string) string {
	switch stage {
	case "sent":
		return "the bytes wait on the primary: it or its network is busy"
	case "received", "safe":
		return "the bytes wait between the two: the network or the replica's disk"
	case "applied":
		return "the bytes are on the replica and not applied: replay does not keep up"
	}
	return ""
}

// diagnose names, in one sentence, the stage at which a replica's bytes wait
// and why, from facts; empty when nothing waits.
func diagnose(in Input, m Member, owner *Member, s *Server) string {
	o := m.Last
	if o == nil || m.Name == in.Owner || !o.Process.Accepting || o.Process.Role != observation.Replica || s.Health == Unseen || s.Health == Adrift {
		return ""
	}
	if s.Health == Stalled && (o.Links.Upstream == nil || !o.Links.Upstream.Connected || o.Links.Upstream.ApplierProblem != "" || o.Replay.Paused || silentLink(in, m, owner, s) != "") {
		text := s.Why
		if o.Replay.Paused && strings.HasPrefix(s.Why, "replay is paused") {
			text = fmt.Sprintf("replay is paused: %s wait on its disk", Size(s.Stages.NotApplied))
		}
		if s.Lag.Seconds > 0 && s.LagBytes > 0 {
			text += fmt.Sprintf("; it stands where %s stood %s ago", in.Owner, Span(s.Lag.Seconds))
		}
		return text
	}
	if heldBack(s) && s.Health == InStep {
		return fmt.Sprintf("held back on purpose by %s; %s wait on its disk for their time", Span(float64(o.Links.Upstream.DelaySeconds)), Size(s.Stages.NotApplied))
	}
	if s.Health == InStep || s.LagBytes == 0 {
		return ""
	}
	worst := s.Stages.Worst()
	return fmt.Sprintf("%s of %s wait %s", Size(stageBytes(s.Stages, worst)), Size(s.LagBytes), stageCause(in, s, o, worst))
}

func stageBytes(st lag.Stages, stage string) int64 {
	switch stage {
	case "sent":
		return st.NotSent
	case "received":
		return st.NotReceived
	case "safe":
		return st.NotSafe
	}
	return st.NotApplied
}

// busyShare is the share of one core from which a single process counts as the
// limit.
const busyShare = 0.85

func stageCause(in Input, s *Server, o *observation.Server, stage string) string {
	switch stage {
	case "sent":
		return "on " + in.Owner + ", not yet sent: " + in.Owner + " or its network is busy"
	case "received":
		return "on the way from " + s.Follows + ": the network is slow, or " + s.Name + " does not take them off it"
	case "safe":
		return "for the disk of " + s.Name + ": it received them and has not synced them yet"
	}
	where := "on " + s.Name + ", received and not applied: "
	switch {
	case conflictWait(in.Engine, o.Replay.Wait) != "":
		return where + "replay waits for " + conflictWait(in.Engine, o.Replay.Wait)
	case o.Replay.Busy >= busyShare:
		return where + fmt.Sprintf("replay works in one process, and it uses %.0f %% of a core", o.Replay.Busy*100)
	case strings.HasPrefix(o.Replay.Wait, "IO "):
		return where + "replay waits for the disk (" + strings.TrimPrefix(o.Replay.Wait, "IO ") + ")"
	case in.Engine == position.EngineMariaDB && o.Config.Settings["slave_parallel_threads"] == "0":
		return where + "one thread applies everything (slave_parallel_threads = 0)" + state(o.Replay.Wait)
	}
	return where + "replay does not keep up" + state(o.Replay.Wait)
}

func state(wait string) string {
	if wait == "" {
		return ""
	}
	return ", it says: " + wait
}

// conflictWait says for whom replay waits, empty when for nobody: the names of
// wait events (PostgreSQL, "Wait Events of Type IPC" and "BufferPin") and of
// thread states (MariaDB).
func conflictWait(engine, wait string) string {
	if engine == position.EngineMariaDB {
		if strings.HasPrefix(wait, "Waiting for table") || strings.Contains(wait, "metadata lock") {
			return "a session that holds a table (" + wait + ")"
		}
		return ""
	}
	switch {
	case strings.HasSuffix(wait, "RecoveryConflictSnapshot"):
		return "a query that still needs rows which it removes"
	case strings.HasSuffix(wait, "RecoveryConflictTablespace"):
		return "a query that uses a tablespace which it drops"
	case strings.HasPrefix(wait, "Lock "):
		return "a query that holds a lock on a table (" + strings.TrimPrefix(wait, "Lock ") + ")"
	case strings.HasPrefix(wait, "BufferPin"):
		return "a query that holds a page"
	}
	return ""
}

// Forecast says when a disk will be full of log, at the rate of the last minutes.
type Forecast struct {
	Seconds float64 `json:"seconds"`
	Text    string  `json:"text"`
	Mend    string  `json:"mend,omitempty"`
}

// forecast tells when the log of the primary fills its disk: only when a
// server is away that its log is kept for. Otherwise the server recycles it.
func forecast(in Input, m Member) *Forecast {
	o := m.Last
	free, known := o.Host.LogDiskFreeBytes.Get()
	if m.Name != in.Owner || o.Process.Role != observation.Primary || !known || in.WrittenBytesRate <= 0 {
		return nil
	}
	var away []string
	for _, x := range o.Links.Slots {
		reader, ours := verb.SlotOwner(x.Name)
		if !x.Active && ours && x.State != "lost" && findMember(in, reader) != nil {
			away = append(away, reader)
		}
	}
	if in.Engine == position.EngineMariaDB {
		for _, x := range in.Members {
			if x.Name != in.Owner && x.Enrolled && (x.Last == nil || !x.Last.Data.Empty) && (x.Last == nil || x.Last.Links.Upstream == nil || !x.Last.Links.Upstream.Connected || in.Now.Sub(x.SeenAt).Seconds() > in.Policy.UnseenSeconds) {
				away = append(away, x.Name)
			}
		}
	}
	if len(away) == 0 {
		return nil
	}
	f := &Forecast{Seconds: float64(free) / in.WrittenBytesRate}
	if expire, err := strconv.ParseFloat(o.Config.Live["binlog_expire_logs_seconds"], 64); err == nil && expire > 0 && f.Seconds > expire {
		return nil // the server removes files by itself before
	}
	verb := "is"
	if len(away) > 1 {
		verb = "are"
	}
	f.Text = fmt.Sprintf("%s %s away; the log disk of %s is full in %s", List(away), verb, m.Name, Span(f.Seconds))
	f.Mend = fmt.Sprintf("bring %s back (crosstwin rejoin %s %s), or release its log: crosstwin server remove %s %s", away[0], in.Cluster, away[0], in.Cluster, away[0])
	return f
}
