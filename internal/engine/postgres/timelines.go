package postgres

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/core/position"
)

// newestTimeline keeps what was read of a stopped server's log, for as long as nothing there
// has changed.
type newestTimeline struct {
	control, log time.Time
	timeline     uint32
}

// stoppedTimeline returns the timeline on which the log of a server that does not answer ends.
// A replica notes it in its control data at its next restart point only, which may be minutes
// away: until then that names an earlier one (measured), and whoever went by it would take the
// replica for one that holds nothing of all later ones.
func (e *Engine) stoppedTimeline(ctx context.Context, o *observation.Server, c pgtool.Control) uint32 {
	noted := max(c.Timeline, c.MinRecoveryTLI)
	if c.State != pgtool.StateInRecovery && c.State != pgtool.StateShutDownInRecovery {
		return noted // a primary's is its own
	}
	control, err := e.Stat(e.Path("global", "pg_control"))
	if err != nil {
		return noted
	}
	log, err := e.Stat(e.Path("pg_wal"))
	if err != nil {
		return noted
	}
	now := newestTimeline{control.ModTime(), log.ModTime(), noted}
	e.seen.Lock()
	was := e.seen.newest
	e.seen.Unlock()
	if was.control.Equal(now.control) && was.log.Equal(now.log) {
		return was.timeline
	}
	now.timeline = e.newestInLog(ctx, noted, c.Redo)
	if !o.Process.Running { // one that still receives shows no new file with its next record
		e.seen.Lock()
		e.seen.newest = now
		e.seen.Unlock()
	}
	return now.timeline
}

// newestInLog returns the timeline on which the log ends of a replica whose control data names
// one, and a position on it.
func (e *Engine) newestInLog(ctx context.Context, noted uint32, at position.LSN) uint32 {
	for _, tli := range e.timelinesInLog() {
		if tli <= noted {
			break
		}
		if h, err := e.history(tli); err == nil && leads(h, noted, at) && e.firstRecord(ctx, tli, h.Began()) != "" {
			return tli
		}
	}
	return noted
}

// leads reports whether a history goes on from a timeline that it left at or after a position.
func leads(h position.History, from uint32, at position.LSN) bool {
	return slices.ContainsFunc(h.Past, func(b position.Branch) bool { return b.Timeline == from && b.End >= at })
}

// timelinesInLog lists the timelines whose history the log has, newest first. A history comes
// with the connection; that something of the timeline was received it does not say.
func (e *Engine) timelinesInLog() (out []uint32) {
	files, err := e.ReadDir(e.Path("pg_wal"))
	if err != nil {
		return nil
	}
	for _, f := range files {
		text, history := strings.CutSuffix(f.Name(), ".history")
		tli, err := strconv.ParseUint(text, 16, 32)
		if history && err == nil && f.Name() == fmt.Sprintf("%08X.history", tli) {
			out = append(out, uint32(tli))
		}
	}
	slices.Sort(out)
	slices.Reverse(out)
	return out
}
