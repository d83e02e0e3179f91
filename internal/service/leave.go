package service

import (
	"context"
	"slices"
	"sync"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/store"
)

// Leaving lists what becomes of the things that Cross Twin made when a cluster, or
// one server of it, is removed, as far as that can be said beforehand.
func (s *Service) Leaving(cluster, server string, drop bool) ([]verb.Leftover, error) {
	v, err := s.View(cluster)
	if err != nil {
		return nil, err
	}
	names := v.Names()
	if slices.Contains(withoutDatabase(&v), server) {
		return []verb.Leftover{}, nil // it made nothing
	}
	if server != "" {
		if v.Find(server) == nil {
			return nil, orNotFound(store.ErrNotFound, "server", server)
		}
		names = []string{server}
	}
	list := view.Leaving(&v, names...)
	calls := view.LeaveCalls(&v, names, list, drop)
	for i, l := range list {
		list[i].Gone = calls[l.Server].Drops(l)
	}
	return list, nil
}

// leave has the agents undo what Cross Twin made for servers that are about to be
// removed, side by side, and returns what became of each thing. An agent that does
// not answer cannot be told; that is part of the answer.
func (s *Service) leave(ctx context.Context, c *watched, names []string, drop bool) []verb.Leftover {
	v := &c.latest.Load().View
	all := len(names) == len(v.Servers)
	for _, n := range withoutDatabase(v) {
		if all || slices.Contains(names, n) {
			s.leaveAlone(ctx, v, n)
		}
	}
	if names = slices.DeleteFunc(names, func(n string) bool { return v.Find(n) == nil }); len(names) == 0 {
		return []verb.Leftover{}
	}
	v = &s.lookAtAll(ctx, c, v, false).View
	list := view.Leaving(v, names...)
	var mu sync.Mutex
	var wg sync.WaitGroup
	var done []verb.Leftover
	for name, call := range view.LeaveCalls(v, names, list, drop) {
		wg.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, observeTimeout)
			defer cancel()
			do := func(ctx context.Context, r agentapi.Request) (agentapi.Answer, error) {
				return servers{s}.Do(ctx, v.Cluster, name, r)
			}
			result, err := agentapi.Ask(ctx, do, agentapi.Request{Step: "leave", Term: v.Term}, call)
			mu.Lock()
			defer mu.Unlock()
			done = append(done, result...)
			if m := v.Find(name); err != nil && m != nil && m.Observation != nil {
				done = append(done, view.NotUndone(name, call, err.Error())...)
			}
		})
	}
	wg.Wait()
	return verb.MergeLeftovers(list, done)
}

// withoutDatabase are a cluster's referees and gates: they made nothing that would have to be
// undone.
func withoutDatabase(v *view.View) (names []string) {
	for _, r := range v.Referees {
		names = append(names, r.Name)
	}
	for _, g := range v.Gates {
		names = append(names, g.Name)
	}
	return names
}

// leaveAlone tells a referee or a gate that it is one no more. One that does not answer notes
// nothing either, and leads nobody: agents do not know its certificate any more.
func (s *Service) leaveAlone(ctx context.Context, v *view.View, name string) {
	ctx, cancel := context.WithTimeout(ctx, observeTimeout)
	defer cancel()
	_, err := servers{s}.Do(ctx, v.Cluster, name, agentapi.Request{Step: "leave", Term: v.Term,
		Call: verb.Leave{Self: true}})
	if err != nil {
		s.log.Warn("a referee or gate could not be told that it was removed", "cluster", v.Cluster, "name", name,
			"error", err)
	}
}
