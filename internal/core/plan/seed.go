package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// copyBytesPerSecond is a careful guess for the expected duration of a copy.
const copyBytesPerSecond = 100 << 20

// catchUpLimit bounds the wait for a fresh copy to catch up, in seconds.
const catchUpLimit = 24 * 3600

// The ways of a seed.
const (
	WayCopy = "copy" // physical
	WayDump = "dump" // logical, by statements
)

// seed plans the making of a replica: copy the primary while it takes writes,
// verify the copy against its manifest, start it, wait until it has caught up,
// prove it with a mark.
func (in *Input) seed(p *operation.Plan) error {
	name := in.Request.Server
	switch {
	case name == "":
		return fmt.Errorf("which server is to be seeded? crosstwin seed %s SERVER", in.View.Cluster)
	case name == in.View.Primary:
		return fmt.Errorf("%s is the primary of %s: only a replica can be seeded", name, in.View.Cluster)
	case in.Request.Way == WayDump && !in.dialect().Dumps:
		return fmt.Errorf("%s is copied physically: a dump has no position to follow from", in.View.Cluster)
	case in.Request.Way != "" && in.Request.Way != WayCopy && in.Request.Way != WayDump:
		return fmt.Errorf("there is no way %q of seeding: the ways are copy and dump", in.Request.Way)
	}
	p.Target = name
	p.Summary = fmt.Sprintf("Copy %s to %s and have it follow.", in.View.Primary, name)
	up := in.checkPrimary(p)
	in.checkAgents(p, name, in.View.Primary)
	if !up || !in.seen(name) {
		return nil
	}
	in.checkTarget(p, name)
	in.checkFit(p, name)
	if in.restartHelps(in.View.Primary) {
		in.restartFirst(p, in.View.Primary)
	} else {
		in.checkSettings(p, in.View.Primary)
	}
	in.checkPairVersions(p, name)
	in.checkDisk(p, name, in.Member(in.View.Primary).Last.Data.Bytes.Or(0))
	in.checkIdentities(p)
	in.checkClocks(p)
	in.stepsOfSeed(p, name)
	return nil
}

// restartHelps reports whether a server lacks what its agent sets at its next start, and
// nothing else.
func (in *Input) restartHelps(name string) bool {
	m := in.Member(name)
	if len(m.Last.Config.AtNextStart) == 0 {
		return false
	}
	then := *m.Last
	then.Config.Settings = maps.Clone(then.Config.Settings)
	maps.Copy(then.Config.Settings, then.Config.AtNextStart)
	then.Config.AtNextStart = nil
	after := *m
	after.Last = &then
	fails := func(m *view.Member) bool {
		return slices.ContainsFunc(in.dialect().Check(in.subject(m)),
			func(c operation.Check) bool { return c.Result == operation.Fail })
	}
	return fails(m) && !fails(&after)
}

// restartFirst has the primary take up what its agent sets at its start, before anything
// else: without that no server could follow it.
func (in *Input) restartFirst(p *operation.Plan, primary string) {
	set := in.atNextStart(primary)
	p.AddCheck(operation.Check{Name: "Ready to be followed", Server: primary, Result: operation.Warn,
		Evidence: primary + " lacks " + set, Why: "no server could follow it", Mend: "this operation restarts it first"})
	in.checkTerm(p, primary)
	in.checkConnections(p, primary)
	p.PauseSeconds = in.dialect().Pause + 0.5
	p.Summary = fmt.Sprintf("Restart %s, then copy it to %s and have that follow. Expected write pause: about %s.",
		primary, p.Target, words.Span(p.PauseSeconds))
	p.Effects = append(p.Effects, primary+" is restarted first and takes up "+set,
		"all connections to "+primary+" end once")
	in.stepsRestartPrimary(p, primary)
	in.restarted = primary
}

// atNextStart names what a server's agent sets at its next start.
func (in *Input) atNextStart(name string) string {
	set := in.Member(name).Last.Config.AtNextStart
	var list []string
	for _, k := range slices.Sorted(maps.Keys(set)) {
		list = append(list, k+" = "+set[k])
	}
	return strings.Join(list, "; ")
}

func (in *Input) checkPairVersions(p *operation.Plan, name string) {
	o, q := in.Member(name).Last, in.Member(in.View.Primary).Last
	same := o.Process.MajorVersion == q.Process.MajorVersion
	p.AddCheck(operation.Check{Name: "Same major version", Server: name, Result: verdict(same, operation.Fail),
		Evidence: fmt.Sprintf("%s has the programs of %s, %s runs %s", name, o.Process.Version, in.View.Primary,
			q.Process.Version),
		Why:  "the log of one major version cannot be read by another",
		Mend: mendIf(!same, fmt.Sprintf("install major version %d on %s", q.Process.MajorVersion, name))})
}

// checkTarget looks at what stands where the copy is to go.
func (in *Input) checkTarget(p *operation.Plan, name string) {
	o := in.Member(name).Last
	c := operation.Check{Name: "Room for the copy", Server: name, Result: operation.Pass,
		Evidence: name + "'s data directory is empty"}
	switch {
	case o.Data.Unfinished == "seed":
		c.Evidence = "it holds an interrupted copy of ours, which is cleared and made again"
	case o.Data.Empty:
	case in.Request.Replace:
		c.Result = operation.Warn
		c.Evidence = fmt.Sprintf("it holds %s of data (system %s, %s%s), which are removed", words.Size(o.Data.Bytes.Or(0)),
			cmp.Or(o.Data.System, "unknown"), describe(o), historyOf(in.View.Engine, o))
		p.Destroys = fmt.Sprintf("the %s of data on %s", words.Size(o.Data.Bytes.Or(0)), name)
		p.ConfirmName = name
	default:
		c.Result = operation.Fail
		c.Evidence = fmt.Sprintf("%s's data directory is not empty: %s of data (system %s, %s%s)", name,
			words.Size(o.Data.Bytes.Or(0)), cmp.Or(o.Data.System, "unknown"), describe(o), historyOf(in.View.Engine, o))
		c.Why = "a copy would overwrite it"
		c.Mend = fmt.Sprintf(
			"if nothing in it is needed: crosstwin seed %s %s --replace; if it is an old primary: crosstwin rejoin %s %s",
			in.View.Cluster, name, in.View.Cluster, name)
	}
	p.AddCheck(c)
}

func (in *Input) seedWay() string {
	if in.Request.Kind == operation.Seed && in.Request.Way == WayDump {
		return WayDump
	}
	return ""
}

func historyOf(engine string, o *observation.Server) string {
	if name := position.HistoryName(engine, o.Log.Line); name != "" {
		return ", " + name
	}
	return ""
}

func describe(o *observation.Server) string {
	if o.Process.Running && o.Process.Role != "" {
		return "running as " + string(o.Process.Role)
	}
	if o.Process.Running {
		return "running"
	}
	return cmp.Or(o.Data.State, "not running")
}

// stepsPrepare make sure of the replication account on the primary, and of the access
// rules and of encryption there and on every replica, because the roles will swap.
func (in *Input) stepsPrepare(p *operation.Plan, target string) {
	primary := in.View.Primary
	p.AddStep(operation.Step{Name: "prepare",
		Action: operation.Action{Title: "Set up the replication accounts, access rules and encryption on " + primary,
			Server: primary, Call: verb.Seal(verb.Prepare{Peers: in.peers(), Account: true, From: in.peer(primary),
				Encrypted: in.onlyEncrypted(target)})}, Seconds: 0.2,
		IfFails: "nothing is lost; the accounts stay"})
	others := in.replicas(primary, target)
	for _, n := range others {
		step := in.prepareReplica(n)
		step.IfFails = cmp.Or(target, "another server") + " cannot follow " + n + " after a role change until that is fixed"
		p.AddStep(step)
	}
	if in.dialect().EncryptsRunning {
		for _, n := range append(others, primary) {
			in.willEncrypt(n)
		}
	}
}

// prepareReplica sets up the access rules of a replica, for the time when it is primary.
func (in *Input) prepareReplica(name string) operation.Step {
	return operation.Step{Name: "prepare-" + name,
		Action: operation.Action{Title: "Set up the access rules and encryption on " + name, Server: name,
			Call: verb.Seal(verb.Prepare{Peers: in.peers(), From: in.peer(in.View.Primary)})}, Seconds: 0.1,
		OnFail: operation.GoOn, IfFails: "no other server can follow " + name + " after a role change until that is fixed"}
}

// keptLimits are the limits that count where a server keeps its own configuration.
func (in *Input) keptLimits(name string) map[string]string {
	if in.CopiesConfig(name) {
		return nil
	}
	return in.Limits()
}

// stepsOfSeed are shared with a rejoin that rebuilds.
func (in *Input) stepsOfSeed(p *operation.Plan, name string) {
	primary := in.View.Primary
	o := in.Member(name).Last
	p.Closing = closingOf(name, primary)
	total := in.Member(primary).Last.Data.Bytes.Or(0)
	in.stepsPrepare(p, name)
	in.stepMakeSlots(p, "make-slot", primary, []string{name})
	if o.Process.Running && in.seedWay() != WayDump {
		p.AddStep(operation.Step{Name: "stop-target",
			Action:  operation.Action{Title: "Stop " + name, Server: name, Call: verb.Seal(verb.Fence{Gently: true})},
			Seconds: 0.5, Limit: 60,
			After: []operation.Condition{{Kind: operation.IsStopped, Server: name}}, IfFails: "the slot is dropped again"})
	}
	gone := ""
	if !o.Data.Empty && o.Data.Unfinished != "seed" {
		gone = "the data that was on " + name + " may be gone: seed it again"
	}
	title, verify := fmt.Sprintf("Copy %s (%s) to %s", primary, words.Size(total), name), in.dialect().Title.Verify(name)
	if in.seedWay() == WayDump {
		title, verify = fmt.Sprintf("Load a dump of %s (%s) into %s", primary, words.Size(total), name),
			"Set the position of the dump"
	}
	p.AddStep(operation.Step{Name: "copy", Gone: gone,
		Action: operation.Action{Title: title, Server: name,
			Call: verb.Seal(verb.Seed{Source: in.peer(primary), Slot: in.slotFor(name), Way: in.seedWay(),
				Replace: in.Request.Replace || in.Request.Kind == operation.Rejoin, Line: in.Member(primary).Last.Log.Line,
				Past: in.Member(primary).Last.Log.Past, Spaces: in.Member(primary).Last.Data.Spaces,
				Others: in.OthersSpaces(name), Limits: in.keptLimits(name), Apart: in.Member(primary).Last.Config.Apart})},
		Seconds: max(1, float64(total)/copyBytesPerSecond), Limit: catchUpLimit,
		IfFails: "the unfinished copy is recognised and cleared by the next seed"})
	p.AddStep(operation.Step{Name: "verify",
		Action:  operation.Action{Title: verify, Server: name, Call: verb.Seal(verb.Verify{})},
		Seconds: max(1, float64(total)/(4*copyBytesPerSecond)), Limit: catchUpLimit,
		After: []operation.Condition{{Kind: operation.IsUnbroken, Server: name}}, IfFails: "the copy is not used"})
	p.AddStep(startReplica(name, "read the server's log; the copy stays, the slot is dropped"))
	if in.dialect().CopiesConfig && !in.CopiesConfig(name) {
		// Its access rules did not come with the copy.
		p.AddStep(in.prepareReplica(name))
	}
	if in.dialect().InPlace {
		p.AddStep(operation.Step{Name: "follow",
			Action: operation.Action{Title: "Have " + name + " follow " + primary, Server: name,
				Call: verb.Seal(verb.Follow{Upstream: in.peer(primary)})}, Seconds: 0.1,
			After:   []operation.Condition{{Kind: operation.PointsAt, Server: name, Other: primary}},
			IfFails: "the copy stays, and follows no server"})
	}
	p.AddStep(operation.Step{Name: "catch-up", Action: operation.Action{Title: "Wait until " + name + " has caught up"},
		ShowsDistance: true, Seconds: 2, Limit: catchUpLimit,
		After: []operation.Condition{{Kind: operation.Streams, Server: name, Other: primary},
			{Kind: operation.IsCaughtUp, Server: name, Other: primary, Within: in.dialect().Near}}, OnFail: operation.NeedsYou,
		IfFails: name + " keeps catching up by itself: crosstwin watch " + in.View.Cluster})
	in.stepsOfReplicaProof(p, primary, name)
	if in.Request.Compare {
		in.stepsOfCompare(p, primary, []string{name})
	}
}

func (in *Input) stepsOfReplicaProof(p *operation.Plan, primary, name string) {
	in.stepDropSlots(p, name, false)
	before := len(p.Steps)
	in.stepsOfMark(p, primary, []string{name}, name+" follows; the proof is missing", notProven)
	p.NeedsYouFrom(before)
}
