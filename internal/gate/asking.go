package gate

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/route"
)

// askEvery is how often agents are asked how their servers stand, askLimit how long one may take.
const (
	askEvery = 500 * time.Millisecond
	askLimit = 1500 * time.Millisecond
)

// keepAsking asks all agents, whether or not the service is there.
func (g *Gate) keepAsking(ctx context.Context) {
	t := time.NewTicker(askEvery)
	defer t.Stop()
	for {
		g.mu.Lock()
		servers := append([]route.Server{}, g.orders.Servers...)
		g.mu.Unlock()
		for _, s := range servers {
			go g.askAgent(ctx, s)
		}
		g.moveReaders()
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// askAgent asks one, and keeps the answer with the time of the question.
func (g *Gate) askAgent(ctx context.Context, s route.Server) {
	asked := time.Now()
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	standing, err := g.control.Standing(ctx, s)
	if err != nil {
		return // what it said last ages
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	before := g.said[s.Name]
	if before.at.After(asked) {
		return
	}
	g.said[s.Name] = said{standing, asked}
	if before.Writes != standing.Writes || before.Reads != standing.Reads || before.Term != standing.Term ||
		time.Since(before.at) > askLimit {
		g.tell()
	}
}

// awaitOwner asks the owner's agent again and again until it confirms that the server takes
// writes.
func (g *Gate) awaitOwner(ctx context.Context) error {
	for {
		g.mu.Lock()
		owner := g.orders.Find(g.orders.Owner)
		g.mu.Unlock()
		if owner == nil {
			return errors.New(string(route.NoOrders))
		}
		g.askAgent(ctx, *owner)
		g.mu.Lock()
		_, why := g.orders.Write(g.confirmed())
		g.mu.Unlock()
		if why == "" {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s: %s", owner.Name, why)
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// moveReaders has readers leave a server that is not fit for them any more, or the primary once a
// replica is, at their boundaries.
func (g *Gate) moveReaders() {
	g.mu.Lock()
	said := g.confirmed()
	var leaving []carried
	for _, s := range g.sessions {
		b := s.base()
		at := b.server()
		if b.door != route.Reader || at == "" || at != g.orders.Owner && g.orders.Fit(at, said) {
			continue
		}
		if to, _ := g.target(route.Reader); to != nil && to.Name != at {
			leaving = append(leaving, s)
		}
	}
	g.mu.Unlock()
	for _, s := range leaving {
		go s.base().moveOn()
	}
}

// knowAfter is how long a session rests before it is asked for its state, which then is known when
// its server goes down.
const knowAfter = time.Second

// knowLimit is how long the answer may take. A question that is given up takes its connection with
// it, so this is no server's usual slowness.
const knowLimit = 30 * time.Second

// keepKnowing asks sessions that have begun to rest. A few at a time: they are in no hurry.
func (g *Gate) keepKnowing(ctx context.Context) {
	for t := time.NewTicker(knowAfter / 4); ; {
		var wg sync.WaitGroup
		few := make(chan struct{}, 2)
		for _, s := range g.all() {
			if !s.base().rests() || g.holding.Load() {
				continue
			}
			few <- struct{}{}
			wg.Go(func() {
				defer func() { <-few }()
				ctx, cancel := context.WithTimeout(ctx, knowLimit)
				defer cancel()
				s.base().ask(ctx)
			})
		}
		wg.Wait()
		select {
		case <-ctx.Done():
			t.Stop()
			return
		case <-t.C:
		}
	}
}

// kept asks for a user's password, again and again for as long as a client waits for a server: when
// a gate was started anew, all its clients come at once.
func (g *Gate) kept(ctx context.Context, user string) (agentapi.Kept, error) {
	g.mu.Lock()
	ctx, cancel := context.WithTimeout(ctx, g.patience())
	g.mu.Unlock()
	defer cancel()
	for {
		k, err := g.askKept(ctx, user)
		if err == nil || ctx.Err() != nil {
			return k, err
		}
		select {
		case <-ctx.Done():
			return k, err
		case <-time.After(keptRest):
		}
	}
}

// keptRest is the time between two rounds of asking.
const keptRest = 100 * time.Millisecond

// askKept asks the owner's agent first, and then any other one, because what is kept is the same on
// all.
func (g *Gate) askKept(ctx context.Context, user string) (agentapi.Kept, error) {
	g.mu.Lock()
	owner := g.orders.Owner
	servers := append([]route.Server{}, g.orders.Servers...)
	g.mu.Unlock()
	var failed error = errors.New(string(route.NoOrders))
	for _, first := range []bool{true, false} {
		for _, s := range servers {
			if (s.Name == owner) != first {
				continue
			}
			ctx, cancel := context.WithTimeout(ctx, askLimit)
			k, err := g.control.Kept(ctx, s, user)
			cancel()
			if err == nil {
				return k, nil
			}
			failed = fmt.Errorf("%s's agent: %w", s.Name, err)
		}
	}
	return agentapi.Kept{}, failed
}

// standing is what a server's agent said last.
func (g *Gate) standing(server string) route.Standing {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.said[server].Standing
}
