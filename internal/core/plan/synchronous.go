package plan

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// synchronize plans another synchronous mode: have commits wait for replicas, for others, or for
// nobody. Invariant: what is promised of acknowledged writes is true at every moment in between
// (synchronous.Next), and no session is cut off.
func (in *Input) synchronize(p *operation.Plan) error {
	if in.Request.Synchronous == nil {
		return errors.New("which synchronous mode? none, one or most")
	}
	set := *in.Request.Synchronous
	set.Mode = cmp.Or(set.Mode, synchronous.None)
	if err := set.Check(); err != nil {
		return err
	}
	name := in.View.Primary
	if name == "" {
		return fmt.Errorf("%s has no primary yet, whose commits could wait", in.View.Cluster)
	}
	p.Target = name
	list, err := view.ListFor(in.View.Engine, in.Members, set.Mode, name)
	if err != nil {
		return fmt.Errorf("%s: %w", in.View.Cluster, err)
	}
	p.Summary = fmt.Sprintf("Have commits of %s wait for nobody.", in.View.Cluster)
	if set.Wanted() {
		p.Summary = fmt.Sprintf("Have each commit of %s wait until %s %s it.", in.View.Cluster, listed(list), hold(list))
	}
	in.checkAgents(p, name)
	in.checkMode(p, set, name)
	if !in.seen(name) || in.Member(name).Last.Synchronous == nil {
		return nil
	}
	if set.Wanted() {
		in.checkWaitable(p, set, list)
	}
	in.effectsOfMode(p, set, name, list)
	in.stepsOfMode(p, set, name, list)
	return nil
}

// listed says "1 of heron and tern".
func listed(l synchronous.List) string { return words.SomeOf(int64(l.Need), l.Names) }

// answering says "heron and tern answer", or how many of them have to.
func answering(l synchronous.List) string {
	switch {
	case l.Answers() < len(l.Names):
		return fmt.Sprintf("%d of %s answer", l.Answers(), words.List(l.Names))
	case len(l.Names) == 1:
		return l.Names[0] + " answers"
	}
	return words.List(l.Names) + " answer"
}

func oneOf(l synchronous.List) string {
	if len(l.Names) == 1 {
		return l.Names[0]
	}
	return "one of them"
}

// hold is the verb behind listed.
func hold(l synchronous.List) string {
	if l.Need == 1 {
		return "holds"
	}
	return "hold"
}

func (in *Input) promised() []synchronous.List {
	if s := in.View.Synchronous; s != nil {
		return s.Promised
	}
	return nil
}

// told is the list that a server's agent was told.
func (in *Input) told(name string) synchronous.List {
	if m := in.Member(name); m != nil && m.Last != nil && m.Last.Synchronous != nil {
		return m.Last.Synchronous.Set
	}
	return synchronous.List{}
}

func (in *Input) checkMode(p *operation.Plan, set synchronous.Setting, name string) {
	m := in.Member(name)
	ok := in.seen(name) && m.Last.Process.Accepting && m.Last.Process.Role == observation.Primary
	p.AddCheck(operation.Check{Name: "Answering primary", Server: name, Result: verdict(ok, operation.Fail),
		Evidence: map[bool]string{true: name + " answers", false: name + " does not answer as a primary"}[ok],
		Mend:     mendIf(!ok, "see crosstwin status "+in.View.Cluster)})
	now, s := in.View.Policy.Synchronous, in.View.Synchronous
	settled := s == nil || s.Safe || s.Mode == synchronous.None && in.told(name).IsZero()
	same := cmp.Or(now.Mode, synchronous.None) == set.Mode && now.AwaySeconds == set.AwaySeconds && settled
	p.AddCheck(operation.Check{Name: "A changed mode", Result: verdict(!same, operation.Fail),
		Evidence: "the mode is " + string(cmp.Or(now.Mode, synchronous.None)) +
			map[bool]string{true: ", and " + awayWords(now)}[now.Wanted()],
		Mend: mendIf(same, "ask for another one: --synchronous none, one or most; --away wait or 10s")})
	if x := in.live(name); x != nil && (x.ByHand || x.Set.IsZero() && x.Value != "") {
		p.AddCheck(operation.Check{Name: "List set by hand", Server: name, Result: operation.Warn,
			Evidence: fmt.Sprintf("%s has %s, which Cross Twin did not set", name, cmp.Or(x.Value, "nobody to wait for")),
			Why:      "it gives way to the mode; the names under which replicas connect stay"})
	}
}

// checkFoundMode says how commits that wait for replicas, as somebody set by hand, keep doing so.
func (in *Input) checkFoundMode(p *operation.Plan, primary string) {
	x := in.live(primary)
	if x == nil || x.Value == "" || !x.ByHand || in.View.Policy.Synchronous.Wanted() {
		return
	}
	c := view.Found(in.View.Cluster, in.View.Engine, in.Members, in.Member(primary))
	c.Code = cause.SyncSet
	p.AddCheck(operation.Check{Name: "List set by hand", Server: primary, Result: operation.Warn,
		Evidence: fmt.Sprintf("commits on %s wait for replicas (%s), which stays as it is", primary, x.Value),
		Why:      "Cross Twin promises nothing of it, and another server that becomes primary waits for nobody",
		Mend:     "have it kept, when all is taken over: " + words.Say(c)})
}

func (in *Input) live(name string) *observation.Synchronous {
	if m := in.Member(name); m != nil && m.Last != nil {
		return m.Last.Synchronous
	}
	return nil
}

func awayWords(s synchronous.Setting) string {
	if s.AwaySeconds == 0 {
		return "commits wait for ever for replicas that are away"
	}
	return "commits go on alone when replicas are away for " + words.Span(s.AwaySeconds)
}

// checkWaitable makes sure that enough of a list's servers acknowledge, each under a name of its
// own.
func (in *Input) checkWaitable(p *operation.Plan, set synchronous.Setting, list synchronous.List) {
	var follow, away []string
	for _, n := range list.Names {
		s := in.View.Find(n)
		if s != nil && s.Health == view.InStep && s.Follows == in.View.Primary {
			follow = append(follow, n)
		} else {
			away = append(away, n)
		}
	}
	c := operation.Check{Name: "Replicas to wait for", Result: verdict(len(follow) >= list.Need, operation.Fail),
		Evidence: fmt.Sprintf("in step with %s: %s", in.View.Primary, cmp.Or(words.List(follow), "none")),
		Why:      fmt.Sprintf("each commit waits for %s", listed(list))}
	if c.Result == operation.Fail {
		c.Mend = "bring them into step first: crosstwin status " + in.View.Cluster
	} else if len(away) > 0 {
		c.Evidence += "; not: " + words.List(away)
	}
	p.AddCheck(c)
	if list.Need == len(list.Names) && set.AwaySeconds == 0 {
		p.AddCheck(operation.Check{Name: "A replica to spare", Result: operation.Warn,
			Evidence: fmt.Sprintf("each commit needs %s", listed(list)),
			Why:      fmt.Sprintf("while %s is away, even for a restart, %s takes no writes", oneOf(list), in.View.Cluster),
			Mend:     "give another replica a rank, or let commits go on after a while: --away 10s"})
	}
	if !in.dialect().WaitsForMany {
		if x := in.live(in.View.Primary); x.Clients < list.Need {
			p.AddCheck(operation.Check{Name: "Acknowledging replicas", Server: in.View.Primary, Result: operation.Fail,
				Evidence: fmt.Sprintf("%d replicas of %s can acknowledge", x.Clients, in.View.Primary),
				Why:      "a replica says so when it connects (rpl_semi_sync_slave_enabled)",
				Mend: "on each replica: set global rpl_semi_sync_slave_enabled = 1; stop slave io_thread; " +
					"start slave io_thread"})
		}
		return
	}
	in.checkNames(p, list)
	if n := in.Member(in.View.Primary).Last.Config.Facts[observation.UnwaitedDefaults]; n > 0 {
		p.AddCheck(operation.Check{Name: "Commits that wait", Server: in.View.Primary, Result: operation.Warn,
			Evidence: words.Say(cause.Cause{Code: cause.SyncUnwaited, Name: in.View.Primary, Count: n}),
			Why:      "what they write is acknowledged by the primary alone",
			Mend:     words.Say(cause.Cause{Code: cause.SyncSeeDefaults, Server: in.View.Primary})})
	}
}

func (in *Input) checkNames(p *operation.Plan, list synchronous.List) {
	names, connected := map[string]string{}, map[string]int{}
	for _, d := range in.Member(in.View.Primary).Last.Links.Downstreams {
		connected[d.Name]++
	}
	c := operation.Check{Name: "Names of their own", Result: operation.Pass,
		Evidence: "each connects under a name that nobody else has: " + words.List(list.Names),
		Why:      "an acknowledgement of one would count for the other"}
	for _, n := range list.Names {
		as := view.StandbyName(in.Member(n))
		mend := fmt.Sprintf("have it connect under its own name: crosstwin follow %s %s %s", in.View.Cluster, n,
			in.View.Primary)
		switch other := names[as]; {
		case as == "":
			c.Result, c.Server, c.Evidence, c.Mend = operation.Fail, n, n+" connects under no name of its own", mend
		case other != "":
			c.Result, c.Server, c.Evidence, c.Mend = operation.Fail, n, fmt.Sprintf("%s and %s both connect as %s", other, n,
				as), mend
		case connected[as] > 1:
			c.Result, c.Server, c.Evidence, c.Mend = operation.Fail, n, fmt.Sprintf("%d replicas are connected to %s as %s",
				connected[as], in.View.Primary, as), "disconnect what is no replica of this cluster"
		}
		names[as] = n
	}
	p.AddCheck(c)
}

func (in *Input) effectsOfMode(p *operation.Plan, set synchronous.Setting, name string, list synchronous.List) {
	if !set.Wanted() {
		p.Effects = append(p.Effects, "commits that wait now are acknowledged at once",
			"a write that "+name+" acknowledged may be on no other server: a failover can lose it")
		return
	}
	p.Effects = append(p.Effects, fmt.Sprintf("each commit on %s is acknowledged once it is on the disk of %s", name,
		listed(list)),
		awayWords(set),
		fmt.Sprintf("a failover loses no acknowledged write if %s, and begins by itself only then", answering(list)))
}

// synchronizeCall has a server's commits wait for a list.
func (in *Input) synchronizeCall(list synchronous.List, adopt bool) verb.Sealed {
	c := view.Synchronize(in.View.Engine, in.Members, list)
	c.Adopt = adopt
	return verb.Seal(c)
}

func (in *Input) stepsOfMode(p *operation.Plan, set synchronous.Setting, name string, list synchronous.List) {
	before := in.told(name)
	promise := func(step, title, ifFails string, c verb.Promise) {
		p.AddStep(operation.Step{Name: step, Action: operation.Action{Title: title, Call: verb.Seal(c)}, Seconds: 0.01,
			IfFails: ifFails})
	}
	if writes := in.View.Find(name); writes.Health == view.TakesWrites { // one that hangs is not waited for
		in.stepTimeCommits(p, name, "before")
	}
	if !set.Wanted() {
		promise("promise", "Record that nothing is promised of acknowledged writes", "nothing has changed",
			verb.Promise{Setting: &set})
	} else if both := synchronous.With(in.promised(), list); len(in.promised()) > 0 && len(both) > len(in.promised()) {
		promise("promise-both", "Record that writes may rest on either list", "nothing has changed",
			verb.Promise{Promised: []synchronous.List{list}, Add: true})
	}
	title := "Have commits on " + name + " wait for nobody"
	if set.Wanted() {
		title = fmt.Sprintf("Have commits on %s wait for %s", name, listed(list))
	}
	s := operation.Step{Name: "synchronize",
		Action:  operation.Action{Title: title, Server: name, Call: in.synchronizeCall(list, true)},
		After:   []operation.Condition{{Kind: operation.WaitsFor, Server: name, Count: list.Need, Values: list.Names}},
		Seconds: 1, Limit: 600, IfFails: "they wait for nobody; it is tried again by itself"}
	if set.Wanted() {
		s.Undo = putBack(operation.Action{Title: "Have commits on " + name + " wait for " + listed(before) + " again",
			Server: name, Call: in.synchronizeCall(before, true)})
		s.IfFails = "commits wait for " + cmp.Or(listed(before), "nobody") + " again"
		if before.IsZero() {
			s.Undo[0].Title, s.IfFails = "Have commits on "+name+" wait for nobody again", "commits wait for nobody again"
		}
	}
	p.AddStep(s)
	if set.Wanted() {
		p.AddStep(operation.Step{Name: "held",
			Action: operation.Action{Title: fmt.Sprintf("Wait until %s %s what was written before", listed(list), hold(list))},
			After: []operation.Condition{{Kind: operation.HeldByEnough, Server: name, Count: list.Need,
				Values: list.Names}}, Seconds: 0.2, Limit: 60, IfFails: s.IfFails})
		promise("promise", fmt.Sprintf("Record that each acknowledged write is on %s", listed(list)), s.IfFails,
			verb.Promise{Setting: &set, Promised: []synchronous.List{list}})
	}
	in.stepTimeCommits(p, name, "after")
	p.Closing = fmt.Sprintf("commits of %s wait for nobody%s", in.View.Cluster, operation.CommitsPlace)
	if set.Wanted() {
		p.Closing = fmt.Sprintf("each commit of %s waits until %s %s it%s", in.View.Cluster, listed(list), hold(list),
			operation.CommitsPlace)
	}
}

func (in *Input) stepTimeCommits(p *operation.Plan, name, when string) {
	p.AddStep(operation.Step{Name: "time-" + when,
		Action: operation.Action{Title: "Measure small commits on " + name, Server: name,
			Call: verb.Seal(verb.TimeCommits{})},
		Keep: verb.Fact{Kind: verb.FactTimed, Of: when}, Seconds: 0.3, Limit: 20, OnFail: operation.GoOn,
		IfFails: "how long commits take is not known"})
}

// keepsMode returns whom the commits of a new primary are to wait for, and whether anything has
// to be done for that.
func (in *Input) keepsMode(cand string) (list synchronous.List, does bool) {
	mode := in.View.Policy.Synchronous.Mode
	list, err := view.ListFor(in.View.Engine, in.Members, mode, cand)
	if err != nil {
		list = synchronous.List{}
	}
	return list, !list.IsZero() || !in.told(cand).IsZero() || len(in.promised()) > 0
}

// stepsKeepMode have the candidate's commits wait from the first one on: it is told before it is
// promoted, and what it acknowledges then is among what is promised before that.
func (in *Input) stepsKeepMode(p *operation.Plan, cand, ifFails string) {
	list, does := in.keepsMode(cand)
	if !does {
		return
	}
	if both := synchronous.With(in.promised(), list); len(in.promised()) > 0 && len(both) > len(in.promised()) {
		p.AddStep(operation.Step{Name: "promise-both", Action: operation.Action{
			Title: fmt.Sprintf("Record that writes may rest on %s as well", listed(list)),
			Call:  verb.Seal(verb.Promise{Promised: []synchronous.List{list}, Add: true})}, Seconds: 0.01, IfFails: ifFails})
	}
	title := "Have commits on " + cand + " wait for nobody when it is primary"
	if !list.IsZero() {
		title = fmt.Sprintf("Have commits on %s wait for %s from the first one on", cand, listed(list))
	}
	p.AddStep(operation.Step{Name: "synchronize-new",
		Action:  operation.Action{Title: title, Server: cand, Call: in.synchronizeCall(list, false)},
		After:   []operation.Condition{{Kind: operation.WaitsFor, Server: cand, Count: list.Need, Values: list.Names}},
		Seconds: 0.2, Limit: 120, IfFails: ifFails})
}

// marksWait reports whether a mark on a new primary waits for a replica as every commit does: no
// session can do without where the engine waits for whoever acknowledges.
func (in *Input) marksWait(cand string) bool {
	list, _ := in.keepsMode(cand)
	return !list.IsZero() && in.dialect().AnyAcknowledges
}

// nobodyMarks reports whether such a mark would wait for a replica that is not there: after a
// failover that leaves one server. Whoever is brought back is proven by a mark of then, and the
// agent closes its server by itself.
func (in *Input) nobodyMarks(p *operation.Plan, cand string, replicas []string) bool {
	return p.Kind == operation.Failover && len(replicas) == 0 && in.marksWait(cand)
}

// stepsFollowEarly have those others follow the candidate that the old primary's commits can do
// without: the candidate's first commit then waits for nobody who is not there. An upstream does
// not see who follows one of its replicas.
func (in *Input) stepsFollowEarly(p *operation.Plan, old, cand string, others []string) {
	list, _ := in.keepsMode(cand)
	if list.IsZero() {
		return
	}
	now := in.told(old)
	var early []string
	for _, n := range others {
		left := 0
		for _, x := range append([]string{cand}, others...) {
			if slices.Contains(now.Names, x) && x != n && !slices.Contains(early, x) {
				left++
			}
		}
		if left < now.Need || !slices.Contains(list.Names, n) {
			continue
		}
		early = append(early, n)
		p.AddStep(operation.Step{Name: "follow-early-" + n,
			Action: operation.Action{Title: fmt.Sprintf("Have %s follow %s already", n, cand), Server: n,
				Call: verb.Seal(verb.Follow{Upstream: in.peer(cand), Slot: in.slotFor(n)})}, Seconds: 0.3,
			Limit: 30 + in.delayOf(n), After: []operation.Condition{in.follows(n, cand)},
			Undo: putBack(operation.Action{Title: "Have " + n + " follow " + old + " again", Server: n,
				Call: verb.Seal(verb.Follow{Upstream: in.peer(old), Slot: in.slotFor(n), Back: true})}),
			IfFails: "all replicas follow " + old + " again"})
	}
}

// covered reports whether those that a failover asks hold every acknowledged write between
// them, by what was promised; if not, all that lack says would make it so.
func (in *Input) covered(asked []string) (ok bool, lack []synchronous.List) {
	lists := in.promised()
	if len(lists) == 0 {
		return false, nil
	}
	return synchronous.Covered(lists, func(n string) bool { return slices.Contains(asked, n) && in.proven(n) })
}

// lists says "1 of heron and tern", or more than one of those with a word in between.
func lists(all []synchronous.List, between string) string {
	var out []string
	for _, l := range all {
		out = append(out, listed(l))
	}
	return strings.Join(out, between)
}

// checkCovered says whether a failover asks enough of those that commits waited for.
func (in *Input) checkCovered(p *operation.Plan, asked []string) {
	if len(in.promised()) == 0 {
		return
	}
	ok, lack := in.covered(asked)
	c := operation.Check{Name: "Acknowledged writes present", Result: operation.Pass,
		Evidence: fmt.Sprintf("each acknowledged write is on %s; asked are %s", lists(in.promised(), ", or on "),
			words.List(asked))}
	if !ok {
		c.Result, c.Why = operation.Warn, "an acknowledged write may be on none of those that are asked"
		c.Mend = "bring back " + lists(lack, ", and ") + ": nothing acknowledged can be missing then"
	}
	p.AddCheck(c)
}
