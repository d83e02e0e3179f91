package access

import (
	"sync"
	"time"
)

// Refusals keep a log from being filled by whoever tries again and again what they may not:
// the same refusal is written once in a while.
type Refusals struct {
	mu sync.Mutex
	at map[refusal]time.Time
}

type refusal struct{ who, what string }

// refusalsEvery is how often the same refusal is written; mostRefusals bounds what is
// remembered of them.
//
// RefusalTold is for how long after the last one an alert speaks of it.
const (
	RefusalTold   = 10 * time.Minute
	refusalsEvery = time.Minute
	mostRefusals  = 10_000
)

// Write reports whether a refusal is to be written now.
func (r *Refusals) Write(who, what string, now time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	k := refusal{who, what}
	if last, known := r.at[k]; known && now.Sub(last) < refusalsEvery {
		return false
	}
	if r.at == nil || len(r.at) >= mostRefusals {
		r.at = map[refusal]time.Time{}
	}
	r.at[k] = now
	return true
}
