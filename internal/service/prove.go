package service

import (
	"context"
	"errors"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

// A replica that was restarted is no candidate until it is proven anew to share
// the primary's history. The service sees to that by itself: the primary writes a
// mark, and once the replica has applied it, its agent finds it in its own log.
// Nobody waits: each step follows from an observation.

// proveAgain is how long after a proof that failed the next one is tried.
const proveAgain = 30 * time.Second

// proofWait bounds how long a request waits for proofs that are under way.
const proofWait = 5 * time.Second

// pendingProof is a mark that a replica has still to show.
type pendingProof struct {
	mark    verb.Marked
	process string // the replica's process when the mark was written
	busy    bool
	problem string
	next    time.Time
}

// prove takes the next step towards the proof of every replica that lacks it.
func (s *Service) prove(ctx context.Context, c *watched, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	a, quiet := c.quiet()
	if !quiet {
		return
	}
	var lacking []*member
	for _, m := range c.members {
		switch v := a.View.Find(m.rec.Name); {
		case v == nil || !provable(v, a.View.KinTerm) || m.proof.busy || now.Before(m.proof.next):
		case m.proof.mark.ID == "" || m.proof.process != m.last.Process.Identity:
			lacking = append(lacking, m)
		default:
			if passed, known := position.Reaches(c.rec.Engine, m.last.Log.Applied, m.proof.mark.At); known && passed {
				m.proof.busy = true
				go s.findProof(ctx, c, m, c.rec.OwnerTerm)
			}
		}
	}
	if len(lacking) == 0 {
		return
	}
	for _, m := range lacking {
		m.proof = pendingProof{busy: true, process: m.last.Process.Identity, problem: m.proof.problem}
	}
	go s.markProof(ctx, c, lacking, c.rec.Owner, c.rec.OwnerTerm)
}

// awaitProofs waits while a replica that could be the next primary is about to be
// proven: right after a change of terms a request would be refused for a second.
func (s *Service) awaitProofs(ctx context.Context, c *watched) {
	limit, cancel := context.WithTimeout(ctx, proofWait)
	defer cancel()
	for c.provesNow() {
		select {
		case <-limit.Done():
			return
		case <-time.After(watchEvery / 4):
		}
	}
}

func (c *watched) provesNow() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	a, quiet := c.quiet()
	if !quiet {
		return false
	}
	for _, m := range c.members {
		v := a.View.Find(m.rec.Name)
		if v != nil && v.Rank > 0 && provable(v, a.View.KinTerm) && m.proof.problem == "" {
			return true
		}
	}
	return false
}

// provable reports whether a replica lacks a proof and can come to one: it
// follows and applies.
func provable(v *view.Server, term int64) bool {
	o := v.Observation
	return o != nil && o.Process.Identity != "" && o.Process.Accepting && o.Log.ProvenTerm < term &&
		(v.Health == view.InStep || v.Health == view.Behind)
}

// durable reports whether a crash leaves a server's data and log as one. Of a
// MariaDB server with other settings only a comparison tells, after a crash.
// Settings that are not known are not durable.
func durable(settings map[string]string) bool {
	flush, maria := settings["innodb_flush_log_at_trx_commit"]
	return len(settings) > 0 && (!maria || flush == "1" && settings["sync_binlog"] != "0")
}

// markProof has the primary write a mark for the replicas that lack a proof.
func (s *Service) markProof(ctx context.Context, c *watched, lacking []*member, owner string, term int64) {
	problems := map[*member]string{}
	for _, m := range lacking {
		if o, err := s.observe(ctx, c.name(), m.rec.Name, true); err != nil {
			problems[m] = err.Error()
		} else if !durable(o.Config.Settings) {
			problems[m] = "its settings do not make commits durable, so that only a comparison could tell after a crash: " +
				"rejoin it, or set them first"
		}
	}
	var mark verb.Marked
	var err error
	if len(problems) < len(lacking) {
		mark, err = agentapi.Ask(ctx, s.doer(c.name(), owner), agentapi.Request{Term: term}, verb.Mark{})
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, m := range lacking {
		m.proof.busy, m.proof.mark, m.proof.problem = false, mark, problems[m]
		var p agentapi.Problem
		stale := errors.As(err, &p) && p.Code == agentapi.CodeStaleTerm
		if err != nil && !stale { // a newer term came between: it is tried in that one
			m.proof.problem = err.Error()
		}
		if m.proof.problem != "" {
			m.proof.mark, m.proof.next = verb.Marked{}, time.Now().Add(proveAgain)
		}
		var far agentapi.Unreachable
		if stale || errors.As(err, &far) { // a mark costs nothing
			m.proof.mark, m.proof.next = verb.Marked{}, time.Now().Add(2*watchEvery)
		}
	}
}

// findProof has a replica's agent find the mark that it has applied.
func (s *Service) findProof(ctx context.Context, c *watched, m *member, term int64) {
	c.mu.Lock()
	server, mark := m.rec.Name, m.proof.mark
	c.mu.Unlock()
	_, err := s.doer(c.name(), server)(ctx, agentapi.Request{Term: term, Call: verb.AwaitMark{Mark: mark}})
	c.mu.Lock()
	defer c.mu.Unlock()
	m.proof = pendingProof{next: time.Now().Add(2 * watchEvery)} // the next observation shows it
	var p agentapi.Problem
	if errors.As(err, &p) && p.Code == agentapi.CodeStaleTerm {
		return // a newer term came between: it is tried in that one
	}
	if err != nil {
		m.proof.problem, m.proof.next = err.Error(), time.Now().Add(proveAgain)
		s.log.Warn("a replica is not proven to share the primary's history", "cluster", c.rec.Name, "server", server,
			"error", err)
	}
}

// doer carries out calls on one server with a time limit.
func (s *Service) doer(cluster, server string) agentapi.Doer {
	return func(ctx context.Context, r agentapi.Request) (agentapi.Answer, error) {
		t, _, err := s.target(cluster, server)
		if err != nil {
			return agentapi.Answer{}, err
		}
		ctx, cancel := context.WithTimeout(ctx, observeTimeout)
		defer cancel()
		return s.agents.Do(s.permitted(ctx, t), t, r)
	}
}
