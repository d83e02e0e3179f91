package view

import (
	"cmp"
	"slices"

	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/words"
)

// Assess makes the View.
func Assess(in Input) View {
	v := View{Cluster: in.Cluster, Engine: in.Engine, At: in.Now.UTC(), Term: in.Term, OwnerTerm: in.OwnerTerm,
		KinTerm: cmp.Or(in.KinTerm, in.OwnerTerm), Primary: in.Owner,
		Operation: in.Operation, Policy: in.Policy, Servers: []Server{}, Problems: []Problem{}}
	owner := ownerOf(in)
	v.Servers = slices.Grow(v.Servers, len(in.Members))
	for _, m := range in.Members {
		v.Servers = append(v.Servers, assessServer(in, m, owner))
	}
	for i := range v.Servers {
		v.Servers[i].Position = shown(in, &v.Servers[i], owner)
		v.Servers[i].MayTakeOver, v.Servers[i].Unfit = mayTakeOver(in, &v.Servers[i])
		if v.Servers[i].MayTakeOver {
			v.CanLose++
		}
	}
	if p := v.Find(v.Primary); p != nil && p.Health != TakesWrites && v.CanLose > 0 {
		v.CanLose-- // one of them is needed already
	}
	v.Referees = referees(in)
	v.Gates = gates(in)
	v.Synchronous = assessSynchronous(in, &v, owner)
	v.AtRisk = atRisk(in, &v, owner)
	v.Health = clusterHealth(&v)
	v.Severity = v.Health.Severity()
	v.Problems = problems(in, &v)
	v.Permission = permission(in, &v)
	v.Parts = sentence(in, &v)
	v.Render(words.Say, words.Sentence)
	return v
}

// ownerOf returns the member that owns the term, nil when there is none.
func ownerOf(in Input) *Member {
	for i := range in.Members {
		if in.Members[i].Name == in.Owner && in.Owner != "" {
			return &in.Members[i]
		}
	}
	return nil
}

func assessServer(in Input, m Member, owner *Member) Server {
	s := Server{Name: m.Name, Placement: m.Placement, Agent: m.Agent, Role: observation.Replica, LastContactSeconds: -1,
		Observation: m.Last}
	if m.Name == in.Owner {
		s.Role = observation.Primary
	}
	if o := m.Last; o != nil {
		s.LastContactSeconds = max(0, in.Now.Sub(m.SeenAt).Seconds())
		if !m.ReceivedSince.IsZero() {
			s.ReceivedMovedSeconds = max(0, in.Now.Sub(m.ReceivedSince).Seconds())
		}
		s.ReportsAs = o.Process.Role
		s.Position, s.Received = o.Log.Applied, o.Log.Received
		if o.Process.Role == observation.Primary {
			s.Position = o.Log.Written
		}
		if o.Host.Address.Host != "" {
			s.Address = o.Host.Address.String()
		}
		s.History = position.HistoryName(in.Engine, o.Log.Line)
		s.Follows = followed(in, o)
		s.Link, s.DelaySeconds = linkOf(in, m, s.Follows)
		measureLag(in, m, owner, &s)
		s.ClockSkew = m.ClockSkew
		s.ConflictsPerHour = m.ConflictsPerHour
		s.LogFull = forecast(in, m)
	}
	s.Health, s.Cause = health(in, m, owner, &s)
	s.Severity = s.Health.Severity()
	s.Wait = diagnose(in, m, &s)
	if s.Health == Adrift && owner != nil && owner.Last != nil {
		if f, found := position.ForkBetween(in.Engine, m.Last.Standing(), owner.Last.Standing()); found {
			if x := m.Examined; x != nil && x.TailBytes > 0 && !m.Last.Process.Running {
				f.At, f.TailBytes = x.Fork, x.TailBytes
			}
			s.Fork = &f
		}
	}
	if s.Health == Seeding {
		j := m.Last.Job
		s.Seeding = &Progress{j.DoneBytes, j.TotalBytes, j.BytesPerSec, j.SecondsLeft}
	}
	return s
}

// followed names the member that a server's upstream address belongs to.
func followed(in Input, o *observation.Server) string {
	if o.Process.Role == observation.Primary {
		return ""
	}
	return upstreamOf(in, o)
}

// upstreamOf names the same of any server: one that is open may follow too (MariaDB).
func upstreamOf(in Input, o *observation.Server) string {
	if o.Links.Upstream == nil || o.Links.Upstream.Host == "" {
		return ""
	}
	for _, x := range in.Members {
		if x.Last != nil && x.Last.Host.Address.Host == o.Links.Upstream.Host &&
			x.Last.Host.Address.Port == o.Links.Upstream.Port {
			return x.Name
		}
	}
	return o.Links.Upstream.Address().String()
}

// linkOf says how a replica's link is, and for how long it is delayed.
func linkOf(in Input, m Member, follows string) (Link, float64) {
	switch {
	case follows == "":
		return "", 0
	case in.Now.Sub(m.SeenAt).Seconds() > in.Policy.UnseenSeconds:
		return LinkUnknown, float64(m.Last.Links.Upstream.DelaySeconds)
	case m.Last.Links.Upstream.Connected:
		return LinkConnected, float64(m.Last.Links.Upstream.DelaySeconds)
	}
	return LinkDown, float64(m.Last.Links.Upstream.DelaySeconds)
}

// coordinates reports whether bytes of log are counted by places in log files, apart
// from positions.
func (in Input) coordinates() bool { return dialect.Of(in.Engine).Coordinates }

// scale maps what servers report to bytes of the primary's log: positions
// themselves where they are bytes, else the coordinates of log files. A
// replica's coordinates count in its upstream's log, so they mean something
// here only when it follows the primary.
type scale struct {
	engine string
	owner  *observation.Server
}

func (sc scale) bytes(o *observation.Server, text, coordinates string) (int64, bool) {
	if !dialect.Of(sc.engine).Coordinates {
		return position.Order(sc.engine, text)
	}
	direct := o == sc.owner || o.Links.Upstream != nil && o.Links.Upstream.Host == sc.owner.Host.Address.Host &&
		o.Links.Upstream.Port == sc.owner.Host.Address.Port
	if !direct {
		return 0, false
	}
	return position.Linear(sc.owner.Log.Files, coordinates)
}

func (sc scale) written() (int64, bool) {
	return sc.bytes(sc.owner, sc.owner.Log.Written, sc.owner.Log.WrittenAt)
}
func (sc scale) received(o *observation.Server) (int64, bool) {
	return sc.bytes(o, o.Log.Received, o.Log.ReceivedAt)
}
func (sc scale) applied(o *observation.Server) (int64, bool) {
	return sc.bytes(o, o.Log.Applied, o.Log.AppliedAt)
}

func stages(sc scale, name string, written, received, applied int64) lag.Stages {
	st := lag.Stages{NotApplied: max(0, received-applied)}
	d, ok := sc.owner.DownstreamNamed(name)
	sent, okSent := position.Order(sc.engine, d.Sent)
	if !ok || !okSent {
		st.NotSent = max(0, written-received)
		return st
	}
	got, okGot := position.Order(sc.engine, d.Received)
	if !okGot {
		got = received
	}
	sent, got = min(max(sent, received), max(written, received)), max(got, received)
	st.NotSent = max(0, written-sent)
	st.NotReceived = max(0, sent-got)
	st.NotSafe = max(0, min(got, sent)-received)
	return st
}

func findMember(in Input, name string) *Member {
	for i := range in.Members {
		if in.Members[i].Name == name {
			return &in.Members[i]
		}
	}
	return nil
}

func clusterHealth(v *View) Health {
	worst := TakesWrites
	for _, s := range v.Servers {
		h := s.Health
		if s.Name == v.Primary && h != TakesWrites && h != Unseen {
			h = TakesNoWrite
		}
		if Worse(h, worst) {
			worst = h
		}
	}
	if v.Primary == "" {
		return TakesNoWrite
	}
	return worst
}
