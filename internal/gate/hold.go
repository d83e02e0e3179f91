package gate

import (
	"context"
	"sync"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/route"
	"crosstwin/internal/core/verb"
)

// askers is how many sessions are asked at a time; more only wait for each other.
const askers = 4

// each does something with sessions, a few at a time.
func each(list []carried, at int, do func(carried)) {
	places := make(chan struct{}, at)
	var wg sync.WaitGroup
	for _, s := range list {
		places <- struct{}{}
		wg.Go(func() {
			defer func() { <-places }()
			do(s)
		})
	}
	wg.Wait()
}

// restPace is the time between two sessions that give up an idle connection ahead of a pause: a
// server that has to end hundreds when it stops takes longer to stop, and closing them all at
// once stalls the others (handbook, "Gate facts", 4).
const (
	restPace  = 10 * time.Millisecond
	mostRests = 500
)

// Rest asks all writers for their state, and has those that do nothing give up their connections.
func (g *Gate) Rest(ctx context.Context) verb.GateFigures {
	began := time.Now()
	list := g.of(route.Writer)
	each(list, askers, func(s carried) {
		ctx, cancel := context.WithTimeout(ctx, knowLimit)
		defer cancel()
		s.base().ask(ctx)
	})
	rested := 0
	for _, s := range list {
		if rested >= mostRests || ctx.Err() != nil {
			break
		}
		if s.base().rest() {
			rested++
			time.Sleep(restPace)
		}
	}
	f := g.figures(list)
	f.Seconds = time.Since(began).Seconds()
	return f
}

// figures counts what is known of sessions.
func (g *Gate) figures(list []carried) (f verb.GateFigures) {
	for _, s := range list {
		f.Sessions++
		if x := s.show(); x.Portable || x.WhyNot != "" {
			f.Found(x.WhyNot)
		}
	}
	return f
}

// holdLimit is how long sessions are held without another word of the service; then the gate
// looks itself where writes go on.
const holdLimit = 30 * time.Second

// Hold lets writers begin nothing new, waits up to a limit for what is under way, cuts what is not
// done by then, and has all leave their server.
func (g *Gate) Hold(ctx context.Context, limit time.Duration) verb.GateFigures {
	began := time.Now()
	g.mu.Lock()
	if g.held.IsZero() {
		g.setHeld(began)
	}
	held := g.held
	g.mu.Unlock()
	time.AfterFunc(holdLimit, func() { g.giveUpHolding(held) })
	list := g.of(route.Writer)
	for _, s := range list {
		s.base().wake()
	}
	cut, closed := g.cutN.Load(), g.closedN.Load()
	quiet, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	asking := make(chan struct{}, askers)
	each(list, max(len(list), 1), func(s carried) {
		if !s.base().awaitBoundary(quiet) {
			ctx, cancel := context.WithTimeout(ctx, cutLimit)
			s.cut(ctx)
			cancel()
		}
		asking <- struct{}{}
		defer func() { <-asking }()
		ctx, cancel := context.WithTimeout(ctx, cutLimit)
		defer cancel()
		s.base().ask(ctx)
	})
	f := g.allLeave(list)
	f.Cut, f.Closed = int(g.cutN.Load()-cut), int(g.closedN.Load()-closed)
	f.Seconds = time.Since(began).Seconds()
	return f
}

// allLeave has sessions give up their server, where nothing is under way at any: first those that
// hold nothing that others wait for. A lock that is given up is had by who waits for it, and a
// notification is lost on who listens no more: when those leave that hold such things, nobody else
// is there.
func (g *Gate) allLeave(list []carried) verb.GateFigures {
	f := verb.GateFigures{Sessions: len(list)}
	var mu sync.Mutex
	for _, pinned := range []bool{false, true} {
		var now []carried
		for _, s := range list {
			if s.base().pinned() == pinned {
				now = append(now, s)
			}
		}
		each(now, askers, func(s carried) {
			why := s.base().leave()
			mu.Lock()
			defer mu.Unlock()
			f.Found(why)
		})
	}
	return f
}

// cutLimit bounds the cutting of one session, and the question for its state.
const cutLimit = time.Second

// giveUpHolding ends a hold that nobody has ended: the service may be away. Sessions go to the
// owner that the gate knows once its agent confirms that it takes writes, and nowhere else.
func (g *Gate) giveUpHolding(since time.Time) {
	g.mu.Lock()
	over := g.held.Equal(since)
	if over {
		g.setHeld(time.Time{})
	}
	g.mu.Unlock()
	if over {
		g.log.Warn("the service has not said how the operation ended: sessions go on where their agent confirms it")
		g.wakeAll()
	}
}

func (g *Gate) wakeAll() {
	for _, s := range g.all() {
		s.base().wake()
	}
}

// releaseLimit is how long a release waits for the owner's agent, and for sessions.
const releaseLimit = 10 * time.Second

// Release takes the service's orders and leads writers by them: first those that hold something
// that others must not come before, then all. Waited waits until those that wait are there.
func (g *Gate) Release(ctx context.Context, o *route.Orders, waited bool) (f verb.GateFigures, err error) {
	began := time.Now()
	carriedBefore, closed := g.carriedN.Load(), g.closedN.Load()
	g.Obey(o)
	ctx, cancel := context.WithTimeout(ctx, releaseLimit)
	defer cancel()
	err = g.awaitOwner(ctx)
	list := g.of(route.Writer)
	if err == nil {
		each(list, openings, func(s carried) {
			if s.base().pinned() {
				if err := s.base().enter(ctx); err != nil {
					g.log.Warn("a session could not be carried", "session", s.base().id, "error", err)
				}
			}
		})
	}
	g.mu.Lock()
	g.setHeld(time.Time{})
	g.mu.Unlock()
	g.wakeAll()
	for waited && err == nil && g.waiting(route.Writer) > 0 && ctx.Err() == nil {
		time.Sleep(time.Millisecond)
	}
	f = g.figures(list)
	f.Others = nil
	f.Carried, f.Closed = int(g.carriedN.Load()-carriedBefore), int(g.closedN.Load()-closed)
	f.Seconds = time.Since(began).Seconds()
	return f, err
}

// waiting counts the clients of a door that wait for a server.
func (g *Gate) waiting(d route.Door) (n int) {
	for _, s := range g.of(d) {
		if s.base().waits() {
			n++
		}
	}
	return n
}

// Observe shows the gate.
func (g *Gate) Observe() *observation.Gate {
	o := &observation.Gate{Writer: g.cfg.Writer, Reader: g.cfg.Reader, Opened: g.opened.Load(),
		Refused: g.refused.Load(), Carried: g.carriedN.Load(), Cut: g.cutN.Load(), Closed: g.closedN.Load(),
		Waits: g.waits.Load(), WaitedSeconds: time.Duration(g.waited.Load()).Seconds()}
	count := map[observation.GateCount]int{}
	list := g.all()
	f := g.figures(list)
	o.Portable, o.Others = f.Portable, f.Others
	for _, s := range list {
		x := s.show()
		count[observation.GateCount{Door: x.Door, Server: x.Server}]++
		if s.base().waits() {
			o.Waiting++
		}
	}
	for k, n := range count {
		k.Sessions = n
		o.Doors = append(o.Doors, k)
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	o.Term = g.orders.Term
	s, why := g.orders.Write(g.confirmed())
	if o.Why = string(why); s != nil {
		o.To = s.Name
	}
	if !g.held.IsZero() {
		o.HeldSeconds = time.Since(g.held).Seconds()
	}
	return o
}

// mostShown bounds a list of sessions.
const mostShown = 2000

// Sessions lists the sessions, the oldest first.
func (g *Gate) Sessions() []observation.GateSession {
	out := []observation.GateSession{}
	for _, s := range g.all() {
		if len(out) == mostShown {
			break
		}
		out = append(out, s.show())
	}
	return out
}
