package agent

import (
	"context"
	"os"
	"path/filepath"
	"time"

	"crosstwin/internal/clock"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
)

// probeFrom is how little of a permission is left when it is tried whether the database
// commits, probeEvery how often, and probeLimit is how long that may take.
const (
	probeFrom  = 2500 * time.Millisecond
	probeEvery = 500 * time.Millisecond
	probeLimit = 900 * time.Millisecond
)

// probe tries whether the database commits, before pledges are asked for.
func (p *permission) probe(ctx context.Context, s state) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !s.Guard.Owner || p.seen != guard.DatabaseOpen || p.probing || time.Since(p.probedAt) < probeEvery ||
		p.m.Held.Last()-clock.Now() > probeFrom {
		return
	}
	p.probing, p.probedAt = true, time.Now()
	go func() {
		ctx, cancel := context.WithTimeout(ctx, probeLimit)
		err := p.a.engine.Commits(ctx)
		cancel()
		p.mu.Lock()
		p.probing = false
		p.mu.Unlock()
		if err == nil {
			p.step(guard.DatabaseIs{State: guard.DatabaseOpen, Commits: true})
		}
	}()
}

// killLimit is how long the processes may take to go: the deadman kills as well.
const killLimit = 900 * time.Millisecond

// startAgain is how long after a database was killed it is started again, shut.
const startAgain = time.Second

// kill stops a database that may take writes without a permission, with nothing in
// between that could hang. Whoever starts it again finds it shut.
func (p *permission) kill(owner bool) {
	a := p.a
	a.log.Error("no permission to take writes runs: the database is killed")
	left := a.data.KillNow(killLimit)
	if len(left) == 0 {
		p.step(guard.DatabaseIs{State: guard.DatabaseStopped})
	} else {
		a.log.Error("processes of the database do not end; they are killed again", "processes", left)
	}
	p.mu.Lock()
	stood := p.stood
	p.killing, p.startsAt = false, time.Time{}
	if len(left) == 0 {
		p.seen = guard.DatabaseStopped
	}
	if owner && !stood {
		p.startsAt = time.Now().Add(startAgain)
	}
	p.mu.Unlock()
	if stood {
		if err := a.memory.change(func(s *state) error { s.Fenced = true; return nil }); err != nil {
			a.log.Error("could not record that the database was fenced", "error", err)
		}
	}
}

// startShut starts a database again, shut, that was killed because its permission had run
// out: its owner may get another one, and its data can be looked at. One that an
// operation stopped stays so.
func (p *permission) startShut(ctx context.Context, s state) {
	note := filepath.Join(p.a.dir, killedFile)
	if _, err := os.Stat(note); err == nil && os.Remove(note) == nil && s.Guard.Owner {
		p.mu.Lock()
		p.startsAt = time.Now().Add(startAgain)
		p.mu.Unlock()
	}
	p.mu.Lock()
	due := !p.startsAt.IsZero() && time.Now().After(p.startsAt)
	switch {
	case due && !p.a.isOurs(): // a look has to say first whose data it is
		p.startsAt = time.Now().Add(startAgain)
	case due:
		p.startsAt = time.Time{}
	}
	p.mu.Unlock()
	if !due || !p.mayStart() {
		return
	}
	go func() {
		ctx, done, err := p.a.acts.begin(ctx, s.Guard.Noted)
		if err != nil {
			return
		}
		defer done()
		if !p.mayStart() {
			return // an operation has fenced it meanwhile
		}
		ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
		defer cancel()
		p.a.log.Warn("the database was killed because its permission had run out: it is started again, shut")
		if err := p.a.engine.Start(ctx, observation.Replica); err != nil {
			p.a.log.Error("could not start the database again", "error", err)
			p.mu.Lock()
			p.startsAt = time.Now().Add(10 * startAgain)
			p.mu.Unlock()
		}
	}()
}

// mayStart reports whether the database is stopped, and nobody means it to be.
func (p *permission) mayStart() bool {
	s := p.a.memory.get()
	return !s.Fenced && s.Unfinished == "" && p.a.isOurs() && len(p.a.data.Processes()) == 0
}
