package postgres

import (
	"context"
	"errors"
	"fmt"
	"os"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
)

// A replica whose primary crashed can hold the first part of a record, in which its
// log breaks off: a primary sends what it flushed, and it flushes each log file that
// is full, also where a record goes on in the next. It is nobody's write: nothing in it
// was acknowledged, and no server applies it. But it is in the way (all measured):
//
//   - The received position is past the end of the last whole record, so that the
//     replica seems to hold more than it does.
//   - Where the part ends with a log file, the replica asks its new primary for the next
//     file, also after a restart: "requested starting point is ahead of the WAL flush
//     position of this server", and once that server has come so far, the replica ends.

// leaveOutUnfinished takes a part of a record out of what a replica received while
// nobody sends the rest.
func (e *Engine) leaveOutUnfinished(o *observation.Server) {
	if o.Process.Role == observation.Replica && (o.Links.Upstream == nil || o.Links.Upstream.State != streaming) {
		e.untilWhole(o)
	}
}

// streaming is what pg_stat_wal_receiver says of a receiver that has its primary.
const streaming = "streaming"

// untilWhole puts the end of the last whole record in the place of what was received.
func (e *Engine) untilWhole(o *observation.Server) {
	applied, err1 := position.ParseLSN(o.Log.Applied)
	received, err2 := position.ParseLSN(o.Log.Received)
	if err1 != nil || err2 != nil || received <= applied {
		return
	}
	read, done := e.logReader(o)
	defer done()
	o.Log.Received = position.WholeEnd(read, applied, received, e.segmentBytes()).String()
}

// dropUnfinished empties the last log file of a server that is to follow another one
// from the end of its last whole record on, when the record after it breaks off with
// that file: then the server asks for that record from its beginning. One that runs is
// stopped for it and is to be started again; one that has its primary is left alone.
//
// Invariant: the place is found in the log of a stopped server. Until it stopped, the
// rest of the record may have come, and more.
func (e *Engine) dropUnfinished(ctx context.Context) (stopped bool, err error) {
	o := e.Observe(ctx, false)
	if o.Process.Running {
		// The observation has left out what is unfinished already.
		end, err := position.ParseLSN(o.Log.Received)
		if err != nil || o.Process.Role != observation.Replica ||
			o.Links.Upstream != nil && o.Links.Upstream.State == streaming || !e.breaksOff(o, end) {
			return false, nil
		}
		if err := errors.Join(e.Stop(ctx), e.waitGone(ctx)); err != nil {
			return true, err
		}
		stopped, o = true, e.Observe(ctx, false)
	}
	c, err := e.control(ctx)
	if err != nil {
		return stopped, nil // what follows says so
	}
	end, err := e.logEnd(ctx, o, c)
	if err != nil || o.Process.Running || !e.breaksOff(o, end) {
		return stopped, nil
	}
	if err := e.emptyLogFrom(o, end); err != nil {
		return stopped, fmt.Errorf("empty %s's log from %s on, where it breaks off within a record: %w", e.cfg.Name, end, err)
	}
	return stopped, nil
}

// breaksOff reports whether the record that begins at a position breaks off with its file.
func (e *Engine) breaksOff(o *observation.Server, at position.LSN) bool {
	read, done := e.logReader(o)
	defer done()
	return position.BreaksOffWithFile(read, at, e.segmentBytes())
}

// emptyLogFrom fills a stopped server's log file with nothing from a position on.
func (e *Engine) emptyLogFrom(o *observation.Server, from position.LSN) error {
	name, err := e.logFile(o, from)
	if err != nil {
		return err
	}
	size := e.segmentBytes()
	offset := uint64(from) % size
	return e.AsOwner(func() error {
		f, err := os.OpenFile(name, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		_, err = f.WriteAt(make([]byte, size-offset), int64(offset))
		return errors.Join(err, f.Sync(), f.Close())
	})
}
