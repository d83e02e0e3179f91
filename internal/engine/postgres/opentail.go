package postgres

import (
	"context"

	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/core/position"
)

// A transaction that was open at the fork and committed after it wrote a part of the
// tail before the fork: the other servers hold those rows, and never its commit. So the
// log is read from where it began (invariant: a tail is whole, or says that it is not).

// opened are the transactions of a tail that may have begun before the fork.
type opened struct {
	from  position.LSN    // where to read them from
	early map[uint32]bool // those that wrote something between there and the fork
	// unread are those whose beginning is in no log that is left.
	unread map[uint32]bool
}

// openAt finds which of some transactions had written before the fork. It goes back file
// by file until the log tells that all of them began later. No transaction is older than
// its timeline, which began with a start of the server.
func (e *Engine) openAt(ctx context.Context, timeline uint32, began, fork position.LSN, ended map[uint32]bool) opened {
	out := opened{from: fork, early: map[uint32]bool{}, unread: map[uint32]bool{}}
	size := position.LSN(max(e.segmentBytes(), 1<<20))
	told := uint32(0) // the lowest number that was not yet in use, where the log told it earliest
	older := func() map[uint32]bool {
		left := map[uint32]bool{}
		for tx := range ended {
			if told == 0 || int32(tx-told) < 0 {
				left[tx] = true
			}
		}
		return left
	}
	for left := older(); len(left) > 0 && out.from > began; left = older() {
		from := max(began, (out.from-1)&^(size-1))
		if _, err := e.Stat(e.Path("pg_wal", position.SegmentName(timeline, from, e.segmentBytes()))); err != nil {
			out.unread = left
			return out
		}
		first := uint32(0)
		// Its error says only where it ended.
		_, _ = e.dump(ctx, timeline, from, out.from, func(r pgtool.Record) {
			if ended[r.Transaction] {
				out.early[r.Transaction] = true
			}
			if next, tells := r.TellsNext(); tells && first == 0 {
				first = next
			}
		})
		if out.from = from; first != 0 {
			told = first
		}
	}
	return out
}
