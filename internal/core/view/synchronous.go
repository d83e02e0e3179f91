package view

import (
	"cmp"
	"slices"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/verb"
)

// Synchronous is whom the commits of a cluster wait for, and what is promised of that.
type Synchronous struct {
	Mode        synchronous.Mode `json:"mode"`
	AwaySeconds float64          `json:"away_seconds"`
	// List is whom commits are to wait for by the mode.
	List synchronous.List `json:"list"`
	// Promised are the lists that every acknowledged write rests on one of; none: nothing is
	// promised.
	Promised []synchronous.List `json:"promised"`
	// Safe: every acknowledged write is on as many servers as the mode says.
	Safe bool `json:"safe"`
	// WaitsFor are the servers that commits are waiting for just now, for longer than usual.
	WaitsFor []string `json:"waits_for"`
	// Alone counts the commits of this primary that were acknowledged without a replica.
	Alone  int64         `json:"alone"`
	Causes []cause.Cause `json:"causes"`
	Text   string        `json:"text"` // Causes in words
	state  synchronous.State
}

// State is what the next act follows from (synchronous.Next).
func (s *Synchronous) State() synchronous.State { return s.state }

// aloneFor is for how long commits that were acknowledged alone are spoken of once replicas hold
// them.
const aloneFor = 24 * time.Hour

// waitLimit is for how many seconds a commit may wait for replicas of the cluster before its
// primary counts as one that takes no writes: it is seen by the second look.
const waitLimit = 0.9

// StandbyName is the name under which a replica connects, where its engine's list names that:
// one of its administrator's stays. Empty: it has none of its own.
func StandbyName(m *Member) string {
	if m.Last != nil && m.Last.Links.Upstream != nil && m.Last.Links.Upstream.Host != "" {
		return m.Last.Links.Upstream.As
	}
	return m.Name
}

// Synchronize is the call that has a server's commits wait for a list.
func Synchronize(engine string, members []Member, list synchronous.List) verb.Synchronize {
	c := verb.Synchronize{List: list}
	if !dialect.Of(engine).WaitsForMany {
		return c
	}
	for _, n := range list.Names {
		as := n
		for i := range members {
			if members[i].Name == n {
				as = cmp.Or(StandbyName(&members[i]), n)
			}
		}
		c.Standbys = append(c.Standbys, as)
	}
	return c
}

// ListFor is whom commits are to wait for by a mode when a server is primary.
func ListFor(engine string, members []Member, mode synchronous.Mode, primary string) (synchronous.List, error) {
	d := dialect.Of(engine)
	var names []string
	for _, m := range members {
		if m.Name != primary && m.Enrolled && (m.Rank > 0 || d.AnyAcknowledges) {
			names = append(names, m.Name)
		}
	}
	return synchronous.For(mode, names, d.WaitsForMany)
}

// Found says whom somebody has a primary's commits wait for, and which mode would keep that over
// changes of the primary.
func Found(cluster, engine string, members []Member, primary *Member) cause.Cause {
	x := primary.Last.Synchronous
	c := cause.Cause{Code: cause.SyncFound, Cluster: cluster, Name: primary.Name, Text: x.Value, Total: int64(x.Need),
		Mode: string(synchronous.One), Count: 1}
	if most, err := ListFor(engine, members, synchronous.Most, primary.Name); err == nil && x.Need > 1 && most.Need > 1 {
		c.Mode, c.Count = string(synchronous.Most), int64(most.Need)
	}
	return c
}

// holds reports whether a server's own disk holds the primary's log up to a position: as the
// primary heard, or as it says itself where it is known to share the history.
func holds(in Input, owner *Member, name, at string) bool {
	m := findMember(in, name)
	if m == nil || at == "" || owner == nil || owner.Last == nil {
		return false
	}
	if d, found := owner.Last.DownstreamNamed(cmp.Or(StandbyName(m), m.Name)); found && d.State == "streaming" {
		if ok, _ := position.Reaches(in.Engine, d.Safe, at); ok {
			return true
		}
	}
	if m.Last == nil || !proven(in, m.Last) || in.Now.Sub(m.SeenAt).Seconds() > in.Policy.UnseenSeconds {
		return false
	}
	ok, known := position.Reaches(in.Engine, cmp.Or(m.Last.Log.Received, m.Last.Log.Applied), at)
	return ok && known
}

// waitsFor returns the servers whose acknowledgement a primary's commits wait for, once they
// have waited for longer than usual.
func waitsFor(in Input, owner *Member) []string {
	o := owner.Last
	if o == nil || o.Synchronous == nil || o.Synchronous.Set.IsZero() || o.Process.CommitWaits < waitLimit {
		return nil
	}
	var out []string
	for _, n := range o.Synchronous.Set.Names {
		if !holds(in, owner, n, o.Log.Written) {
			out = append(out, n)
		}
	}
	if len(o.Synchronous.Set.Names)-len(out) >= o.Synchronous.Set.Need {
		return nil // enough have it: it is something else that they wait for
	}
	return out
}

// ready reports whether enough of a list's servers follow closely, so that commits which wait
// for them do not wait long.
func ready(v *View, l synchronous.List) bool {
	return l.Held(func(n string) bool {
		s := v.Find(n)
		return s != nil && s.Health == InStep && s.Link == LinkConnected && s.DelaySeconds == 0
	})
}

// assessSynchronous tells whom commits wait for, and what is to be done next; nil where nobody
// wants or promised that.
func assessSynchronous(in Input, v *View, owner *Member) *Synchronous {
	set := in.Policy.Synchronous
	if owner == nil || !set.Wanted() && len(in.Promised) == 0 && !told(owner) && !byHand(owner) {
		return nil
	}
	s := &Synchronous{Mode: cmp.Or(set.Mode, synchronous.None), AwaySeconds: set.AwaySeconds, WaitsFor: []string{},
		Promised: in.Promised}
	if s.Promised == nil {
		s.Promised = []synchronous.List{}
	}
	if s.List.Names == nil {
		s.List.Names = []string{}
	}
	list, err := ListFor(in.Engine, in.Members, s.Mode, owner.Name)
	if err == nil && !list.IsZero() {
		s.List = list
	}
	o := owner.Last
	if o == nil || o.Synchronous == nil {
		c := cause.Cause{Code: cause.SyncUnknown, Name: owner.Name}
		if len(in.Promised) > 0 { // what it is now does not change what was
			last := in.Promised[len(in.Promised)-1]
			c = cause.Cause{Code: cause.SyncPromised, Name: owner.Name, Names: last.Names, Count: int64(last.Need)}
		}
		s.Causes = []cause.Cause{c}
		return s
	}
	x := o.Synchronous
	s.WaitsFor = append(s.WaitsFor, waitsFor(in, owner)...)
	s.state = synchronous.State{Want: s.List, Promised: in.Promised, Set: x.Set, Live: x.Live, ByHand: x.ByHand,
		Ready: ready(v, s.List), Noted: noted(in)}
	if len(s.WaitsFor) > 0 && set.AwaySeconds > 0 && o.Process.CommitWaits >= set.AwaySeconds {
		s.state.Want = synchronous.List{} // they are away for too long
	}
	s.state.Held = x.Live && s.List.Held(func(n string) bool { return holds(in, owner, n, x.ProvenAt) })
	if x.Alone > 0 {
		s.Alone = x.Alone
		s.state.Breach = !s.List.Held(func(n string) bool { return holds(in, owner, n, x.AloneAt) })
	}
	if strangers(in, x, s.List) {
		s.state.Breach, s.state.Held = true, false
	}
	s.Safe = set.Wanted() && len(in.Promised) == 1 && in.Promised[0].Equal(s.List) && x.Live && !x.ByHand &&
		!s.state.Breach
	s.Causes = synchronousCauses(in, v, s, owner)
	return s
}

// noted reports whether a majority of the agents knows of the newest change of what is promised:
// then no service with older records relies on what was promised before.
func noted(in Input) bool {
	n, all := 0, len(in.Members)+len(in.Referees)
	for _, m := range slices.Concat(in.Members, in.Referees) {
		if m.Last != nil && m.Last.Promise >= in.Promises {
			n++
		}
	}
	return synchronous.Enough(n, all)
}

// told reports whether a server was given a list.
func told(m *Member) bool {
	return m.Last != nil && m.Last.Synchronous != nil && !m.Last.Synchronous.Set.IsZero()
}

// byHand reports whether somebody else has its commits wait.
func byHand(m *Member) bool {
	return m.Last != nil && m.Last.Synchronous != nil && m.Last.Synchronous.ByHand && m.Last.Synchronous.Value != ""
}

// strangers reports whether somebody else can acknowledge: more replicas than the cluster has,
// or two under one name, of whom one would count for both.
func strangers(in Input, x *observation.Synchronous, l synchronous.List) bool {
	return !l.IsZero() && dialect.Of(in.Engine).AnyAcknowledges && x.Clients > len(l.Names) || len(doubles(in)) > 0
}

// doubles are the names under which more than one replica is connected to the primary and
// counts.
func doubles(in Input) (out []string) {
	m := findMember(in, in.Owner)
	if m == nil || m.Last == nil {
		return nil
	}
	seen := map[string]int{}
	for _, d := range m.Last.Links.Downstreams {
		if d.Synchronous {
			if seen[d.Name]++; seen[d.Name] == 2 {
				out = append(out, d.Name)
			}
		}
	}
	slices.Sort(out)
	return out
}

func synchronousCauses(in Input, v *View, s *Synchronous, owner *Member) (out []cause.Cause) {
	x := owner.Last.Synchronous
	list := cause.Cause{Name: owner.Name, Names: s.List.Names, Count: int64(s.List.Need)}
	with := func(code cause.Code) { c := list; c.Code = code; out = append(out, c) }
	switch {
	case s.Mode == synchronous.None && x.Set.IsZero() && x.ByHand:
		out = append(out, Found(in.Cluster, in.Engine, in.Members, owner))
	case x.ByHand:
		out = append(out, cause.Cause{Code: cause.SyncByHand, Name: owner.Name, Text: x.Value})
	case s.Mode == synchronous.None && !x.Set.IsZero():
		with(cause.SyncEnds)
	case s.Safe:
		with(cause.SyncHolds)
	case x.Set.IsZero() && s.AwaySeconds > 0:
		with(cause.SyncWentOn)
	case x.Set.IsZero():
		with(cause.SyncBegins)
	default:
		with(cause.SyncNotYet)
	}
	if names := doubles(in); len(names) > 0 {
		out = append(out, cause.Cause{Code: cause.SyncDouble, Name: owner.Name, Names: names})
	} else if strangers(in, x, s.List) {
		out = append(out, cause.Cause{Code: cause.SyncStranger, Name: owner.Name, Count: int64(x.Clients),
			Total: int64(len(s.List.Names))})
	}
	if n := owner.Last.Config.Facts[observation.UnwaitedDefaults]; n > 0 && s.Mode != synchronous.None {
		out = append(out, cause.Cause{Code: cause.SyncUnwaited, Name: owner.Name, Count: n})
	}
	if s.Alone > 0 {
		c := cause.Cause{Code: cause.AloneCovered, Name: owner.Name, Count: s.Alone, Names: s.List.Names,
			At: x.LastAlone.UTC().Format("15:04 UTC on 2006-01-02")}
		switch {
		case s.state.Breach:
			c.Code = cause.AloneAtRisk
			out = append(out, c)
		case in.Now.Sub(x.LastAlone) < aloneFor:
			out = append(out, c)
		}
	}
	return out
}

// synchronousProblems are that the mode does not hold, and commits that no replica had.
func synchronousProblems(in Input, v *View) (out []Problem) {
	s := v.Synchronous
	if s == nil {
		return nil
	}
	for _, c := range s.Causes {
		p := Problem{Rule: cluster.RuleSynchronous, Server: v.Primary, Cause: c,
			Remedy: cause.Cause{Code: cause.SyncSetAgain, Cluster: in.Cluster, Text: string(s.Mode)},
			Fix:    &Fix{Kind: operation.Synchronize}}
		switch c.Code {
		case cause.SyncByHand:
		case cause.SyncUnwaited:
			p.Remedy, p.Fix = cause.Cause{Code: cause.SyncSeeDefaults, Server: v.Primary}, nil
		case cause.SyncWentOn:
			p.Remedy = cause.Cause{Code: cause.SyncReturns, Names: s.List.Names}
			p.Fix = nil
		case cause.SyncDouble, cause.SyncStranger:
			p.Remedy, p.Fix = cause.Cause{Code: cause.SyncNameOnce, Server: v.Primary}, nil
		case cause.AloneAtRisk:
			p.Rule, p.Remedy, p.Fix = cluster.RuleAlone, cause.Cause{Code: cause.SyncReturns, Names: s.List.Names}, nil
		default:
			continue
		}
		out = append(out, p)
	}
	return out
}
