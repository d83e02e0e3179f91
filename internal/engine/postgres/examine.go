package postgres

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
)

// Examine implements engine.Engine. It reads control data, history files and
// the log itself; it starts nothing and changes nothing.
func (e *Engine) Examine(ctx context.Context, a verb.Examine) (*verb.Examination, error) {
	ctx = withArchive(ctx)
	o := e.Observe(ctx, false)
	x := &verb.Examination{Running: o.Process.Running, Role: string(o.Process.Role), State: o.Data.State, Line: o.Log.Line,
		Unfinished: o.Data.Unfinished, Empty: o.Data.Empty, System: o.Data.System}
	if x.Empty {
		x.WhyNot = "it holds no database"
		return x, nil
	}
	c, err := e.control(ctx)
	if err != nil {
		return nil, fmt.Errorf("examine %s: %w", e.cfg.Name, err)
	}
	x.State, x.Clean, x.System = c.State, c.Clean() && !o.Process.Running, c.System
	x.Rewindable, x.WhyNot = c.Checksums || c.LogHints, ""
	if !x.Rewindable {
		x.WhyNot = "its data has neither checksums nor hint logging (wal_log_hints), so changed blocks cannot be told"
	}
	if x.Unfinished != "" {
		x.Rewindable = x.Rewindable && x.Unfinished == "rewind"
		if !x.Rewindable {
			x.WhyNot = "an interrupted copy cannot be rewound"
		}
		return x, nil
	}
	end, err := e.logEnd(ctx, o, c)
	if err != nil {
		return nil, fmt.Errorf("find the end of %s's log: %w", e.cfg.Name, err)
	}
	x.End = end.String()
	read, done := e.logReader(o)
	defer done()
	if to := position.BrokenTo(read, end, c.SegmentBytes); !o.Process.Accepting && to > end {
		x.BrokenTo = to.String()
	}
	e.judgeFork(x, o, a, end)
	e.compareShared(ctx, x, o, a.Primary)
	if x.TailBytes > 0 && x.Fork != "" && x.Kinship != string(position.Unknown) {
		fork, _ := position.ParseLSN(x.Fork)
		if x.Rewindable && !e.keeps(ctx, position.SegmentName(x.ForkLine, fork, c.SegmentBytes)) {
			x.Rewindable, x.WhyNot = false, "its log file with the fork is gone (wal_keep_size was too small), and no "+
				"restore_command brings it back"
		}
		if x.Rewindable && !o.Process.Accepting && c.Timeline < o.Log.Line.Number {
			x.Rewindable, x.WhyNot = false,
				fmt.Sprintf(
					"it stopped before its first checkpoint on timeline %d, and a rewind would look for the fork on timeline %d",
					o.Log.Line.Number, c.Timeline)
		}
		if x.Tail, _, err = e.readTail(ctx, o, x.ForkLine, fork, end, nil); err != nil {
			return nil, err
		}
		x.Tail.FillAfter(nil)
	}
	return x, nil
}

// judgeFork compares this server's history with another's: where they part,
// and whether what they share is really the same.
func (e *Engine) judgeFork(x *verb.Examination, o *observation.Server, a verb.Examine, end position.LSN) {
	mine := position.History{Past: o.Log.Past, Current: o.Log.Line.Number}
	theirs := position.History{Past: a.Past, Current: a.Line.Number}
	fork, timeline, same, err := mine.Fork(theirs)
	if err != nil || a.Line.System != x.System {
		x.Kinship, x.Rewindable, x.WhyNot = string(position.Stranger), false, "it has no history in common with the primary"
		return
	}
	lm, _ := mine.LineOf(x.System, timeline, o.Log.Line.Fingerprint)
	lt, _ := theirs.LineOf(a.Line.System, timeline, a.Line.Fingerprint)
	kin := lm.Compare(lt)
	x.Kinship, x.ForkLine = string(kin), timeline
	switch kin {
	case position.Stranger:
		// One number, two beginnings: they part where this timeline began.
		fork, same = lm.Began, false
		x.Rewindable, x.WhyNot = false,
			fmt.Sprintf(
				"both say timeline %d for different writes, and a rewind cannot see a fork between two timelines of one number",
				timeline)
	case position.Unknown:
		x.Rewindable, x.WhyNot = false,
			fmt.Sprintf("nothing proves that its timeline %d is the primary's: its first record is no longer there", timeline)
		return
	}
	if same {
		written, err := position.ParseLSN(a.Written)
		if err == nil && !o.Process.Running && end > written && a.Written != "" {
			// Ahead of a living primary on its own history: the primary has
			// lost what this server received.
			x.Kinship, x.Fork, x.TailBytes = string(position.Stranger), written.String(), end.Since(written)
			x.Rewindable, x.WhyNot = false, "it is ahead of the primary on the same timeline, and a rewind cannot see that"
			return
		}
		x.Fork = end.String()
		return
	}
	x.Fork = min(fork, end).String()
	if end > fork {
		x.TailBytes = end.Since(fork)
		if o.Log.Line.Number == a.Line.Number {
			x.Rewindable = false
		}
	}
}

// logEnd finds the end of the log: what a running server says, or the first
// place without a valid record.
func (e *Engine) logEnd(ctx context.Context, o *observation.Server, c pgtool.Control) (position.LSN, error) {
	if o.Process.Accepting {
		return position.ParseLSN(cmp.Or(o.Log.Written, o.Log.Received))
	}
	from := c.Redo
	if c.State == pgtool.StateShutDown {
		from = c.Checkpoint
	}
	// A server that crashed soon after its promotion has its last checkpoint
	// on the timeline before; its own begins where that ended.
	from = max(from, o.Log.Line.Began)
	var end position.LSN
	stderr, err := e.dump(ctx, o.Log.Line.Number, from, 0, func(r pgtool.Record) { end = max(end, r.End(c.SegmentBytes)) })
	if at, ok := pgtool.ParseEnd(stderr); ok {
		return at, nil
	}
	if end == 0 {
		return 0, fmt.Errorf("no record is readable from %s on timeline %d on: %w", from, o.Log.Line.Number, err)
	}
	return end, nil
}

// dump runs pg_waldump over this server's log files and hands over each
// record. Its error is returned with its closing words: at the end of the log
// it always fails, because it meets no valid record.
func (e *Engine) dump(ctx context.Context, timeline uint32, from, to position.LSN,
	each func(pgtool.Record)) (stderr string, err error) {
	dir, err := e.linkLog(ctx, timeline, from, to)
	if err != nil {
		return "", err
	}
	defer e.RemoveAll(dir)
	args := []string{"-p", dir, "-t", fmt.Sprint(timeline), "-s", from.String()}
	if to != 0 {
		args = append(args, "-e", to.String())
	}
	c, err := e.Command(ctx, "pg_waldump", args...)
	if err != nil {
		return "", err
	}
	var problems strings.Builder
	c.Stderr = &problems
	out, err := c.StdoutPipe()
	if err != nil {
		return "", err
	}
	if err := c.Start(); err != nil {
		return "", err
	}
	sc := bufio.NewScanner(out)
	sc.Buffer(make([]byte, 1<<20), 64<<20)
	for sc.Scan() {
		if r, ok := pgtool.ParseRecord(sc.Text()); ok {
			each(r)
		}
	}
	err = c.Wait()
	if err != nil {
		err = fmt.Errorf("pg_waldump: %s", strings.TrimSpace(problems.String()))
	}
	return problems.String(), err
}

// linkLog makes a directory of links to the log files of one timeline that have
// been written to. pg_waldump takes the file size from whichever file it meets
// first in a directory, and fails when that is one prepared for later, with
// nothing in its header (measured).
func (e *Engine) linkLog(ctx context.Context, timeline uint32, from, to position.LSN) (string, error) {
	dir, err := e.TempDir("crosstwin-log-")
	if err != nil {
		return "", err
	}
	e.restoreGap(ctx, timeline, from, to, dir)
	first := position.SegmentName(timeline, from, e.segmentBytes())
	err = e.AsOwner(func() error {
		files, err := filepath.Glob(e.Path("pg_wal", first[:8]+"????????????????"))
		for _, f := range files {
			if err == nil && filepath.Base(f) >= first && begun(f) {
				err = os.Symlink(f, filepath.Join(dir, filepath.Base(f)))
			}
		}
		return err
	})
	if err != nil {
		e.RemoveAll(dir)
	}
	return dir, err
}

// begun reports whether a log file's header has been written.
func begun(file string) bool {
	f, err := os.Open(file)
	if err != nil {
		return false
	}
	defer f.Close()
	var magic [2]byte
	n, _ := f.Read(magic[:])
	return n == 2 && magic != [2]byte{}
}

// place is where a row of the tail stands.
type place struct {
	relation pgtool.Relation
	block    uint32
	offset   int // 0: anywhere in the block
}

// readTail lists the transactions after fork. A server that went on to further
// timelines of its own has its tail on all of them. places, when given,
// collects where rows were written; parents tells under which transaction a
// subtransaction ended.
func (e *Engine) readTail(ctx context.Context, o *observation.Server, timeline uint32, fork, end position.LSN,
	places func(p place, tx uint32)) (t *tail.Tail, parents map[uint32]uint32, err error) {
	b := newTailBuilder(places)
	if err := e.readAfter(ctx, o, timeline, fork, end, b); err != nil {
		return nil, nil, err
	}
	open := e.openAt(ctx, timeline, beganAt(o, timeline), fork, b.committed())
	if len(open.early) > 0 {
		// Once more, in the order of the log.
		b = newTailBuilder(places)
		_, _ = e.dump(ctx, timeline, open.from, fork, func(r pgtool.Record) { // its error says only where it ended
			if open.early[r.Transaction] {
				b.add(r)
			}
		})
		if err := e.readAfter(ctx, o, timeline, fork, end, b); err != nil {
			return nil, nil, err
		}
	}
	t = &tail.Tail{Timeline: timeline, From: fork.String(), To: end.String(), Bytes: end.Since(fork), Unnamed: true,
		Transactions: b.list()}
	b.showRows(t)
	b.markPartial(t, open.unread)
	if len(t.Places().Places) > 0 { // else nobody asks, and it reads up to two files of log
		t.Next = e.nextTransaction(ctx, timeline, fork)
	}
	return t, b.parent, nil
}

// beganAt returns where a timeline of a server's history began.
func beganAt(o *observation.Server, timeline uint32) (at position.LSN) {
	for _, br := range o.Log.Past {
		if br.Timeline < timeline {
			at = max(at, br.End)
		}
	}
	return at
}

// readAfter hands the records after the fork to a builder.
func (e *Engine) readAfter(ctx context.Context, o *observation.Server, timeline uint32, fork, end position.LSN,
	b *tailBuilder) error {
	h := position.History{Past: o.Log.Past, Current: o.Log.Line.Number}
	from := fork
	for _, br := range append(append([]position.Branch{}, h.Past...), position.Branch{Timeline: h.Current, End: end}) {
		if br.Timeline < timeline || br.End <= from {
			continue
		}
		n := 0
		stderr, err := e.dump(ctx, br.Timeline, from, br.End, func(r pgtool.Record) { n++; b.add(r) })
		if err != nil && n == 0 {
			if _, ended := pgtool.ParseEnd(stderr); !ended {
				return fmt.Errorf("read the tail of %s: %w", e.cfg.Name, err)
			}
		}
		from = br.End
	}
	return nil
}

// tailBuilder gathers records into transactions.
type tailBuilder struct {
	byID   map[uint32]*tail.Transaction
	order  []uint32
	parent map[uint32]uint32
	places func(p place, tx uint32)
	trail  *pgtool.RowTrail // nil: rows are not followed
	all    bool             // also transactions that changed no row
}

func newTailBuilder(places func(p place, tx uint32)) *tailBuilder {
	return &tailBuilder{byID: map[uint32]*tail.Transaction{}, parent: map[uint32]uint32{}, places: places,
		trail: pgtool.NewRowTrail(tail.ShownRows)}
}

// committed returns the numbers of the committed transactions, subtransactions included.
func (b *tailBuilder) committed() map[uint32]bool {
	out := map[uint32]bool{}
	for tx, t := range b.byID {
		if t.Outcome == "committed" {
			out[tx] = true
		}
	}
	for child, parent := range b.parent {
		if out[parent] {
			out[child] = true
		}
	}
	return out
}

// markPartial marks those whose beginning could not be read.
func (b *tailBuilder) markPartial(t *tail.Tail, unread map[uint32]bool) {
	top := map[uint32]bool{}
	for tx := range unread {
		top[b.top(tx)] = true
	}
	for i := range t.Transactions {
		t.Transactions[i].Partial = top[t.Transactions[i].ID]
	}
}

// incidental are catalogs that are written without any change of
// definitions: pg_statistic, pg_statistic_ext_data and pg_shdepend (the owner of a
// large object, say).
var incidental = map[uint32]bool{2619: true, 3429: true, 1214: true}

func (b *tailBuilder) add(r pgtool.Record) {
	if r.Transaction == 0 {
		return
	}
	t := b.byID[r.Transaction]
	if t == nil {
		t = &tail.Transaction{ID: r.Transaction, Outcome: tail.Unfinished, First: r.At.String(), Changes: []tail.Change{},
			Records: map[string]int{}}
		b.byID[r.Transaction] = t
		b.order = append(b.order, r.Transaction)
	}
	t.Last = r.At.String()
	t.Bytes += int64(r.Length)
	t.Records[r.Kind()]++
	if end, ok := r.TransactionEnd(); ok {
		t.Outcome, t.At = "aborted", end.At
		if end.Committed {
			t.Outcome = "committed"
		}
		for _, child := range end.Children {
			b.parent[child] = r.Transaction
		}
		if b.trail != nil && !end.Committed {
			b.trail.Undo(r.Transaction)
		}
		return
	}
	if b.trail != nil {
		b.trail.Add(r)
	}
	act, ok := r.RowAction()
	if !ok {
		return
	}
	if act.Where.Relation.Catalog() {
		t.Schema = t.Schema || !incidental[act.Where.Relation.File]
		return
	}
	c := changeOf(t, act.Where.Relation.String())
	switch act.Kind {
	case "insert":
		c.Inserts += act.Rows
	case "update":
		c.Updates += act.Rows
	case "delete":
		c.Deletes += act.Rows
	}
	if b.places != nil && act.Kind != "delete" {
		b.places(place{act.Where.Relation, act.Where.Block, act.Offset}, r.Transaction)
	}
}

func changeOf(t *tail.Transaction, table string) *tail.Change {
	for i := range t.Changes {
		if t.Changes[i].Table == table {
			return &t.Changes[i]
		}
	}
	t.Changes = append(t.Changes, tail.Change{Table: table})
	return &t.Changes[len(t.Changes)-1]
}

// list folds subtransactions into their parents and leaves out transactions
// that changed nothing.
func (b *tailBuilder) list() []tail.Transaction {
	for child, parent := range b.parent {
		c, p := b.byID[child], b.byID[parent]
		if c == nil || p == nil {
			continue
		}
		for _, ch := range c.Changes {
			x := changeOf(p, ch.Table)
			x.Inserts, x.Updates, x.Deletes = x.Inserts+ch.Inserts, x.Updates+ch.Updates, x.Deletes+ch.Deletes
		}
		p.Schema = p.Schema || c.Schema
		p.Bytes += c.Bytes
		for k, n := range c.Records {
			p.Records[k] += n
		}
		if c.First < p.First {
			p.First = c.First
		}
		delete(b.byID, child)
	}
	out := []tail.Transaction{}
	for _, id := range b.order {
		if t := b.byID[id]; t != nil && (b.all || len(t.Changes) > 0 || t.Schema) {
			out = append(out, *t)
		}
	}
	return out
}
