package agent

import (
	"context"
	"sync"
	"time"

	"crosstwin/internal/core/guard"
)

// commitEvery is how often it is tried whether an open database commits: a disk that hangs
// leaves everything else as it was, connections and the agent's questions too.
const commitEvery = 5 * time.Second

// commitWatch has a commit tried now and then, one at a time and without a limit: a further
// one would wait behind it.
type commitWatch struct {
	mu    sync.Mutex
	began time.Time // when the newest one began
	waits bool      // it has not come back
}

// try begins a commit when one is due.
func (c *commitWatch) try(ctx context.Context, commit func(context.Context) error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.waits || time.Since(c.began) < commitEvery {
		return
	}
	c.began, c.waits = time.Now(), true
	go func() {
		commit(ctx) // a server that has gone ends it too, and shows otherwise
		c.mu.Lock()
		defer c.mu.Unlock()
		c.waits = false
	}()
}

// waiting returns for how many seconds the newest commit has not come back; 0: it has.
func (c *commitWatch) waiting() float64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.waits {
		return 0
	}
	return time.Since(c.began).Seconds()
}

// watchCommits tries whether the primary's database commits, under fencing.
func (p *permission) watchCommits(ctx context.Context, s state) {
	p.mu.Lock()
	open := s.Guard.Owner && p.seen == guard.DatabaseOpen
	p.mu.Unlock()
	if open {
		p.commits.try(ctx, p.a.engine.Commits)
	}
}
