package host

import (
	"slices"
	"time"

	"crosstwin/internal/core/verb"
)

// TimeCommits measures commits, until there are enough or a time is over, and returns their
// median.
func TimeCommits(most int, limit time.Duration, commit func() error) (verb.Timed, error) {
	var took []time.Duration
	for began := time.Now(); len(took) < most && time.Since(began) < limit; {
		at := time.Now()
		if err := commit(); err != nil {
			return verb.Timed{}, err
		}
		took = append(took, time.Since(at))
	}
	slices.Sort(took)
	return verb.Timed{Commits: len(took), Median: took[len(took)/2].Seconds()}, nil
}
