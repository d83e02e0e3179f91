package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path"
	"sort"
	"strings"
	"sync"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/compare"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/runner"
)

// local makes a Local of a typed call.
func local[C verb.Call](do func(ctx context.Context, op *operation.Operation, c C) (any, int64, error)) (verb.Name,
	runner.Local) {
	var zero C
	return zero.Verb(), func(ctx context.Context, op *operation.Operation, c verb.Call) (any, int64, error) {
		return do(ctx, op, c.(C))
	}
}

// localVerbs are the calls of the service itself.
func (s *Service) localVerbs() map[verb.Name]runner.Local {
	m := map[verb.Name]runner.Local{}
	add := func(n verb.Name, l runner.Local) { m[n] = l }
	add(local(func(ctx context.Context, op *operation.Operation, c verb.OpenTerm) (any, int64, error) {
		return nil, c.Term, s.openTerm(ctx, op, c)
	}))
	add(local(func(ctx context.Context, op *operation.Operation, c verb.Decide) (any, int64, error) {
		decide := s.Store.Decide
		if c.Closed {
			decide = s.Store.DecideInPlace
		}
		if err := decide(ctx, op.Cluster, op.Term, c.Server); err != nil {
			return nil, 0, err
		}
		return nil, 0, s.reload(ctx, op.Cluster)
	}))
	add(local(func(ctx context.Context, op *operation.Operation, v verb.Outlast) (any, int64, error) {
		c, err := s.cluster(op.Cluster)
		if err != nil {
			return nil, 0, err
		}
		return nil, 0, s.outlast(ctx, c, v.Candidate)
	}))
	add(local(func(ctx context.Context, op *operation.Operation, d verb.Detach) (any, int64, error) {
		return nil, 0, s.detach(ctx, op, d.Servers)
	}))
	add(local(func(ctx context.Context, op *operation.Operation, p verb.Promise) (any, int64, error) {
		err := s.promise(ctx, op.Cluster, p.Setting, true, func(now []synchronous.List) ([]synchronous.List, error) {
			if !p.Add {
				return p.Promised, nil
			}
			for _, l := range p.Promised {
				now = synchronous.With(now, l)
			}
			return now, nil
		})
		if err == nil && p.Add {
			err = s.notePromise(ctx, op.Cluster)
		}
		return nil, 0, err
	}))
	add(local(s.restGates))
	add(local(s.holdGates))
	add(local(s.releaseGates))
	add(local(s.judge))
	add(local(s.reread))
	return m
}

// openTerm records a term and has every agent that answers note it, side by
// side, so that nothing of an older term has any effect from then on. An agent
// that does not answer costs its own limit once.
func (s *Service) openTerm(ctx context.Context, op *operation.Operation, call verb.OpenTerm) error {
	term := call.Term
	if c, err := s.cluster(op.Cluster); err == nil && call.For != "" {
		s.outlastPledge(ctx, c, call.For)
		s.grantNow(ctx, c)
	}
	if err := s.Store.OpenTerm(ctx, op.Cluster, term, op.ID); err != nil {
		return err
	}
	c, err := s.cluster(op.Cluster)
	if err != nil {
		return err
	}
	if err := s.openedFor(ctx, c, term, call.For); err != nil {
		return err
	}
	v, err := s.View(op.Cluster)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, observeTimeout)
	defer cancel()
	errs := make([]error, len(v.Servers)+len(v.Referees))
	var wg sync.WaitGroup
	for i, m := range v.Servers {
		wg.Go(func() { errs[i] = s.noteTerm(ctx, op, m.Name, term, m.Health != view.Unseen) })
	}
	for i, r := range v.Referees {
		wg.Go(func() {
			err := s.noteTerm(ctx, op, r.Name, term, r.Answers)
			var p agentapi.Problem
			if err == nil || errors.As(err, &p) && p.Code == agentapi.CodeStaleTerm {
				errs[len(v.Servers)+i] = err
				return
			}
			// It can do nothing in an older term. Whether enough have noted the new one is looked
			// at before anybody may write in it.
			s.log.Warn("a referee does not note a term", "cluster", op.Cluster, "referee", r.Name, "term", term, "error", err)
		})
	}
	wg.Wait()
	return errors.Join(errs...)
}

// noteTerm has one agent note a term; one that cannot be reached does so later, from whoever
// asks it next.
func (s *Service) noteTerm(ctx context.Context, op *operation.Operation, name string, term int64, answers bool) error {
	limit := observeTimeout
	if !answers {
		limit = unseenLimit / 2 // writes wait
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	_, err := servers{s}.Do(ctx, op.Cluster, name,
		agentapi.Request{Operation: op.ID, Step: "note-term", Term: term, Call: verb.Note{}})
	var far agentapi.Unreachable
	if err == nil || errors.As(err, &far) {
		return nil
	}
	return fmt.Errorf("%s does not note term %d: %w", name, term, err)
}

// detach has replicas follow nobody, side by side.
func (s *Service) detach(ctx context.Context, op *operation.Operation, replicas []string) error {
	errs := make([]error, len(replicas))
	var wg sync.WaitGroup
	for i, n := range replicas {
		wg.Go(func() {
			if _, err := (servers{s}).Do(ctx, op.Cluster, n, agentapi.Request{Operation: op.ID, Step: "detach", Term: op.Term,
				Call: verb.Follow{}}); err != nil {
				errs[i] = fmt.Errorf("detach %s: %w", n, err)
			}
		})
	}
	wg.Wait()
	return errors.Join(errs...)
}

// reread reads a saved tail back from its agent before anything is removed: it
// has to be the file that was written, and every committed transaction of the
// listing has to be in it.
func (s *Service) reread(ctx context.Context, op *operation.Operation, c verb.Reread) (any, int64, error) {
	t := c.Tail
	h := sha256.New()
	if err := s.SalvageFile(ctx, op.Cluster, c.Server, path.Base(t.Saved), h); err != nil {
		return nil, 0, fmt.Errorf("could not read %s back from %s: %w", t.Saved, c.Server, err)
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != t.Digest {
		return nil, 0, fmt.Errorf("the saved tail %s on %s is not the file that was written: its digest is %s, not %s",
			t.Saved, c.Server, got, t.Digest)
	}
	if name, missing := t.NotSaved(); missing {
		return nil, 0, fmt.Errorf("transaction %s is missing in the saved tail %s on %s, or is there in part only: "+
			"crosstwin rejoin %s %s --preview says what to do", name, t.Saved, c.Server, op.Cluster, c.Server)
	}
	s.completeTail(ctx, op.Cluster, op.Plan.Primary, &t)
	return t, 0, nil
}

// judge compares the sums of all servers with the primary's, and names the rows
// that differ where the table has a key. The comparison is kept also when it
// found a difference, which fails the step.
func (s *Service) judge(ctx context.Context, op *operation.Operation, c verb.Judge) (any, int64, error) {
	x := compare.Judge(c.Servers, c.Sums)
	primary := c.Servers[0]
	var words []string
	for _, t := range x.Tables {
		for n, d := range t.Differs {
			if t.Rows[n] >= 0 && t.Rows[primary] >= 0 && !t.Sequence {
				d += s.differentRows(ctx, op, t.Table, primary, n)
			}
			t.Differs[n] = d
			words = append(words, fmt.Sprintf("%s on %s: %s", t.Table, n, d))
		}
	}
	if err := op.KeepFact(verb.Fact{Kind: verb.FactComparison}, x); err != nil {
		return nil, 0, err
	}
	if x.Differ > 0 {
		sort.Strings(words)
		return nil, 0, fmt.Errorf("%d of %d %s differ from %s. %s%s", x.Differ, len(x.Tables), x.Kinds(), primary,
			strings.Join(words, ". "), op.NotCompared())
	}
	return x, 0, nil
}

// namedRows bounds how many different rows are named.
const namedRows = 20

// differentRows names the rows of a table that differ, in words behind a
// difference.
func (s *Service) differentRows(ctx context.Context, op *operation.Operation, table, primary, other string) string {
	rows, err := s.findRows(ctx, op, table, primary, other)
	switch {
	case err != nil:
		return " (the rows cannot be named: " + err.Error() + ")"
	case len(rows) > namedRows:
		rows = append(rows[:namedRows], fmt.Sprintf("and %d more", len(rows)-namedRows))
	case len(rows) == 0:
		return ""
	}
	return "; rows by key: " + strings.Join(rows, ", ")
}

func (s *Service) findRows(ctx context.Context, op *operation.Operation, table, primary, other string) ([]string,
	error) {
	ask := func(server string, buckets []int) (verb.RowSums, error) {
		return agentapi.Ask(ctx, servers{s}.at(op.Cluster, server),
			agentapi.Request{Operation: op.ID, Step: "judge", Term: op.Term}, verb.Rows{Table: table, Buckets: buckets})
	}
	both := func(buckets []int) (a, b verb.RowSums, err error) {
		if a, err = ask(primary, buckets); err == nil {
			b, err = ask(other, buckets)
		}
		return a, b, err
	}
	a, b, err := both(nil)
	if err != nil {
		return nil, err
	}
	if a.NoKey || b.NoKey {
		return nil, errors.New("the table has no primary key")
	}
	buckets := compare.Buckets(a.Buckets, b.Buckets)
	if len(buckets) == 0 {
		return nil, nil
	}
	if a, b, err = both(buckets[:min(len(buckets), namedRows)]); err != nil {
		return nil, err
	}
	return compare.Rows(a.Rows, b.Rows, other), nil
}
