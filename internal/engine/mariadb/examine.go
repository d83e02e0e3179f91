package mariadb

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"crosstwin/internal/core/binlog"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

// Examine implements engine.Engine. It reads this server's own log, asks the
// primary's agent for the transactions there, and compares them one by one, by
// content: equal numbers prove nothing (measured: a number may be used twice).
func (e *Engine) Examine(ctx context.Context, a verb.Examine) (*verb.Examination, error) {
	o := e.Observe(ctx, false)
	x := &verb.Examination{Running: o.Process.Running, Role: string(o.Process.Role), State: o.Data.State,
		Clean: o.Data.State == stateClean, Line: o.Log.Line, System: o.Data.System, Unfinished: o.Data.Unfinished,
		Empty: o.Data.Empty}
	if x.Empty {
		x.WhyNot = "it holds no database"
		return x, nil
	}
	if x.Unfinished == "rewind" {
		// The undo wrote down what it is about: it is done or not, never half.
		x.Fork, x.End, x.Rewindable, x.Kinship = e.memory.Fingerprint(rememberFork), e.memory.Fingerprint(rememberEnd), true,
			string(position.Kin)
		return x, nil
	}
	if x.Unfinished != "" {
		x.WhyNot = "a " + x.Unfinished + " was interrupted here"
		return x, nil
	}
	if a.Line.System != "" && o.Data.System != "" && a.Line.System != o.Data.System {
		x.WhyNot = "it is a copy of another cluster"
		return x, nil
	}
	if a.Primary.Name == e.cfg.Name {
		// The primary itself: there is nobody to compare with, only an end.
		_, _, end, err := e.ownEntries(o.Standing().State.Last())
		x.End, x.Fork, x.Kinship = end.String(), end.String(), string(position.Kin)
		return x, err
	}
	primary, err := e.fetchState(ctx, a.Primary)
	if err != nil {
		return nil, fmt.Errorf("ask %s's agent for its history: %w", a.Primary.Name, err)
	}
	if x.Doubt, err = e.doubt(ctx, o); err != nil {
		return nil, err
	}
	if why := e.unknowable(o.Process.Running, o.Data.System); why != "" {
		x.Kinship, x.WhyNot = string(position.Unknown), why
		return x, nil
	}
	c, err := e.compareLogs(ctx, a.Primary, primary)
	if err != nil {
		return nil, err
	}
	c.report(x)
	x.ByContent = true
	return x, nil
}

// unknowable tells why nothing can be said of the data.
func (e *Engine) unknowable(running bool, system string) string {
	switch {
	case !running && !e.knownData():
		return "its data directory holds other data than its agent knew"
	case system == "":
		return "it holds nothing of Cross Twin's by which it could be known"
	}
	if _, err := e.logFiles(); err != nil {
		return "its log cannot be read: " + err.Error()
	}
	return ""
}

// comparison is this server's log held against the primary's.
type comparison struct {
	end      position.GTIDPosition
	fork     position.GTIDPosition
	state    position.GTIDState // of the own log at the fork
	kin      position.Kinship
	why      string // why kinship is not known
	tail     []tailGroup
	tailSize int64
}

// tailGroup is a transaction that only this server has, with its place.
type tailGroup struct {
	file  string
	group *binlog.Group
}

// compareLogs finds the fork. It begins at the newest mark that both servers
// hold; without one, at the beginning of the logs.
func (e *Engine) compareLogs(ctx context.Context, peer verb.Peer, primary sharedState) (*comparison, error) {
	anchor, proven := e.anchor(primary)
	mine, start, end, err := e.ownEntries(anchor)
	if err != nil {
		return nil, err
	}
	if proven && len(anchor.Missing(end)) == 0 && len(end.Missing(anchor)) > 0 {
		// The log ends before the mark: its newest part is lost.
		anchor, proven = position.GTIDPosition{}, false
		if mine, start, end, err = e.ownEntries(anchor); err != nil {
			return nil, err
		}
	}
	if anchor.IsZero() {
		anchor = start.Last()
	}
	theirs, err := e.fetchEntries(ctx, peer, anchor)
	if err != nil {
		return nil, err
	}
	c := &comparison{end: end, kin: position.Kin}
	peerState, err := primary.log(proven)
	if err != nil {
		return nil, err
	}
	shared := sharedCounts(mine, theirs, peerState)
	known := false
	for _, s := range shared {
		known = known || s.matched > 0
		if s.gap {
			c.kin, c.why = position.Unknown, "the primary's log does not go back to where this server's begins to be unproven"
		}
	}
	if !proven && !known && len(mine) > 0 && c.kin == position.Kin {
		c.kin, c.why = position.Unknown,
			"no transaction of its log is in the primary's, and no mark of Cross Twin's was found on it"
	}
	if !proven && len(mine) == 0 && !end.IsZero() {
		c.kin, c.why = position.Unknown,
			"its log holds no transaction to compare, and no mark of Cross Twin's was found on it"
	}
	c.fork, c.state = anchor, start
	counts := map[uint32]int{}
	for _, x := range mine {
		counts[x.GTID.Domain]++
	}
	return c, e.collectTail(c, anchor, shared, counts)
}

// anchor returns the position of the newest mark found here, if the primary
// holds that mark too.
func (e *Engine) anchor(primary sharedState) (position.GTIDPosition, bool) {
	m := e.found()
	if m.ID == "" || !slices.Contains(primary.Marks, m.ID) {
		return position.GTIDPosition{}, false
	}
	p, err := position.ParseGTIDPosition(m.At)
	return p, err == nil
}

// ownEntries reads the own log after a position: the entries, the state of the
// log before the first of them, and where it ends.
func (e *Engine) ownEntries(after position.GTIDPosition) (out []entry, start position.GTIDState,
	end position.GTIDPosition, err error) {
	files, err := e.logFiles()
	if err != nil || len(files) == 0 {
		return nil, start, end, err
	}
	i, err := startFile(e.Data, files, after)
	if err != nil {
		return nil, start, end, err
	}
	if start, err = stateBefore(e.Data, files[i]); err != nil {
		return nil, start, end, err
	}
	before, since, had := start.Tally(), []position.GTID{}, upTo(after)
	err = eachGroup(e.Data, files[i:], had, func(_ string, g *binlog.Group) error {
		if !g.Complete {
			return nil // a torn one is taken back by the server's own recovery
		}
		since = append(since, g.GTID.GTID)
		if had(g.GTID.GTID) {
			before.Add(since...)
			since = since[:0]
			return nil
		}
		out = append(out, entryOf(g))
		return nil
	})
	start = before.State()
	before.Add(since...)
	return out, start, before.State().Last(), err
}

// sharing tells of one domain how much of the own log the primary has too.
type sharing struct {
	matched int  // entries of ours that are the same there
	gap     bool // the two logs do not overlap, though they should
}

// peerLog is what the primary's log says of itself: up to where it goes in each
// domain, and what its data held when the log began. The latter counts only where a
// mark proves that the data is of one origin.
type peerLog struct {
	last  position.GTIDPosition
	began position.GTIDState
}

func (p peerLog) holdsFromTheBeginning(x entry) bool {
	for _, g := range p.began.All() {
		if g.Domain == x.GTID.Domain && g.Server == x.GTID.Server {
			return g.Seq >= x.GTID.Seq
		}
	}
	return false
}

// sharedCounts compares the two logs domain by domain. A domain in which the
// primary's log shows nothing is ours alone only if the primary never went so far in
// it: its log may have begun behind those transactions.
func sharedCounts(mine, theirs []entry, peer peerLog) map[uint32]sharing {
	number := func(x entry) uint64 { return x.GTID.Seq }
	by := func(list []entry) map[uint32][]entry {
		out := map[uint32][]entry{}
		for _, x := range list {
			out[x.GTID.Domain] = append(out[x.GTID.Domain], x)
		}
		return out
	}
	ours, others := by(mine), by(theirs)
	out := map[uint32]sharing{}
	for d, list := range ours {
		o := others[d]
		held := 0
		for held < len(list) && peer.holdsFromTheBeginning(list[held]) {
			held++
		}
		rest := list[held:]
		if held == len(list) {
			out[d] = sharing{matched: held}
			continue
		}
		inA, _, ok := position.ForkOf(rest, o, number, entry.same)
		reached, _ := peer.last.In(d)
		switch {
		case ok:
			out[d] = sharing{matched: held + inA}
		default:
			out[d] = sharing{matched: held, gap: reached.Seq >= number(rest[0])}
		}
	}
	return out
}

// collectTail reads the transactions beyond what is shared, and the state of
// the log at the fork. What a running server logged since it was compared (own
// says how many transactions that were, by domain) is left out.
func (e *Engine) collectTail(c *comparison, anchor position.GTIDPosition, shared map[uint32]sharing,
	own map[uint32]int) error {
	count := map[uint32]int{}
	fork, state := map[uint32]position.GTID{}, c.state.Tally()
	err := e.groupsAfter(anchor, func(file string, g *binlog.Group) error {
		if !g.Complete {
			return nil
		}
		d := g.GTID.Domain
		if count[d]++; count[d] > own[d] {
			return nil
		}
		if count[d] <= shared[d].matched {
			fork[d] = g.GTID.GTID
			state.Add(g.GTID.GTID)
			return nil
		}
		c.tail = append(c.tail, tailGroup{file, g})
		c.tailSize += int64(g.To) - int64(g.From)
		return nil
	})
	c.fork, c.state = anchor, state.State()
	for _, g := range fork {
		c.fork = c.fork.With(g)
	}
	return err
}

// report puts a comparison into an examination.
func (c *comparison) report(x *verb.Examination) {
	x.End, x.Fork, x.Kinship, x.TailBytes = c.end.String(), c.fork.String(), string(c.kin), c.tailSize
	if c.kin != position.Kin {
		x.WhyNot = c.why
	}
	if len(c.tail) == 0 {
		return
	}
	x.Tail = c.listing()
	x.Rewindable, x.WhyNot = true, cmp.Or(x.WhyNot, "")
	if c.kin != position.Kin {
		x.Rewindable = false
		return
	}
	for _, t := range x.Tail.Transactions {
		if t.WhyNotUndone != "" {
			x.Rewindable, x.WhyNot = false, fmt.Sprintf("transaction %s cannot be undone: %s", t.GTID, t.WhyNotUndone)
			return
		}
	}
}
