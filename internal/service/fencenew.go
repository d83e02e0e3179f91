package service

import (
	"context"
	"time"

	"crosstwin/internal/core/view"
)

// fenceNew switches fencing on for a cluster that was built here, once three servers hold
// its data and every host has what fencing needs. Nobody has said otherwise, and nothing
// waits: a cluster that was adopted is left to a person, who may have promised others how
// its primary behaves when the network is cut.
func (s *Service) fenceNew(ctx context.Context, c *watched) {
	c.mu.Lock()
	a, quiet := c.quiet()
	built, whole := false, 0
	for _, m := range c.members {
		built = built || m.rec.FirstPrimary
	}
	for i := range a.View.Servers {
		if h := a.View.Servers[i].Health; h == view.TakesWrites || h == view.InStep {
			whole++
		}
	}
	name, policy := c.rec.Name, c.rec.Policy
	due := policy.FencingOpen && built && quiet && c.needsYou == nil && whole == len(c.members) &&
		!policy.Maintenance.On(time.Now())
	c.mu.Unlock()
	if !due || c.mayFence(true) != nil {
		return
	}
	policy.Fencing, policy.FencingOpen = true, false
	if err := s.Store.SetPolicy(ctx, name, policy); err != nil {
		s.log.Error("could not record that fencing is on", "cluster", name, "error", err)
		return
	}
	s.log.Info("fencing is on: the cluster has three servers", "cluster", name)
	s.audit(ctx, byItself, "", "policy changed", name, "fencing is on: a new cluster of three servers has it")
	if err := s.reload(ctx, name); err != nil {
		s.log.Error("cannot read the records", "error", err)
	}
}
