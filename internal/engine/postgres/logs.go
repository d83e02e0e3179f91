package postgres

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"sort"
	"strconv"
	"strings"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// LogFiles implements engine.LogKeeper. Files past the newest write are those
// that the server made ready for reuse.
func (e *Engine) LogFiles(ctx context.Context) ([]tail.LogFile, error) {
	return e.logFiles(e.Observe(ctx, false))
}

func (e *Engine) logFiles(o *observation.Server) ([]tail.LogFile, error) {
	out := []tail.LogFile{}
	names, err := e.ReadDir(e.Path("pg_wal"))
	if os.IsNotExist(err) {
		return out, nil // it holds no database yet
	}
	if err != nil {
		return nil, fmt.Errorf("the log of %s: %w", e.cfg.Name, err)
	}
	newest, err := position.ParseLSN(cmp.Or(cmp.Or(o.Log.Written, o.Log.Received), o.Log.ShutdownAt))
	known := err == nil
	for _, n := range names {
		timeline, begin, ok := segment(n.Name(), e.segmentBytes())
		if !ok {
			continue
		}
		f := tail.LogFile{Name: n.Name(), Bytes: int64(e.segmentBytes()), From: begin.String(),
			To: (begin + position.LSN(e.segmentBytes())).String(), History: timeline}
		if fi, err := n.Info(); err == nil {
			f.ChangedAt = fi.ModTime().UTC()
		}
		if known && begin+position.LSN(e.segmentBytes()) > newest {
			f.To = ""
			f.Ahead = begin > newest
		}
		out = append(out, f)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out, nil
}

// segment reads a log file's name: eight digits each for the timeline, and for
// the high and low part of its number (measured with files of 16 MB).
func segment(name string, bytes uint64) (timeline uint32, begin position.LSN, ok bool) {
	if len(name) != 24 {
		return 0, 0, false
	}
	var n [3]uint64
	for i := range n {
		v, err := strconv.ParseUint(name[8*i:8*i+8], 16, 32)
		if err != nil {
			return 0, 0, false
		}
		n[i] = v
	}
	perHigh := (uint64(1) << 32) / bytes
	return uint32(n[0]), position.LSN((n[1]*perHigh + n[2]) * bytes), true
}

// pageBytes bounds how much of the log one call reads: it answers in about a
// second.
const pageBytes = 16 << 20

// ReadLog implements engine.LogKeeper. The log names relations by file number;
// their names are looked up on this server while it runs.
func (e *Engine) ReadLog(ctx context.Context, a tail.ReadLogArgs) (*tail.LogPage, error) {
	o := e.Observe(ctx, false)
	end, err := position.ParseLSN(cmp.Or(cmp.Or(o.Log.Written, o.Log.Received), o.Log.ShutdownAt))
	if err != nil {
		return nil, fmt.Errorf("how far the log of %s reaches is not known: it does not answer", e.cfg.Name)
	}
	newest := a.From == "" && a.Since.IsZero()
	from, err := e.readFrom(o, a, end)
	if err != nil {
		return nil, err
	}
	shown := from
	if a.Shown != "" {
		if shown, err = position.ParseLSN(a.Shown); err != nil {
			return nil, engine.BadInput("shown up to %q: %w", a.Shown, err)
		}
	}
	to := min(end, max(from, shown)+pageBytes)
	if a.To != "" {
		limit, err := position.ParseLSN(a.To)
		if err != nil {
			return nil, engine.BadInput("up to %q: %w", a.To, err)
		}
		end = min(end, limit)
		to = min(to, end)
	}
	if max(from, shown) >= to {
		return &tail.LogPage{Transactions: []tail.Transaction{}, Next: from.String(), Shown: shown.String(), End: true}, nil
	}
	b := tailBuilder{byID: map[uint32]*tail.Transaction{}, parent: map[uint32]uint32{}, all: true}
	for _, part := range e.parts(o, from, to) {
		if err := e.dumpPart(ctx, part, b.add); err != nil {
			return nil, fmt.Errorf("read the log of %s from %s: %w", e.cfg.Name, part.from, err)
		}
	}
	t := tail.Tail{Transactions: b.list()}
	if o.Process.Accepting {
		names, err := e.Names(ctx, t.Files())
		if err != nil {
			return nil, fmt.Errorf("look up the tables on %s: %w", e.cfg.Name, err)
		}
		t.Name(names)
	}
	page := pageOf(t.Transactions, a, span{from: from, shown: shown, to: to, end: end, newest: newest})
	e.place(page, o)
	return page, nil
}

// dumpPart reads a part of the log that begins anywhere. A file that was ended early (by a
// backup, an archive_timeout) is empty from there on, and no record is found after a place in
// that rest: then the next file is where the log goes on.
func (e *Engine) dumpPart(ctx context.Context, p part, each func(pgtool.Record)) error {
	size := position.LSN(max(e.segmentBytes(), 1<<20))
	for from := p.from; from < p.to; from = (from/size + 1) * size {
		found := false
		stderr, err := e.dump(ctx, p.Timeline, from, p.to, func(r pgtool.Record) { found = true; each(r) })
		_, ended := pgtool.ParseEnd(stderr)
		switch {
		case err != nil && !ended:
			return err
		case err == nil || found:
			return nil
		}
	}
	return nil
}

// span is the stretch of log that one page is read from.
type span struct {
	from, to position.LSN // what was read
	shown    position.LSN // what ended up to there was on an earlier page
	end      position.LSN // how far the log goes
	newest   bool         // the last ones are wanted, not the first
}

// heldBack is how far the next page goes back at most for transactions that
// have not ended: one that is open for longer is counted from there on.
const heldBack = 4 * pageBytes

// pageOf chooses what a page shows: the transactions that ended in it, in the
// order in which they did, so that each is on one page, whole. At the log's end
// those that have not ended come last; the next page begins early enough to
// have all of their records.
func pageOf(all []tail.Transaction, a tail.ReadLogArgs, s span) *tail.LogPage {
	sort.SliceStable(all, func(i, j int) bool { return lastRecord(all[i]) < lastRecord(all[j]) })
	page := &tail.LogPage{Transactions: []tail.Transaction{}, End: s.to >= s.end}
	shown := s.to
	var open []tail.Transaction
	for _, t := range all {
		switch {
		case !wanted(t, a):
		case t.Outcome == tail.Unfinished:
			open = append(open, t)
		case lastRecord(t) < s.shown:
		case a.Limit > 0 && !s.newest && len(page.Transactions) == a.Limit:
			page.End, shown = false, lastRecord(page.Transactions[a.Limit-1])+1
		default:
			page.Transactions = append(page.Transactions, t)
		}
	}
	if page.End {
		page.Transactions = append(page.Transactions, open...)
	}
	next := shown
	for _, t := range all {
		if first, err := position.ParseLSN(t.First); err == nil && (lastRecord(t) >= shown || t.Outcome == tail.Unfinished) {
			next = min(next, first)
		}
	}
	if shown > heldBack {
		next = max(next, shown-heldBack)
	}
	page.Next, page.Shown = next.String(), shown.String()
	if s.newest {
		page.Cut(a.Limit, true)
	}
	return page
}

func lastRecord(t tail.Transaction) position.LSN {
	at, _ := position.ParseLSN(t.Last)
	return at
}

// readFrom returns the position at which to begin: the one asked for, that of a
// time, or far enough before the end for the newest transactions.
func (e *Engine) readFrom(o *observation.Server, a tail.ReadLogArgs, end position.LSN) (position.LSN, error) {
	files, err := e.logFiles(o)
	if err != nil {
		return 0, err
	}
	var first position.LSN
	for _, f := range files {
		if l, err := position.ParseLSN(f.From); err == nil && !f.Ahead && (first == 0 || l < first) {
			first = l
		}
	}
	if a.From != "" {
		from, err := position.ParseLSN(a.From)
		if err != nil {
			return 0, engine.BadInput("from %q: %w", a.From, err)
		}
		if from < first {
			return 0, engine.BadInput("the log of %s begins at %s: what was written before is gone", e.cfg.Name, first)
		}
		return from, nil
	}
	if !a.Since.IsZero() {
		// A file was last written when its last record was: the first file that
		// was written after the time holds the position of the time.
		for _, f := range files {
			if !f.Ahead && f.ChangedAt.After(a.Since) {
				return position.ParseLSN(f.From)
			}
		}
		return end, nil
	}
	back := position.LSN(1 << 20)
	if a.Table != "" {
		back = pageBytes // what is looked for may be some way back
	}
	return max(first, end-min(end, back)), nil
}

type part struct {
	position.Branch
	from, to position.LSN
}

// parts cuts a stretch of the log at the server's changes of timeline.
func (e *Engine) parts(o *observation.Server, from, to position.LSN) (out []part) {
	for _, br := range append(append([]position.Branch{}, o.Log.Past...),
		position.Branch{Timeline: o.Log.Line.Number, End: ^position.LSN(0)}) {
		if br.End > from && from < to {
			p := part{br, from, min(to, br.End)}
			out = append(out, p)
			from = p.to
		}
	}
	return out
}

// place names the file that holds each transaction's last record.
func (e *Engine) place(page *tail.LogPage, o *observation.Server) {
	for i := range page.Transactions {
		at, err := position.ParseLSN(page.Transactions[i].Last)
		if err != nil {
			continue
		}
		timeline := o.Log.Line.Number
		for j := len(o.Log.Past) - 1; j >= 0 && at < o.Log.Past[j].End; j-- {
			timeline = o.Log.Past[j].Timeline
		}
		page.Transactions[i].File = position.SegmentName(timeline, at, e.segmentBytes())
	}
}

func wanted(t tail.Transaction, a tail.ReadLogArgs) bool {
	return t.Touches(a.Table) && (a.Since.IsZero() || t.At.IsZero() || !t.At.Before(a.Since))
}

// Trim implements engine.LogKeeper. This server removes log by itself at a
// checkpoint, and keeps what slots and wal_keep_size ask for: files are never
// removed by hand.
func (e *Engine) Trim(ctx context.Context, _ verb.Trim) error { return e.Checkpoint(ctx) }

// levels are the words of this server's error log that are complaints.
var levels = map[string]string{"WARNING": "warning", "ERROR": "error", "FATAL": "fatal", "PANIC": "fatal"}

// Complaints implements engine.LogKeeper.
func (e *Engine) Complaints(n int) ([]tail.Complaint, error) {
	return e.Data.Complaints(e.cfg.LogFile, n, func(line string) (tail.Complaint, bool) {
		for word, level := range levels {
			before, text, found := strings.Cut(line, word+":")
			if !found || strings.Contains(before, `"`) {
				continue
			}
			c := tail.Complaint{Level: level, Text: strings.TrimSpace(text)}
			if len(before) > 23 {
				c.At, _ = time.Parse("2006-01-02 15:04:05.000", before[:23])
			}
			return c, true
		}
		return tail.Complaint{}, false
	})
}
