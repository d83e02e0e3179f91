package agent

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// jobs runs one long verb at a time, apart from the call that asked for it: a
// copy goes on when the service restarts, and the service finds it again by
// its key in the next observation.
type jobs struct {
	mu     sync.Mutex
	job    *observation.Job
	rateAt time.Time
	rateOf int64
	term   int64 // under which the job was asked for
	ended  bool  // by a newer term
	cancel context.CancelCauseFunc
}

// start begins a job, or gives the one that was begun under the same key. One
// that failed is begun anew. busy is set when another job runs. mayAct is asked
// under the lock that endOlder takes, so a term noted meanwhile either refuses
// the job here or ends it.
func (j *jobs) start(key string, kind verb.Name, term int64, mayAct func(int64) error,
	do func(context.Context, engine.Progress) (any, error)) (job observation.Job, busy bool, err error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if err := mayAct(term); err != nil {
		return job, false, err
	}
	if j.job != nil && j.job.State == observation.JobRunning && j.job.Key != key {
		return *j.job, true, nil
	}
	if j.job != nil && j.job.Key == key && j.job.State != observation.JobFailed {
		return *j.job, false, nil
	}
	ctx, cancel := context.WithCancelCause(context.Background())
	mine := &observation.Job{Key: key, Kind: string(kind), State: observation.JobRunning, StartedAt: time.Now().UTC(),
		SecondsLeft: -1}
	j.job, j.term, j.ended, j.cancel, j.rateAt, j.rateOf = mine, term, false, cancel, time.Now(), 0
	go func() {
		result, err := do(ctx, func(note string, done, total int64) { j.progress(mine, note, done, total) })
		j.mu.Lock()
		defer j.mu.Unlock()
		var stale guard.StaleTermError
		if errors.As(context.Cause(ctx), &stale) {
			result, err = nil, stale // finished or not: its result is refused
		}
		cancel(nil)
		mine.Result, mine.State = result, observation.JobFinished
		if err != nil {
			mine.State, mine.Error = observation.JobFailed, err.Error()
		}
	}()
	return *mine, false, nil
}

// endOlder ends a running job whose term is older than noted.
func (j *jobs) endOlder(noted int64) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.job != nil && j.job.State == observation.JobRunning && j.term < noted {
		j.ended = true
		j.cancel(guard.StaleTermError{Asked: j.term, Noted: noted})
	}
}

// settled waits until no job runs that has been ended.
func (j *jobs) settled(ctx context.Context) error {
	for {
		j.mu.Lock()
		ending := j.job != nil && j.job.State == observation.JobRunning && j.ended
		j.mu.Unlock()
		if !ending {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("a job of an older term has not ended yet: %w", context.Cause(ctx))
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// void forgets the newest job if it is of a kind: what it found is out of date.
// One that runs is ended first. A comparison that is taken up again opens new
// views, and sums of the old ones, asked for under the same key, would not be
// of the same moment on all servers.
func (j *jobs) void(ctx context.Context, kind verb.Name) error {
	for {
		j.mu.Lock()
		running := false
		if j.job != nil && j.job.Kind == string(kind) {
			if running = j.job.State == observation.JobRunning; running {
				j.cancel(nil)
			} else {
				j.job = nil
			}
		}
		j.mu.Unlock()
		if !running {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the %s before does not end: %w", kind, ctx.Err())
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// rateWindow is how often the rate of a job is measured.
const rateWindow = time.Second

func (j *jobs) progress(mine *observation.Job, note string, done, total int64) {
	j.mu.Lock()
	defer j.mu.Unlock()
	mine.Note = note
	if total == 0 {
		return
	}
	mine.DoneBytes, mine.TotalBytes = done, max(total, done)
	if el := time.Since(j.rateAt); el >= rateWindow || mine.BytesPerSec == 0 {
		if el > 10*time.Millisecond {
			mine.BytesPerSec = float64(done-j.rateOf) / el.Seconds()
		}
		if el >= rateWindow {
			j.rateAt, j.rateOf = time.Now(), done
		}
	}
	mine.SecondsLeft = -1
	if mine.BytesPerSec > 0 {
		mine.SecondsLeft = float64(mine.TotalBytes-done) / mine.BytesPerSec
	}
}

// current returns a copy of the newest job.
func (j *jobs) current() *observation.Job {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.job == nil {
		return nil
	}
	c := *j.job
	return &c
}

// stop ends a running job of an operation.
func (j *jobs) stop(key string) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.job == nil || j.job.Key != key || j.job.State != observation.JobRunning {
		return false
	}
	j.cancel(nil)
	return true
}
