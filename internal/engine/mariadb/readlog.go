package mariadb

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"crosstwin/internal/core/binlog"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

// LogFiles implements engine.LogKeeper.
func (e *Engine) LogFiles(context.Context) ([]tail.LogFile, error) {
	out := []tail.LogFile{}
	if e.Empty() || e.memory.Unfinished() != "" {
		return out, nil // what lies there while a copy is made is no log of this server
	}
	files, err := e.logFiles()
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		fi, err := e.Stat(f)
		if errors.Is(err, fs.ErrNotExist) {
			continue // purged since the index was read
		}
		if err != nil {
			return nil, fmt.Errorf("the log of %s: %w", e.cfg.Name, err)
		}
		state, err := stateBefore(e.Data, f)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", filepath.Base(f), err)
		}
		x := tail.LogFile{Name: filepath.Base(f), Bytes: fi.Size(), ChangedAt: fi.ModTime().UTC(),
			From: state.Last().String()}
		if n := len(out); n > 0 {
			out[n-1].To = x.From
		}
		out = append(out, x)
	}
	return out, nil
}

// errEnough ends the reading of a log.
var errEnough = errors.New("enough was read")

// pageTransactions bounds one page, pageBytes how much of the log it reads.
// newestBytes is how far back from its end the newest are looked for: a file
// may be a gigabyte, and a page that is kept current asks each few seconds.
const (
	pageTransactions = 500
	pageBytes        = 64 << 20
	newestBytes      = 4 << 20
)

// span is what of a log is to be read.
type span struct {
	data   *host.Data
	files  []string
	offset int64                 // in the first file
	from   position.GTIDPosition // transactions up to there are passed over
	to     position.GTIDPosition
	newest bool
}

// ReadLog implements engine.LogKeeper.
func (e *Engine) ReadLog(_ context.Context, a tail.ReadLogArgs) (*tail.LogPage, error) {
	s, err := e.spanOf(a)
	if err != nil {
		return nil, err
	}
	limit := a.Limit
	if limit <= 0 || limit > pageTransactions {
		limit = pageTransactions
	}
	page := &tail.LogPage{Transactions: []tail.Transaction{}, Next: a.From, End: true}
	read := int64(0)
	err = eachGroupFrom(s.data, s.files, s.offset, nil, func(file string, g *binlog.Group) error {
		if !g.Complete || passed(s.from, g.GTID.GTID) {
			return nil
		}
		if past(s.to, g.GTID.GTID) {
			return errEnough
		}
		read += int64(g.To - g.From)
		if !s.newest && (len(page.Transactions) >= limit || read > pageBytes) {
			page.End = false
			return errEnough
		}
		x := readGroup(file, g)
		page.Next = x.Last
		if x.Touches(a.Table) && (a.Since.IsZero() || !g.At.Before(a.Since.Truncate(time.Second))) {
			page.Transactions = append(page.Transactions, x)
			if s.newest && len(page.Transactions) > 2*limit {
				page.Transactions = append([]tail.Transaction{}, page.Transactions[len(page.Transactions)-limit:]...)
			}
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return nil, err
	}
	page.Cut(limit, s.newest)
	return page, nil
}

// spanOf finds where to begin: at a GTID position or a place in a file, at the
// file of a time, or far enough before the end for the newest transactions.
func (e *Engine) spanOf(a tail.ReadLogArgs) (s span, err error) {
	s.data = e.Data
	if s.files, err = e.logFiles(); err != nil {
		return s, err
	}
	if len(s.files) == 0 {
		return s, fmt.Errorf("the log of %s has no files", e.cfg.Name)
	}
	if a.To != "" {
		if s.to, err = position.ParseGTIDPosition(a.To); err != nil {
			return s, engine.BadInput("up to %q: it looks like 0-1-42: %w", a.To, err)
		}
	}
	switch {
	case strings.Contains(a.From, ":"):
		return s, e.fromPlace(&s, a.From)
	case a.From != "":
		return s, e.fromGTID(&s, a.From)
	case !a.Since.IsZero():
		s.fromTime(a.Since)
		return s, nil
	}
	s.newest = true
	back := int64(newestBytes)
	if a.Table != "" {
		back = pageBytes // what is looked for may be some way back
	}
	s.fromEnd(back)
	return s, nil
}

func (e *Engine) fromPlace(s *span, text string) error {
	c, err := position.ParseCoordinates(text)
	if err != nil {
		return engine.BadInput("from %q: %w", text, err)
	}
	for i, f := range s.files {
		if filepath.Base(f) == c.File {
			s.files, s.offset = s.files[i:], int64(c.Offset)
			return nil
		}
	}
	return engine.BadInput("the log of %s has no file %s (any more): it begins with %s", e.cfg.Name, c.File,
		filepath.Base(s.files[0]))
}

func (e *Engine) fromGTID(s *span, text string) (err error) {
	if s.from, err = position.ParseGTIDPosition(text); err != nil {
		return engine.BadInput("%q is no position of a MariaDB log: it looks like 0-1-42 or binlog.000001:4711: %w",
			text, err)
	}
	state, err := stateBefore(s.data, s.files[0])
	if err != nil {
		return err
	}
	if missing := s.from.Missing(state.Last()); len(missing) > 0 {
		return engine.BadInput("the log of %s begins after %s: what was written before is gone", e.cfg.Name, state.Last())
	}
	i, err := startFile(s.data, s.files, s.from)
	s.files = s.files[i:]
	return err
}

func (s *span) fromTime(since time.Time) {
	for len(s.files) > 1 {
		if fi, err := s.data.Stat(s.files[0]); err == nil && !fi.ModTime().Before(since) {
			return
		}
		s.files = s.files[1:]
	}
}

// fromEnd begins so many bytes before the end of the last file.
func (s *span) fromEnd(back int64) {
	for i := len(s.files) - 1; i >= 0; i-- {
		fi, err := s.data.Stat(s.files[i])
		if err != nil || i > 0 && fi.Size() < back {
			if err == nil {
				back -= fi.Size()
			}
			continue
		}
		s.files, s.offset = s.files[i:], max(0, fi.Size()-back)
		return
	}
}

// passed reports whether a transaction is at or before a position.
func passed(p position.GTIDPosition, g position.GTID) bool {
	x, found := p.In(g.Domain)
	return found && g.Seq <= x.Seq
}

// past reports whether a transaction is after a position that bounds the reading.
func past(p position.GTIDPosition, g position.GTID) bool {
	x, found := p.In(g.Domain)
	return found && g.Seq > x.Seq
}

// readGroup returns a transaction with its statements and rows.
func readGroup(file string, g *binlog.Group) tail.Transaction {
	x := transactionOf(g)
	x.File, x.Bytes, x.Origin, x.Unsafe, x.WhyNotUndone = filepath.Base(file), int64(g.To-g.From), g.GTID.Server,
		g.WhyUnsafe(), ""
	x.First, x.Last = fmt.Sprintf("%s:%d", x.File, g.From), fmt.Sprintf("%s:%d", x.File, g.To)
	const rows = 50 // of one transaction
	for _, r := range g.Rows {
		for _, ch := range r.Changes {
			if len(x.Rows) < rows {
				x.Rows = append(x.Rows, rowOf(r, ch))
			}
		}
	}
	return x
}

// Trim implements engine.LogKeeper: the server itself removes the files and
// keeps its index right.
func (e *Engine) Trim(ctx context.Context, a verb.Trim) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.exec(ctx, "purge binary logs to "+literal(a.To))
}

// levels are the marks of this server's error log that are complaints.
var levels = map[string]string{"[Warning]": "warning", "[ERROR]": "error"}

// Complaints implements engine.LogKeeper.
func (e *Engine) Complaints(n int) ([]tail.Complaint, error) {
	return e.Data.Complaints(e.cfg.LogFile, n, func(line string) (tail.Complaint, bool) {
		for mark, level := range levels {
			before, text, found := strings.Cut(line, mark)
			if !found {
				continue
			}
			c := tail.Complaint{Level: level, Text: strings.TrimSpace(text)}
			if len(before) > 19 {
				c.At, _ = time.ParseInLocation("2006-01-02 15:04:05", strings.Replace(before[:19], "  ", " 0", 1), time.Local)
				c.At = c.At.UTC()
			}
			return c, true
		}
		return tail.Complaint{}, false
	})
}
