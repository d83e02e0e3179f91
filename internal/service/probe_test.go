package service

import (
	"testing"
	"testing/synctest"
	"time"

	"crosstwin/internal/core/verb"
)

// A path is tried once more when the answer was too slow; who refuses, or is not there, is
// believed at once, and a failover waits for nobody twice.
func TestPatiently(t *testing.T) {
	for name, c := range map[string]struct {
		takes []time.Duration // of each try; the last one is OK
		r     verb.Probed     // of those before
		tries int
		want  int // that are made
		ok    bool
	}{
		"at once":               {[]time.Duration{0}, verb.Probed{}, 2, 1, true},
		"slow once":             {[]time.Duration{4 * time.Second, time.Second}, verb.Probed{}, 2, 2, true},
		"slow for ever":         {[]time.Duration{5 * time.Second, 5 * time.Second, 0}, verb.Probed{}, 2, 2, false},
		"slow in a failover":    {[]time.Duration{4 * time.Second, 0}, verb.Probed{}, 1, 1, false},
		"nobody is there":       {[]time.Duration{time.Millisecond, 0}, verb.Probed{}, 2, 1, false},
		"a refusal, after long": {[]time.Duration{3 * time.Second, 0}, verb.Probed{Answered: true}, 2, 1, false},
	} {
		synctest.Test(t, func(t *testing.T) {
			n := 0
			r := patiently(c.tries, func() verb.Probed {
				time.Sleep(c.takes[n])
				if n++; n == len(c.takes) {
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
