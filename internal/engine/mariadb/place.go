package mariadb

import (
	"context"
	"sync"
	"time"

	"crosstwin/internal/core/position"
)

// place is where the end of a server's log is in its files.
type place struct {
	status []map[string]string // the end, and what is left out of the log
	files  []position.LogFile  // a primary's
}

// placing asks for that. While two commits wait for a replica, the second holds the lock that
// these questions need (measured: show master status and show binary logs hang as long), and
// what else the server says comes without: so one question is left to wait, and meanwhile what
// it said last counts.
type placing struct {
	sync.Mutex
	asked chan struct{} // closed when the answer is there; nil: nobody asks
	last  place
	err   error
}

// placeLimit is how long is waited for the answer where commits wait for replicas.
const placeLimit = 300 * time.Millisecond

// place returns the newest answer; where it may hang, one of before.
func (e *Engine) place(ctx context.Context, primary, mayHang bool) (place, error) {
	if !mayHang {
		return e.askPlace(ctx, primary)
	}
	p := &e.placing
	p.Lock()
	if p.asked == nil {
		done := make(chan struct{})
		p.asked = done
		go func() {
			now, err := e.askPlace(context.Background(), primary)
			p.Lock()
			defer p.Unlock()
			if p.err = err; err == nil {
				p.last = now
			}
			p.asked = nil
			close(done)
		}()
	}
	asked := p.asked
	p.Unlock()
	select {
	case <-asked:
	case <-time.After(placeLimit):
	case <-ctx.Done():
	}
	p.Lock()
	defer p.Unlock()
	return p.last, p.err
}

func (e *Engine) askPlace(ctx context.Context, primary bool) (p place, err error) {
	if p.status, err = e.query(ctx, "show master status"); err != nil || !primary {
		return p, err
	}
	rows, err := e.db.QueryContext(ctx, "show binary logs")
	if err != nil {
		return p, err
	}
	defer rows.Close()
	for rows.Next() {
		var f position.LogFile
		if err := rows.Scan(&f.Name, &f.Bytes); err != nil {
			return p, err
		}
		p.files = append(p.files, f)
	}
	return p, rows.Err()
}
