package service

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"crosstwin/internal/core/access"
	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// refused is what the service itself refused lately, by whom it was refused: a token's
// name, or an address. Each is told as one alert of no cluster, with what was refused
// last when it was told, and for as long as more comes.
type refused struct {
	mu   sync.Mutex
	last map[string]refusal
}

type refusal struct {
	problem view.Problem
	at      time.Time
}

// mostRefused bounds how many are told: whoever has many addresses fills nothing.
const mostRefused = 20

func (r *refused) note(who string, what, remedy cause.Cause, now time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.last == nil {
		r.last = map[string]refusal{}
	}
	if _, known := r.last[who]; !known && len(r.last) >= mostRefused {
		return
	}
	r.last[who] = refusal{view.Problem{Rule: cluster.RuleRefused, Server: who, Cause: what, Remedy: remedy,
		Text: words.Say(what), Mend: words.Say(remedy)}, now}
}

func (r *refused) problems(now time.Time) (out []view.Problem) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, who := range slices.Sorted(maps.Keys(r.last)) {
		if x := r.last[who]; now.Sub(x.at) <= access.RefusalTold {
			out = append(out, x.problem)
		} else {
			delete(r.last, who)
		}
	}
	return out
}

// noteOld raises an alert for a token that was removed or has expired, and says so in
// words; empty when nothing is known of it.
func (s *Service) noteOld(ctx context.Context, token, from string) string {
	if token == "" {
		return ""
	}
	name, removed, err := s.Store.OldToken(ctx, Hash(token))
	if err != nil {
		return ""
	}
	what := cause.Cause{Code: cause.TokenExpired, Name: name, At: from}
	if removed {
		what.Code = cause.TokenRemoved
	}
	s.refused.note(name, what, cause.Cause{Code: cause.FindHolder, Name: name}, time.Now())
	return words.Say(what)
}
