package service

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/route"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/words"
)

// orders are what a gate is told of the cluster: who owns the newest decided term, and where all
// servers are. Which of them takes writes just now the gate asks their agents. c.mu is held.
func (c *watched) orders() *route.Orders {
	o := &route.Orders{Cluster: c.rec.Name, Engine: c.rec.Engine, Term: c.rec.OwnerTerm, Owner: c.rec.Owner,
		PrimaryReads: c.rec.Policy.Gates.PrimaryReads, WaitSeconds: c.rec.Policy.Gates.WaitSeconds, Servers: []route.Server{}}
	for _, m := range c.members {
		if m.last == nil || m.rec.Agent == "" {
			continue
		}
		s := route.Server{Name: m.rec.Name, Address: m.last.Host.Address, Agent: m.rec.Agent}
		if m.last.Encryption != nil {
			s.Proof = m.last.Encryption.State
		}
		o.Servers = append(o.Servers, s)
	}
	return o
}

// GateSessions lists the sessions of one gate.
func (s *Service) GateSessions(ctx context.Context, cluster, gate string) ([]observation.GateSession, error) {
	t, err := s.gateTarget(cluster, gate)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, observeTimeout)
	defer cancel()
	return s.agents.GateSessions(ctx, t)
}

func (s *Service) gateTarget(cluster, gate string) (agentapi.Target, error) {
	t, _, err := s.target(cluster, gate)
	if err != nil || !t.Gate {
		return t, NotFound("gate", gate)
	}
	return t, nil
}

// atGates does something at gates, side by side, and adds up the figures. A gate that cannot be
// reached, or fails, is named in the operation's journal and holds nobody up.
func (s *Service) atGates(ctx context.Context, op *operation.Operation, gates []string, what string,
	do func(context.Context, agentapi.Target) (verb.GateFigures, error)) (any, int64, error) {
	var sum verb.GateFigures
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, name := range gates {
		wg.Go(func() {
			t, err := s.gateTarget(op.Cluster, name)
			var f verb.GateFigures
			if err == nil {
				f, err = do(ctx, t)
			}
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				s.note(op.ID, "warn", fmt.Sprintf("could not %s gate %s: %v", what, name, err))
				return
			}
			sum.Add(f)
		})
	}
	wg.Wait()
	s.note(op.ID, "info", "gates: "+gateFigures(sum))
	return sum, 0, nil
}

func (s *Service) note(op int64, level, text string) {
	if err := s.Store.Note(context.Background(), op, nil, level, text); err != nil {
		s.log.Error("the journal could not be written", "operation", op, "error", err)
	}
}

// gateFigures says what came of sessions, in words.
func gateFigures(f verb.GateFigures) string {
	list := []string{words.Count(int64(f.Sessions), "session")}
	for _, x := range []struct {
		n    int
		what string
	}{{f.Portable, "portable"}, {f.Carried, "carried"}, {f.Cut, "cut in a transaction"}, {f.Closed, "closed"}} {
		if x.n > 0 {
			list = append(list, fmt.Sprintf("%d %s", x.n, x.what))
		}
	}
	for _, why := range slices.Sorted(maps.Keys(f.Others)) {
		list = append(list, fmt.Sprintf("%d not portable: %s", f.Others[why], why))
	}
	return strings.Join(list, ", ") + ", in " + words.Span(f.Seconds)
}

func (s *Service) restGates(ctx context.Context, op *operation.Operation, v verb.RestGates) (any, int64, error) {
	return s.atGates(ctx, op, v.Gates, "ask", s.agents.RestGate)
}

func (s *Service) holdGates(ctx context.Context, op *operation.Operation, v verb.HoldGates) (any, int64, error) {
	return s.atGates(ctx, op, v.Gates, "hold", func(ctx context.Context, t agentapi.Target) (verb.GateFigures, error) {
		return s.agents.HoldGate(ctx, t, agentapi.HoldRequest{Operation: op.ID, Limit: v.Limit})
	})
}

func (s *Service) releaseGates(ctx context.Context, op *operation.Operation, v verb.ReleaseGates) (any, int64, error) {
	c, err := s.cluster(op.Cluster)
	if err != nil {
		return nil, 0, err
	}
	c.mu.Lock()
	orders := c.orders()
	c.mu.Unlock()
	return s.atGates(ctx, op, v.Gates, "release", func(ctx context.Context, t agentapi.Target) (verb.GateFigures, error) {
		return s.agents.ReleaseGate(ctx, t, agentapi.ReleaseRequest{Orders: orders, Waited: v.Waited})
	})
}

// checkGates has all gates try how applications would fare, side by side.
func (s *Service) checkGates(ctx context.Context, cluster string) (*operation.Plan, error) {
	v, err := s.View(cluster)
	if err != nil {
		return nil, err
	}
	tried := []plan.GateTries{}
	for _, g := range v.Gates {
		if g.Answers {
			tried = append(tried, plan.GateTries{Gate: g.Name})
		}
	}
	var wg sync.WaitGroup
	for i := range tried {
		wg.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, 2*observeTimeout)
			defer cancel()
			t, err := s.gateTarget(cluster, tried[i].Gate)
			if err == nil {
				tried[i].Tries, err = s.agents.GateTries(ctx, t)
			}
			if err != nil {
				tried[i].Problem = err.Error()
			}
		})
	}
	wg.Wait()
	return plan.GateChecks(&v, tried), nil
}
