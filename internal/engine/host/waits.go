package host

import (
	"sync"
	"time"
)

// Waits measures for how long something has been waiting that is only seen to
// wait, look by look: the servers tell when a statement began, not when its commit
// began to wait. Its zero value is ready.
type Waits struct {
	mu    sync.Mutex
	since map[string]time.Time
}

// Longest takes in who waits now and returns for how many seconds the one that
// has waited longest was seen to.
func (w *Waits) Longest(now time.Time, waiting []string) (seconds float64) {
	w.mu.Lock()
	defer w.mu.Unlock()
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
