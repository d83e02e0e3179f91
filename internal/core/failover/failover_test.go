package failover

import (
	"testing"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/view"
)

var now = time.Date(2026, 11, 30, 3, 0, 0, 0, time.UTC)

// crashed is a cluster of three whose primary gull crashed; tern may take over.
func crashed() Input {
	p := cluster.DefaultPolicy()
	p.Fencing, p.Automatic.On = true, true
	replica := func(name string, may bool) view.Server {
		return view.Server{Name: name, Role: observation.Replica, Health: view.Stalled, Follows: "gull", MayTakeOver: may,
			Received: "0/5", Observation: &observation.Server{
				Process: observation.Process{Running: true, Accepting: true, Role: observation.Replica},
				Links:   observation.Links{Upstream: &observation.Upstream{Host: "10.0.0.1", Problem: "connection refused"}}}}
	}
	return Input{Now: now, Down: time.Second, AtRisk: view.AtRisk{Known: true},
		View: view.View{Cluster: "bookings", Primary: "gull", Policy: p, Servers: []view.Server{
			{Name: "gull", Role: observation.Primary, Health: view.Stopped, Cause: cause.Cause{Code: cause.Crashed},
				Observation: &observation.Server{}}, replica("tern", true), replica("heron", false)}}}
}

func (in *Input) gull() *view.Server { return &in.View.Servers[0] }

// unseenHost is the same with the whole host gone.
func unseenHost(in *Input) {
	in.gull().Health, in.gull().Cause = view.Unseen, cause.Cause{Code: cause.Silent, Seconds: 6}
	in.gull().LastContactSeconds = 6
	in.Down = 6 * time.Second
}

// twoAndReferee is that with two servers and a referee.
func twoAndReferee(answers bool) func(*Input) {
	return func(in *Input) {
		unseenHost(in)
		in.View.Servers = in.View.Servers[:2]
		in.View.Referees = []view.Referee{{Name: "cairn", Answers: answers}}
	}
}

// waited is a cluster whose commits waited for one of tern and heron, which were proven.
func waited(change func(heron *view.Server)) func(*Input) {
	return func(in *Input) {
		in.View.KinTerm = 2
		for i := range in.View.Servers {
			in.View.Servers[i].Observation.Log.ProvenTerm = 2
		}
		list := synchronous.List{Need: 1, Names: []string{"heron", "tern"}}
		in.View.Synchronous = &view.Synchronous{Mode: synchronous.One, List: list, Promised: []synchronous.List{list}}
		if change != nil {
			change(&in.View.Servers[2])
		}
	}
}

// Each case changes one thing; the verdict and its reason follow.
func TestDecide(t *testing.T) {
	hangs := func(d time.Duration) func(*Input) {
		return func(in *Input) {
			in.gull().Health, in.gull().Cause = view.Stalled, cause.Cause{Code: cause.Silent}
			in.gull().Observation.Process = observation.Process{Running: true, Role: observation.Primary}
			in.Down = d
		}
	}
	reopens := func(d time.Duration) func(*Input) {
		return func(in *Input) {
			in.gull().Health, in.gull().Cause = view.Stalled, cause.Cause{}
			in.gull().Observation.Process = observation.Process{Running: true, Accepting: true, Role: observation.Replica}
			in.Down = d
		}
	}
	offFor := func(d time.Duration) func(*Input) {
		return func(in *Input) { in.View.Policy.Automatic.OffUntil = now.Add(d) }
	}
	disk := func(seconds float64) func(*Input) {
		return func(in *Input) {
			in.gull().Health, in.gull().Cause = view.TakesNoWrite, cause.Cause{Code: cause.DiskHangs, Seconds: seconds}
			in.gull().Observation.Process = observation.Process{Running: true, Accepting: true, Role: observation.Primary}
		}
	}
	startFirst := func(already bool) func(*Input) {
		return func(in *Input) { in.View.Policy.Automatic.StartSeconds, in.StartedAgain = 30, already }
	}
	for name, c := range map[string]struct {
		change func(*Input)
		want   Verdict
		why    cause.Code
	}{
		"crashed":                     {func(*Input) {}, Go, cause.FailoverCrashed},
		"two and a referee":           {twoAndReferee(true), Go, cause.FailoverUnseen},
		"two, and its referee silent": {twoAndReferee(false), Refuse, cause.FailoverAlone},
		"disk held up":                {disk(7), Wait, cause.FailoverDisk},
		"disk hangs":                  {disk(11), Go, cause.FailoverDisk},
		"start it first":              {startFirst(false), Go, cause.StartsAgain},
		"started already":             {startFirst(true), Go, cause.FailoverCrashed},
		"it is still starting": {func(in *Input) {
			startFirst(true)(in)
			hangs(time.Second)(in)
			in.gull().Observation.Process.Passing, in.StartFailed = true, true
		}, Go, cause.FailoverNoStart},
		"start, though nobody else may": {func(in *Input) {
			startFirst(false)(in)
			in.View.Servers[1].MayTakeOver = false
		}, Go, cause.StartsAgain},
		"start only what crashed": {func(in *Input) { startFirst(false)(in); unseenHost(in) }, Go, cause.FailoverUnseen},
		"enough are left":         {func(in *Input) { in.View.Policy.Automatic.LeastLeft = 2 }, Go, cause.FailoverCrashed},
		"too few are left": {func(in *Input) {
			in.View.Policy.Automatic.LeastLeft = 2
			in.View.Servers[2].Health = view.Unseen
		}, Refuse, cause.FailoverTooFew},
		"well":            {func(in *Input) { in.gull().Health = view.TakesWrites }, Nothing, ""},
		"not wanted":      {func(in *Input) { in.View.Policy.Automatic.On = false }, Nothing, ""},
		"no primary yet":  {func(in *Input) { in.View.Primary = "" }, Nothing, ""},
		"no fencing":      {func(in *Input) { in.View.Policy.Fencing = false }, Refuse, cause.FailoverUnfenced},
		"busy":            {func(in *Input) { in.View.Operation = &view.Running{ID: 1} }, Wait, cause.FailoverBusy},
		"needs a person":  {func(in *Input) { in.WaitsForPerson = true }, Refuse, cause.FailoverNeedsYou},
		"off for a while": {offFor(time.Hour), Refuse, cause.FailoverOff},
		"on again":        {offFor(0), Go, cause.FailoverCrashed},
		"maintenance": {func(in *Input) { in.View.Policy.Maintenance.Until = now.Add(time.Hour) }, Refuse,
			cause.FailoverMaintenance},
		"one just before": {func(in *Input) { in.Last = now.Add(-9 * time.Minute) }, Refuse, cause.FailoverQuiet},
		"one just before, and it may be started where it is": {func(in *Input) {
			startFirst(false)(in)
			in.Last = now.Add(-9 * time.Minute)
		}, Go, cause.StartsAgain},
		"one just before, and it was started already": {func(in *Input) {
			startFirst(true)(in)
			in.Last = now.Add(-9 * time.Minute)
		}, Refuse, cause.FailoverQuiet},
		"one long before":  {func(in *Input) { in.Last = now.Add(-11 * time.Minute) }, Go, cause.FailoverCrashed},
		"stopped by hand":  {func(in *Input) { in.gull().Cause.Code = cause.StoppedCleanly }, Refuse, cause.FailoverStopped},
		"fenced":           {func(in *Input) { in.gull().Cause.Code = cause.FencedByAgent }, Refuse, cause.FailoverUnclear},
		"nobody":           {func(in *Input) { in.View.Servers[1].MayTakeOver = false }, Refuse, cause.FailoverNobody},
		"hangs":            {hangs(6 * time.Second), Go, cause.FailoverHangs},
		"hangs for now":    {hangs(5 * time.Second), Wait, cause.FailoverHangs},
		"comes back":       {reopens(2 * time.Second), Wait, cause.FailoverReopens},
		"stays closed":     {reopens(time.Minute), Refuse, cause.FailoverClosed},
		"its host is gone": {unseenHost, Go, cause.FailoverUnseen},
		"it starts or ends": {func(in *Input) {
			hangs(time.Minute)(in)
			in.gull().Observation.Process.Passing = true
		}, Refuse, cause.FailoverUnclear},
		"only the way to it": {func(in *Input) {
			unseenHost(in)
			up := in.View.Servers[2].Observation.Links.Upstream
			up.Connected, up.IdleSeconds = true, 0.3
		}, Refuse, cause.FailoverPath},
		"only the way to it, and no age of a message is known": {func(in *Input) {
			unseenHost(in)
			in.View.Servers[2].Observation.Links.Upstream.Connected = true
			in.View.Servers[2].ReceivedMovedSeconds = 1
		}, Refuse, cause.FailoverPath},
		"a message that was new when it was looked at": {func(in *Input) {
			unseenHost(in)
			up := in.View.Servers[2].Observation.Links.Upstream
			up.Connected, up.IdleSeconds, in.View.Servers[2].LastContactSeconds = true, 0.3, 2.5
		}, Go, cause.FailoverUnseen},
		"nobody was looked at since it could have asked for pledges": {func(in *Input) {
			unseenHost(in)
			in.View.Servers[2].LastContactSeconds = 4
		}, Wait, cause.FailoverUnseen},
		"a link that only counts as connected": {func(in *Input) {
			unseenHost(in)
			up := in.View.Servers[2].Observation.Links.Upstream
			up.Connected, up.IdleSeconds = true, 6
		}, Go, cause.FailoverUnseen},
		"it asks for pledges": {func(in *Input) {
			unseenHost(in)
			in.View.Servers[1].Observation.Permission = &observation.Permission{Fencing: true, PledgedSeconds: 4}
		}, Refuse, cause.FailoverPledged},
		"it asked for pledges": {func(in *Input) {
			unseenHost(in)
			in.View.Servers[1].Observation.Permission = &observation.Permission{Fencing: true, PledgedSeconds: 1}
		}, Go, cause.FailoverUnseen},
		"the service is cut off": {func(in *Input) {
			unseenHost(in)
			in.View.Servers[1].Health, in.View.Servers[2].Health = view.Unseen, view.Unseen
		}, Refuse, cause.FailoverAlone},
		"a lost host, too much at risk": {func(in *Input) { unseenHost(in); in.AtRisk.Bytes = 2 << 20 }, Refuse,
			cause.FailoverLoss},
		"a lost host, nothing safe anywhere": {func(in *Input) { unseenHost(in); in.AtRisk.Everything = true }, Refuse,
			cause.FailoverLoss},
		"its commits wait for replicas": {func(in *Input) {
			in.gull().Health, in.gull().Cause = view.TakesNoWrite, cause.Cause{Code: cause.SyncWaits, Names: []string{"tern"}}
			in.gull().Observation.Process = observation.Process{Running: true, Accepting: true, Role: observation.Primary}
		}, Wait, cause.FailoverSyncWaits},
		"both that commits waited for answer": {waited(nil), Go, cause.FailoverCrashed},
		"one of them does not": {waited(func(s *view.Server) { s.Health = view.Unseen }), Refuse,
			cause.FailoverNotCovered},
		"one of them was not proven": {waited(func(s *view.Server) { s.Observation.Log.ProvenTerm = 1 }), Refuse,
			cause.FailoverNotCovered},
		"one of them does not run": {waited(func(s *view.Server) { s.Observation.Process.Accepting = false }),
			Refuse, cause.FailoverNotCovered},
		"nothing is promised, and nothing may be lost": {func(in *Input) {
			waited(nil)(in)
			in.View.Synchronous.Promised = nil
		}, Refuse, cause.FailoverNoPromise},
		"nothing is promised, where writes go on": {func(in *Input) {
			waited(nil)(in)
			in.View.Synchronous.Promised, in.View.Synchronous.AwaySeconds = nil, 5
		}, Go, cause.FailoverCrashed},
		"a lost host, and what was at risk is on those that answer": {func(in *Input) {
			waited(nil)(in)
			unseenHost(in)
			in.AtRisk.Bytes = 2 << 20
		}, Go, cause.FailoverUnseen},
		"crashed, with much at risk: the plan tells": {func(in *Input) { in.AtRisk.Bytes = 2 << 20 }, Go,
			cause.FailoverCrashed},
	} {
		in := crashed()
		c.change(&in)
		d := Decide(in)
		if d.Verdict != c.want || d.Why.Code != c.why {
			t.Errorf("%s: %s, %s; want %s, %s", name, d.Verdict, d.Why.Code, c.want, c.why)
		}
		if (d.Verdict == Go || d.Verdict == Refuse) && len(d.Evidence) != len(in.View.Servers)+len(in.View.Referees) {
			t.Errorf("%s: %d pieces of evidence from %d servers", name, len(d.Evidence), len(in.View.Servers))
		}
	}
}

// A loss that nobody accepted is accepted by the policy, or it is not.
func TestAccepts(t *testing.T) {
	policy := cluster.Automatic{LossBytes: 100, LossTransactions: 3}
	loss := func(known bool, amount int64, unit position.Unit) *operation.Plan {
		return &operation.Plan{ConfirmName: "bookings", Loss: &operation.Loss{Known: known,
			Distance: position.Distance{Amount: amount, Unit: unit}}}
	}
	for name, c := range map[string]struct {
		plan *operation.Plan
		risk view.AtRisk
		want bool
	}{
		"nothing":                   {&operation.Plan{}, view.AtRisk{}, true},
		"a name to be typed":        {&operation.Plan{ConfirmName: "bookings"}, view.AtRisk{}, false},
		"some bytes":                {loss(true, 100, position.Bytes), view.AtRisk{}, true},
		"too many bytes":            {loss(true, 101, position.Bytes), view.AtRisk{}, false},
		"some transactions":         {loss(true, 3, position.Transactions), view.AtRisk{}, true},
		"too many transactions":     {loss(true, 4, position.Transactions), view.AtRisk{}, false},
		"not known, little at risk": {loss(false, 0, ""), view.AtRisk{Known: true, Bytes: 100}, true},
		"not known, much at risk":   {loss(false, 0, ""), view.AtRisk{Known: true, Bytes: 101}, false},
		"nothing known":             {loss(false, 0, ""), view.AtRisk{}, false},
	} {
		if Accepts(c.plan, policy, c.risk) != c.want {
			t.Errorf("%s: %t", name, !c.want)
		}
	}
}
