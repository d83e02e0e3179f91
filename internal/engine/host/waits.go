package host

import (
	"sync"
	"time"
)

// Waits measures for how long commits have been waiting that are only seen to
// wait, look by look: the servers tell when a statement began, not when its commit
// began to wait. Its zero value is ready.
type Waits struct {
	mu      sync.Mutex
	since   map[string]time.Time
	granted string
	halted  time.Time // since when somebody was seen to wait and nothing was granted
	seen    time.Time // when somebody was last seen to wait
}

// waitsGap is for how long nobody may be seen to wait before a wait counts as over:
// longer than it takes most clients to try again.
const waitsGap = 15 * time.Second

// Longest takes in who waits now and what tells of the last commit that was granted
// (a position or a count: any text that changes with each), and returns for how
// many seconds commits have been waiting. Clients with a time limit of their own
// give up and try again, so nobody may wait long: while nothing is granted, it is
// one wait.
func (w *Waits) Longest(now time.Time, waiting []string, granted string) (seconds float64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(waiting) > 0 {
		w.seen = now
	}
	if granted != w.granted || now.Sub(w.seen) > waitsGap {
		w.granted, w.halted = granted, time.Time{}
	}
	if w.halted.IsZero() && len(waiting) > 0 {
		w.halted = now
	}
	if !w.halted.IsZero() {
		seconds = now.Sub(w.halted).Seconds()
	}
	since := map[string]time.Time{}
	for _, who := range waiting {
		began, known := w.since[who]
		if !known {
			began = now
		}
		since[who] = began
		seconds = max(seconds, now.Sub(began).Seconds())
	}
	w.since = since
	return seconds
}
