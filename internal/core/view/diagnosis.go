package view

import (
	"strconv"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
)

// diagnose names the stage at which a replica's bytes wait and why, from facts;
// no cause when nothing waits.
func diagnose(in Input, m Member, s *Server) cause.Cause {
	o := m.Last
	if o == nil || m.Name == in.Owner || !o.Process.Accepting || o.Process.Role != observation.Replica ||
		s.Health == Unseen || s.Health == Adrift {
		return cause.Cause{}
	}
	c := s.Cause
	if s.Lag.Seconds > 0 && s.LagBytes > 0 {
		c.Others = []cause.Cause{{Code: cause.WasAt, Peer: in.Owner, Seconds: s.Lag.Seconds}}
	}
	switch c.Code {
	case cause.ReplayPaused:
		if s.Health != Stalled {
			return cause.Cause{}
		}
		c.Bytes = s.Stages.NotApplied
		return c
	case cause.FollowsNone, cause.Deposed, cause.FollowsStranger, cause.LinkDown, cause.UpstreamSilent,
		cause.ApplierStopped, cause.NothingArrives, cause.PeerSaysNothing:
		return c
	case cause.Delayed:
		c.Bytes, c.Others = s.Stages.NotApplied, nil
		return c
	}
	if s.Health == InStep || s.LagBytes == 0 {
		return cause.Cause{}
	}
	return bytesWait(in, s, o)
}

// bytesWait says at which stage most bytes of a replica wait, and for what.
func bytesWait(in Input, s *Server, o *observation.Server) cause.Cause {
	worst := s.Stages.Worst()
	c := cause.Cause{Code: cause.BytesWait, Server: s.Name, Peer: s.Follows, Stage: worst, Bytes: s.Stages.At(worst),
		Total: s.LagBytes}
	switch worst {
	case cause.NotSent:
		c.Peer = in.Owner
	case cause.NotApplied:
		c.Wait, c.Share, c.Text = dialect.Of(in.Engine).Waits(o)
		if c.Wait == cause.WaitOneThread {
			c.Name = "slave_parallel_threads = 0"
		}
	}
	return c
}

// Forecast says when a disk will be full of log, at the rate of the last minutes.
type Forecast struct {
	// Seconds is negative when it is not known: nothing is written, say.
	Seconds float64 `json:"seconds"`
	// Away are the servers, or slots, that log is kept for.
	Away []string `json:"away"`
	// Text and Mend are rendered from the problem's causes.
	Text string `json:"text"`
	Mend string `json:"mend,omitempty"`

	what, remedy cause.Cause
}

// forecast tells when a server's log fills its disk: only when a server is away, or
// a slot unread, that its log is kept for. Otherwise the server recycles it.
func forecast(in Input, m Member) *Forecast {
	o := m.Last
	free, known := o.Host.LogDiskFreeBytes.Get()
	away, remedy := keptFor(in, m)
	if len(away) == 0 {
		return nil
	}
	f := &Forecast{Seconds: -1, Away: away, remedy: remedy,
		what: cause.Cause{Code: cause.LogKept, Server: m.Name, Names: away}}
	expire, _ := strconv.ParseFloat(o.Config.Live["binlog_expire_logs_seconds"], 64)
	if grows := known && in.WrittenBytesRate > 0; grows {
		f.Seconds = float64(free) / in.WrittenBytesRate
	}
	switch {
	case expire > 0 && (f.Seconds < 0 || f.Seconds > expire):
		return nil // the server removes files by itself before
	case f.Seconds < 0:
		return f
	}
	f.what = cause.Cause{Code: cause.LogFilling, Server: m.Name, Names: away, Seconds: f.Seconds}
	return f
}

// keptFor lists for whom the primary keeps log that nobody reads now, and what
// brings the first of them back.
func keptFor(in Input, m Member) (away []string, remedy cause.Cause) {
	for _, x := range m.Last.Links.Slots {
		if x.Active || x.State == observation.SlotLost {
			continue
		}
		reader, ours := verb.SlotOwner(x.Name)
		name, fix := reader, cause.Cause{Code: cause.BringBack, Cluster: in.Cluster, Peer: reader}
		if !ours || findMember(in, reader) == nil {
			name, fix = "slot "+x.Name, cause.Cause{Code: cause.DropSlot, Cluster: in.Cluster, Server: m.Name, Name: x.Name}
		}
		if len(away) == 0 {
			remedy = fix
		}
		away = append(away, name)
	}
	if dialect.Of(in.Engine).Slots || m.Name != in.Owner || m.Last.Process.Role != observation.Primary {
		return away, remedy
	}
	for _, x := range in.Members {
		if x.Name == in.Owner || !x.Enrolled || x.Last != nil && x.Last.Data.Empty {
			continue
		}
		reads := x.Last != nil && x.Last.Links.Upstream != nil && x.Last.Links.Upstream.Connected &&
			in.Now.Sub(x.SeenAt).Seconds() <= in.Policy.UnseenSeconds
		if reads {
			continue
		}
		if len(away) == 0 {
			remedy = cause.Cause{Code: cause.BringBack, Cluster: in.Cluster, Peer: x.Name}
		}
		away = append(away, x.Name)
	}
	return away, remedy
}
