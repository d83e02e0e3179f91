package host

import (
	"fmt"
	"slices"
	"time"

	"crosstwin/internal/core/verb"
)

// timedCommits is how many commits are measured, and timeLimit for how long at most.
const (
	timedCommits = 25
	timeLimit    = 3 * time.Second
)

// giveUpLimit is how long a commit may take to end once its session was ended.
const giveUpLimit = time.Second

// TimeCommits measures commits one after the other, and returns their median. Of one that waits
// for too long giveUp ends the session, which acknowledges nothing; where it is nil the commit is
// left to wait. To cancel it would count as a commit that was acknowledged without a replica.
func TimeCommits(commit func() error, giveUp func()) (verb.Timed, error) {
	var took []time.Duration
	for began := time.Now(); len(took) < timedCommits && time.Since(began) < timeLimit; {
		at := time.Now()
		done := make(chan error, 1)
		go func() { done <- commit() }()
		select {
		case err := <-done:
			if err != nil {
				return verb.Timed{}, err
			}
		case <-time.After(timeLimit):
			if giveUp != nil {
				giveUp()
				select {
				case <-done:
				case <-time.After(giveUpLimit):
				}
			}
			return verb.Timed{}, fmt.Errorf("a commit has been waiting for %s", timeLimit)
		}
		took = append(took, time.Since(at))
	}
	slices.Sort(took)
	return verb.Timed{Commits: len(took), Median: took[len(took)/2].Seconds()}, nil
}
