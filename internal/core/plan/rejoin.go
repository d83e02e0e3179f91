package plan

import (
	"cmp"
	"fmt"
	"strings"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/words"
)

// The ways of a rejoin, from the mildest on.
const (
	WayFollow  = "follow"
	WayRewind  = "rewind"
	WayRebuild = "rebuild"
)

// rejoin plans the return of a server that is stopped, fenced, adrift or
// astray. Which way is possible follows from an examination of its data: where
// its history parts from the primary's, and what it holds after that.
func (in *Input) rejoin(p *operation.Plan) error {
	name := in.Request.Server
	switch {
	case name == "":
		return fmt.Errorf("which server is to rejoin? crosstwin rejoin %s SERVER", in.View.Cluster)
	case name == in.View.Primary:
		return fmt.Errorf(
			"%s is the primary of %s: there is nothing to rejoin; to start it again when it is down: crosstwin failover %s "+
				"--to %s", name, in.View.Cluster, in.View.Cluster, name)
	case in.Request.Way != "" && in.Request.Way != WayFollow && in.Request.Way != WayRewind &&
		in.Request.Way != WayRebuild:
		return fmt.Errorf("there is no way %q of rejoining: the ways are follow, rewind and rebuild", in.Request.Way)
	}
	p.Target, p.Examination = name, in.Examination
	p.Summary = fmt.Sprintf("Bring %s back as a replica of %s.", name, in.View.Primary)
	up := in.checkPrimary(p)
	in.checkAgents(p, name, in.View.Primary)
	if !up || !in.seen(name) {
		return nil
	}
	if in.Examination == nil {
		p.AddCheck(operation.Check{Name: "Examinable data", Server: name, Result: operation.Fail,
			Evidence: name + "'s data could not be examined", Why: "without knowing what it holds nothing can be decided",
			Mend: "see the agent's log on " + name})
		return nil
	}
	p.Ways = in.ways(p)
	way := in.pickWay(p)
	in.checkKin(p)
	in.checkPaths(p, operation.Warn)
	in.checkClocks(p)
	if way == "" {
		return nil
	}
	in.describeTail(p, way)
	if way != WayFollow {
		in.checkWhole(p, operation.Fail)
	}
	in.checkSpaces(p)
	if way != WayRebuild {
		in.checkConnections(p, name)
	}
	switch way {
	case WayFollow:
		in.stepsOfFollow(p, name)
	case WayRewind:
		in.stepsOfRewind(p, name)
	case WayRebuild:
		in.checkFit(p, name)
		in.checkDisk(p, name, in.Member(in.View.Primary).Last.Data.Bytes.Or(0))
		in.stepsOfRebuild(p, name)
	}
	return nil
}

// ways judges each of the three ways and says why.
func (in *Input) ways(p *operation.Plan) []operation.Way {
	x := in.Examination
	follow := operation.Way{Name: WayFollow, Possible: true,
		Why: fmt.Sprintf("its log ends at %s and %s's history continues from there: nothing has to be removed", x.End,
			in.View.Primary)}
	rewind := operation.Way{Name: WayRewind, Possible: x.Rewindable,
		Why: fmt.Sprintf("the %s after the fork at %s are removed by copying changed blocks back", words.Size(x.TailBytes),
			x.Fork)}
	if in.dialect().InPlace && x.Tail != nil {
		rewind.Why = fmt.Sprintf("the %s after the fork at %s are undone from the rows' before images",
			words.Amount(position.Distance{Amount: int64(len(x.Tail.Transactions)), Unit: position.Transactions}),
			cmp.Or(x.Fork, "the beginning"))
	}
	rebuild := operation.Way{Name: WayRebuild, Possible: true, Why: "all data is copied again from " + in.View.Primary}
	owner := in.Member(in.View.Primary).Last
	switch {
	case x.Empty:
		follow.Possible, follow.Why = false, "it holds no database"
	case x.Unfinished != "":
		follow.Possible, follow.Why = false, "a "+x.Unfinished+" was interrupted: its files are inconsistent"
	case x.System != "" && owner.Data.System != "" && x.System != owner.Data.System:
		follow.Possible, follow.Why = false,
			fmt.Sprintf("it is a copy of another cluster (system identifier %s, not %s)", x.System, owner.Data.System)
	case x.Strayed:
		follow.Possible, follow.Why = false,
			fmt.Sprintf(
				"it was open for writes without right, on a history that %s wrote as well: its positions do not show what it wrote",
				in.View.Primary)
		x.Rewindable, rewind.Possible, x.WhyNot = false, false, follow.Why
	case x.Kinship == string(position.Stranger):
		follow.Possible, follow.Why = false,
			fmt.Sprintf("it holds other writes than %s although both report %s", in.View.Primary,
				position.HistoryName(in.View.Engine, x.Line))
	case x.Kinship == string(position.Unknown):
		follow.Possible, follow.Why = false,
			fmt.Sprintf("nothing proves that its %s is %s's: %s",
				cmp.Or(position.HistoryName(in.View.Engine, x.Line), "history"), in.View.Primary,
				cmp.Or(x.WhyNot, "its first record is no longer there"))
	case x.Doubt != "":
		follow.Possible, follow.Why = false, x.Doubt
		x.Rewindable, rewind.Possible, x.WhyNot = false, false, x.Doubt
	case x.TailBytes > 0:
		follow.Possible, follow.Why = false,
			fmt.Sprintf("it holds %s after the fork at %s that %s lacks: it would never stream", words.Size(x.TailBytes), x.Fork,
				in.View.Primary)
	}
	if strange := in.strangeSpaces(in.Request.Server); len(strange) > 0 && rewind.Possible {
		x.Rewindable, rewind.Possible = false, false
		x.WhyNot = fmt.Sprintf("%s has tablespaces that it lacks (%s), and a rewind would link them to %s's own paths",
			in.View.Primary, strings.Join(strange, ", "), in.View.Primary)
	}
	switch {
	case follow.Possible:
		rewind.Possible, rewind.Why = false, "there is nothing to remove"
	case !rewind.Possible:
		rewind.Why = cmp.Or(x.WhyNot, follow.Why)
	case x.Unfinished == "rewind":
		rewind.Why = "the interrupted rewind is run again from its beginning"
	}
	return []operation.Way{follow, rewind, rebuild}
}

func (in *Input) pickWay(p *operation.Plan) string {
	chosen := ""
	for i := range p.Ways {
		w := &p.Ways[i]
		if w.Possible && (in.Request.Way == w.Name || in.Request.Way == "" && chosen == "") {
			w.Chosen, chosen = true, w.Name
		}
	}
	x := in.Examination
	strange := x.System != "" && x.System != in.Member(in.View.Primary).Last.Data.System || x.System == "" && !x.Empty &&
		x.Unfinished == ""
	if in.Request.Way == "" && strange {
		// A copy of another cluster, or data that nobody knows, is never cleared
		// without being asked for.
		for i := range p.Ways {
			p.Ways[i].Chosen = false
		}
		chosen = ""
	}
	c := operation.Check{Name: "A way back", Server: in.Request.Server, Result: operation.Pass}
	for _, w := range p.Ways {
		if w.Chosen {
			c.Evidence = w.Name + ": " + w.Why
		}
	}
	if chosen == "" {
		c.Result = operation.Fail
		c.Evidence = "no way was chosen: " + p.Ways[0].Why
		for _, w := range p.Ways {
			if w.Name == in.Request.Way {
				c.Evidence = w.Name + " is not possible: " + w.Why
			}
		}
		c.Mend = "if nothing on " + in.Request.Server + " is needed: crosstwin rejoin " + in.View.Cluster + " " +
			in.Request.Server + " --way rebuild"
		for _, w := range p.Ways {
			if w.Possible && in.Request.Way != "" {
				c.Mend = "the way that is possible: crosstwin rejoin " + in.View.Cluster + " " + in.Request.Server + " --way " +
					w.Name
				break
			}
		}
	}
	p.AddCheck(c)
	return chosen
}

func (in *Input) checkKin(p *operation.Plan) {
	x := in.Examination
	if x.Empty {
		return
	}
	p.AddCheck(operation.Check{Name: "Proven kinship", Server: in.Request.Server,
		Result: verdict(x.Kinship == string(position.Kin), operation.Warn),
		Evidence: fmt.Sprintf("%s, log ends at %s, fork at %s%s, histories up to there: %s",
			cmp.Or(position.HistoryName(in.View.Engine, x.Line), "history unknown"), cmp.Or(x.End, "an unknown place"),
			cmp.Or(x.Fork, "an unknown place"), forkLine(in.View.Engine, x), cmp.Or(x.Kinship, "not comparable")),
		Why: "two servers may use one number for different writes"})
}

func forkLine(engine string, x *verb.Examination) string {
	if name := position.HistoryName(engine, position.Line{Number: x.ForkLine}); name != "" {
		return " on " + name
	}
	return ""
}

func (in *Input) describeTail(p *operation.Plan, way string) {
	x, name := in.Examination, in.Request.Server
	p.Effects = append(p.Effects, name+" becomes a replica of "+in.View.Primary)
	if x.TailBytes > 0 && way != WayFollow {
		text := fmt.Sprintf("the tail of %s, %s of log", name, words.Size(x.TailBytes))
		if x.Tail != nil {
			n, i, u, d := x.Tail.Counts()
			text += fmt.Sprintf(" with %d committed transactions (%d inserts, %d updates, %d deletes)", n, i, u, d)
		}
		if x.Fork != "" && x.Unfinished == "" {
			text += "; it is saved first"
		}
		p.Destroys, p.ConfirmName = text, name
	}
	if way == WayRebuild && !x.Empty && p.Destroys == "" && x.Unfinished != WaySeed {
		p.Destroys, p.ConfirmName = "the data on "+name, name
	}
}

// WaySeed is how an unfinished copy is named in an examination.
const WaySeed = "seed"

// stepClose fences the target if it runs in a way in which it may not.
func (in *Input) stepClose(p *operation.Plan, name string, always bool) {
	o := in.Member(name).Last
	if !o.Process.Running || !always && o.Process.Role == observation.Replica && o.Process.Accepting {
		return
	}
	p.AddStep(operation.Step{Name: "close",
		Action: operation.Action{Title: "Stop " + name + " and keep it closed for writes", Server: name,
			Call: verb.Seal(verb.Fence{Gently: true})}, Seconds: 0.3, Limit: 60, OnFail: operation.NeedsYou,
		After: []operation.Condition{{Kind: operation.IsStopped, Server: name}}, IfFails: "nothing else has changed"})
}

func (in *Input) stepsOfFollow(p *operation.Plan, name string) {
	in.stepClose(p, name, false)
	in.stepsPrepare(p, name)
	in.stepsOfReturn(p, name)
}

// stepsOfReturn point a server whose data is right at the primary.
func (in *Input) stepsOfReturn(p *operation.Plan, name string) {
	primary := in.View.Primary
	p.Closing = closingOf(name, primary)
	in.stepMakeSlots(p, "make-slot", primary, []string{name})
	p.AddStep(operation.Step{Name: "account",
		Action: operation.Action{Title: "Have " + primary + " make the account by which " + name + " follows", Server: name,
			Call: verb.Seal(verb.Account{From: in.peer(primary)})}, Seconds: 0.1,
		IfFails: name + " stays as it is; the slot is dropped"})
	follow := operation.Step{Name: "follow",
		Action: operation.Action{Title: "Have " + name + " follow " + primary, Server: name,
			Call: verb.Seal(verb.Follow{Upstream: in.peer(primary), Slot: in.slotFor(name)})}, Seconds: 0.1,
		After:   []operation.Condition{{Kind: operation.PointsAt, Server: name, Other: primary}},
		IfFails: name + " stays as it is"}
	start := startReplica(name, "read the server's log; it is closed for writes")
	if in.dialect().InPlace {
		p.AddStep(start)
		p.AddStep(follow)
	} else {
		p.AddStep(follow)
		p.AddStep(start)
	}
	p.AddStep(operation.Step{Name: "streams",
		Action: operation.Action{Title: "Wait until " + name + " streams from " + primary}, Seconds: 1, Limit: 90,
		After: []operation.Condition{{Kind: operation.Streams, Server: name, Other: primary}}, OnFail: operation.NeedsYou,
		IfFails: name + " answers reads but does not follow: read its log, then run crosstwin rejoin again"})
	in.stepsOfReplicaProof(p, primary, name)
	if in.Request.Compare || in.mustCompare() {
		in.stepsOfCompare(p, primary, []string{name})
	}
}

func closingOf(name, primary string) string {
	return fmt.Sprintf("%s follows %s; a mark written on %s was found in %s's own log", name, primary, primary, name)
}

// mustCompare reports whether only a comparison can prove the data. Rows that
// were undone were written back one by one. And a server whose log is whole may
// have lost commits of its data in a crash, where its settings allowed it: its
// GTIDs are then equal, and it would follow without a word (measured).
func (in *Input) mustCompare() bool {
	x := in.Examination
	return in.dialect().InPlace && x != nil && (x.TailBytes > 0 || x.Unfinished != "" || !x.Running && !x.Clean)
}

// stepSettle makes the data of a crashed server readable where that takes a
// recovery.
func (in *Input) stepSettle(p *operation.Plan, name string) {
	if !in.dialect().Settles {
		return
	}
	p.AddStep(operation.Step{Name: "settle",
		Action: operation.Action{Title: "Recover " + name + " read-only and shut it down cleanly", Server: name,
			Call: verb.Seal(verb.Settle{})}, Seconds: 1, Limit: 3600,
		After: []operation.Condition{{Kind: operation.StoppedClean, Server: name}}, IfFails: "nothing has changed"})
}

func (in *Input) stepSalvage(p *operation.Plan, name string) {
	x := in.Examination
	if x.TailBytes == 0 || x.Fork == "" || x.Unfinished != "" {
		return
	}
	p.AddStep(operation.Step{Name: "salvage",
		Action: operation.Action{Title: "Save the tail of " + name, Server: name,
			Call: verb.Seal(verb.Salvage{Fork: x.Fork, Timeline: x.ForkLine, Name: in.View.Cluster + "-" + name,
				Primary: in.peer(in.View.Primary)})}, Keep: verb.Fact{Kind: verb.FactTail}, Seconds: 2, Limit: 3600,
		IfFails: "" + name + " keeps its tail"})
	p.AddStep(operation.Step{Name: "reread",
		Action: operation.Action{Title: "Read the saved tail back", Call: verb.Seal(verb.Reread{Server: name})},
		Needs:  []verb.Fact{{Kind: verb.FactTail}}, Keep: verb.Fact{Kind: verb.FactTail}, Seconds: 0.1, Limit: 600,
		IfFails: "" + name + " keeps its tail"})
}

func (in *Input) stepsOfRewind(p *operation.Plan, name string) {
	primary, x := in.View.Primary, in.Examination
	in.stepClose(p, name, true)
	if x.Unfinished == "" {
		in.stepSettle(p, name)
	}
	in.stepSalvage(p, name)
	in.stepCheckpoint(p, operation.Step{Name: "checkpoint",
		Action: operation.Action{Title: "Checkpoint " + primary + " so that its control data names its history",
			Server: primary}, IfFails: "nothing has changed"})
	in.stepsPrepare(p, name)
	p.AddStep(operation.Step{Name: "rewind",
		Action: operation.Action{Title: in.dialect().Title.Rewind(name, x.Fork), Server: name,
			Call: verb.Seal(verb.Rewind{Source: in.peer(primary), Fork: x.Fork, End: x.End,
				Line: in.Member(primary).Last.Log.Line, Past: in.Member(primary).Last.Log.Past})}, NoReturn: true,
		OnFail: operation.NeedsYou, Seconds: 5, Limit: catchUpLimit,
		After: []operation.Condition{{Kind: operation.IsUnbroken, Server: name}},
		IfFails: "its data is unusable until the rewind is run again: crosstwin rejoin " + in.View.Cluster + " " + name +
			" resumes it"})
	in.stepsOfReturn(p, name)
}

func (in *Input) stepsOfRebuild(p *operation.Plan, name string) {
	x := in.Examination
	in.stepClose(p, name, true)
	if x.TailBytes > 0 && x.Fork != "" && x.Unfinished == "" {
		in.stepSettle(p, name)
	}
	in.stepSalvage(p, name)
	in.stepsOfSeed(p, name)
}

func (in *Input) peers() []verb.Peer {
	var out []verb.Peer
	for _, m := range in.Members {
		if m.Last != nil {
			out = append(out, in.peer(m.Name))
		}
	}
	return out
}

// salvage plans only the saving of a tail, without taking it out.
func (in *Input) salvage(p *operation.Plan) error {
	name, x := in.Request.Server, in.Examination
	if name == "" || name == in.View.Primary {
		return fmt.Errorf("whose tail is to be saved? name a server of %s that is not its primary", in.View.Cluster)
	}
	p.Target, p.Examination = name, x
	p.Summary = "Save what only " + name + " has."
	in.checkAgents(p, name)
	if x == nil {
		return nil
	}
	p.AddCheck(operation.Check{Name: "A tail to save", Server: name,
		Result: verdict(x.TailBytes > 0 && x.Fork != "" && x.Unfinished == "", operation.Fail),
		Evidence: fmt.Sprintf("%s holds %s of log after the fork at %s", name, words.Size(x.TailBytes),
			cmp.Or(x.Fork, "an unknown place"))})
	p.AddCheck(operation.Check{Name: "Stopped server", Server: name,
		Result:   verdict(!x.Running || !in.dialect().Settles, operation.Fail),
		Evidence: fmt.Sprintf("%s runs: %t", name, x.Running),
		Mend:     mendIf(x.Running, "stop it first; crosstwin rejoin does so and saves the tail on the way")})
	in.checkWhole(p, operation.Warn)
	in.stepSettle(p, name)
	in.stepSalvage(p, name)
	return nil
}

// checkWhole finds transactions of the tail that can be saved only in part: nothing is
// removed then that nobody else has.
func (in *Input) checkWhole(p *operation.Plan, failing operation.Result) {
	name, x := in.Request.Server, in.Examination
	if x == nil || x.Tail == nil {
		return
	}
	var part []string
	for _, t := range x.Tail.Transactions {
		if t.Partial {
			part = append(part, t.Name())
		}
	}
	if len(part) == 0 {
		return
	}
	p.AddCheck(operation.Check{Name: "Whole transactions in the tail", Server: name, Result: failing,
		Evidence: fmt.Sprintf("%s was open at the fork and committed after it (transaction %s), and the log of %s does not "+
			"reach back to its beginning: what it wrote first cannot be saved", words.Count(int64(len(part)), "transaction"),
			words.List(part), name),
		Why: "the saved tail would lack rows that no other server has",
		Mend: fmt.Sprintf("copy %s's data directory to a safe place while %s is stopped; then crosstwin seed %s %s --replace",
			name, name, in.View.Cluster, name)})
}
