package runner

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/words"
)

// How often conditions are looked at: often inside the write pause.
const (
	lookInPause = 3 * time.Millisecond
	lookOutside = 100 * time.Millisecond
)

// await looks at the servers until all conditions of a step hold. It returns
// what was seen, in words; an error says what was still missing at the limit.
func (e *execution) await(ctx context.Context, i int, s *operation.Step) (string, error) {
	if len(s.After) == 0 {
		return "", nil
	}
	every := lookOutside
	if s.InPause {
		every = lookInPause
	}
	began := time.Now()
	last := ""
	for {
		seen, missing := e.look(ctx, i, s, s.After)
		if ctx.Err() != nil && last != "" {
			missing = last // a look that the limit cut short says nothing
		}
		last = missing
		if missing == "" {
			return seen, nil
		}
		if i < e.op.Plan.NoReturnStep() && time.Since(began) > time.Second && e.Journal.Cancelled(ctx, e.op.ID) {
			return seen, errCancelled
		}
		select {
		case <-ctx.Done():
			return seen, fmt.Errorf("gave up after %.1f s: %s", time.Since(began).Seconds(), missing)
		case <-time.After(every):
		}
	}
}

// look tests conditions on fresh observations.
func (e *execution) look(ctx context.Context, i int, s *operation.Step, conditions []operation.Condition) (seen,
	missing string) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	obs, problems := e.observe(ctx, subjects(conditions), s.InPause)
	var words []string
	for _, c := range conditions {
		c, err := e.resolve(c)
		if err != nil {
			return "", err.Error()
		}
		ok, text := c.Holds(e.op.Plan.Engine, obs)
		if !ok {
			return strings.Join(words, "; "), strings.Join(append(problems, text), "; ")
		}
		words = append(words, text)
		e.reportDistance(i, s, c, obs)
	}
	return strings.Join(words, "; "), ""
}

// subjects are the servers that conditions look at. The other one comes first: what a server
// holds of it is then never less than what the condition compares with.
func subjects(conditions []operation.Condition) (names []string) {
	for _, c := range conditions {
		for _, n := range c.Subjects() {
			if n != "" && !slices.Contains(names, n) {
				names = append(names, n)
			}
		}
	}
	return names
}

// observe looks at servers, one after the other; at all of them at once where writes pause: what
// one of them holds of another does not grow then, and each look costs milliseconds.
func (e *execution) observe(ctx context.Context, names []string, atOnce bool) (map[string]*observation.Server,
	[]string) {
	seen, errs := make([]*observation.Server, len(names)), make([]error, len(names))
	var all sync.WaitGroup
	for i, n := range names {
		look := func() { seen[i], errs[i] = e.Servers.Observe(ctx, e.op.Cluster, n) }
		if atOnce {
			all.Go(look)
		} else {
			look()
		}
	}
	all.Wait()
	obs := map[string]*observation.Server{}
	var problems []string
	for i, n := range names {
		if errs[i] != nil {
			problems = append(problems, errs[i].Error())
			continue
		}
		obs[n] = seen[i]
	}
	return obs, problems
}

// resolve puts a kept mark into a condition that asks for one.
func (e *execution) resolve(c operation.Condition) (operation.Condition, error) {
	if c.Fact.IsZero() {
		return c, nil
	}
	var m verb.Marked
	if err := json.Unmarshal(e.op.Facts[c.Fact.String()], &m); err != nil {
		return c, fmt.Errorf("the mark that was kept cannot be read: %w", err)
	}
	c.Values = []string{m.ID, m.At}
	return c, nil
}

// reportDistance shows what a replica still has to apply as progress.
func (e *execution) reportDistance(i int, s *operation.Step, c operation.Condition,
	obs map[string]*observation.Server) {
	if !s.ShowsDistance || obs[c.Other] == nil {
		return
	}
	lacks, known := position.Lacks(e.op.Plan.Engine, obs[c.Server].Log.Applied, obs[c.Other].Log.Written)
	if !known || lacks.IsZero() {
		return
	}
	e.Journal.SetProgress(context.Background(), e.op.ID, i,
		operation.Progress{Note: words.Amount(lacks) + " behind", SecondsLeft: -1})
	e.changed()
}
