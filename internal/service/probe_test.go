package service

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"crosstwin/internal/core/verb"
)

// A path is tried again when the answer was too slow, until one comes or time is up; who
// refuses, or is not there, is believed at once.
func TestPatiently(t *testing.T) {
	for name, c := range map[string]struct {
		takes []time.Duration // of each try; the last one is OK
		r     verb.Probed     // of those before
		want  int             // tries
		ok    bool
	}{
		"at once":               {[]time.Duration{0}, verb.Probed{}, 1, true},
		"slow once":             {[]time.Duration{4 * time.Second, time.Second}, verb.Probed{}, 2, true},
		"slow for ever":         {[]time.Duration{7 * time.Second, 7 * time.Second, 0}, verb.Probed{}, 2, false},
		"nobody is there":       {[]time.Duration{time.Millisecond, 0}, verb.Probed{}, 1, false},
		"a refusal, after long": {[]time.Duration{3 * time.Second, 0}, verb.Probed{Answered: true}, 1, false},
	} {
		synctest.Test(t, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
			defer cancel()
			n := 0
			r := patiently(ctx, func() verb.Probed {
				n++
				select {
				case <-time.After(c.takes[n-1]):
				case <-ctx.Done():
					return c.r
				}
				if n == len(c.takes) {
					return verb.Probed{OK: true, Answered: true}
				}
				return c.r
			})
			if n != c.want || r.OK != c.ok {
				t.Errorf("%s: %d tries, %+v", name, n, r)
			}
		})
	}
}
