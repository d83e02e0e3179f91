package gate

import (
	"context"
	"errors"
	"time"
)

// How a session of either engine leaves its server and goes to another one.

// carryError says why a session could not go on; code is the SQLSTATE that its client is told.
type carryError struct{ code, text string }

func (e carryError) Error() string { return e.text }

// awaitBoundary waits until nothing of the session is under way, and reports whether that is so.
func (s *session) awaitBoundary(ctx context.Context) bool {
	stop := context.AfterFunc(ctx, s.wake)
	defer stop()
	s.mu.Lock()
	defer s.mu.Unlock()
	for !s.ended && s.self.connected() && (s.moving || !s.self.atBoundary()) && ctx.Err() == nil {
		s.cond.Wait()
	}
	return s.ended || !s.self.connected() || s.self.atBoundary()
}

// ask learns what there is of the session, where it stands at a boundary.
func (s *session) ask(ctx context.Context) {
	if s.takeIf(func() bool { return !s.asked }) {
		s.self.askNow(ctx)
		s.giveBack()
	}
}

// rest gives up the connection of a session that does nothing, and reports whether it did.
func (s *session) rest() bool {
	return s.step(func() bool { return s.portable() && !s.self.pins() && time.Since(s.changed) > knowAfter })
}

// moveOn has the session leave its server at a boundary; it goes to another one when it speaks.
func (s *session) moveOn() {
	ctx, cancel := context.WithTimeout(s.g.ctx, cutLimit)
	defer cancel()
	s.ask(ctx)
	s.step(s.portable)
}

// step gives up the connection where that is so.
func (s *session) step(so func() bool) bool {
	ok := s.takeIf(so)
	if ok {
		s.self.detach()
		s.giveBack()
	}
	return ok
}

// leave gives up the server; a session that cannot be carried is ended, with the reason.
func (s *session) leave() (why string) {
	if !s.take() {
		return ""
	}
	defer s.giveBack()
	s.mu.Lock()
	connected, told := s.self.connected(), carryError{codeShutdown, "nothing was under way"}
	switch why = s.self.why(); {
	case !connected:
		why = ""
	case !s.self.atBoundary():
		why, told = "work that could not be ended", s.self.outcome()
	case !s.asked && why == "":
		why = "a state that could not be asked for"
	}
	s.mu.Unlock()
	if why != "" {
		s.g.closedN.Add(1)
		s.self.end(told.code, "the primary is about to change, and a session with "+why+
			" cannot be carried to another server; "+told.text)
	} else if connected {
		s.self.detach()
	}
	return why
}

// pinned reports whether the session holds something that others must not come before: locks are
// taken and channels listened to before anybody else goes on, and given up after all others.
func (s *session) pinned() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return !s.ended && s.self.pins()
}

// enter goes to a server, past the others that are held.
func (s *session) enter(ctx context.Context) (err error) {
	if !s.take() {
		return errEnded
	}
	s.mu.Lock()
	connected := s.self.connected()
	s.mu.Unlock()
	if !connected {
		err = s.self.attach(ctx, true)
	}
	s.giveBack()
	if err != nil {
		s.endWith(err)
	}
	return err
}

// goOn waits for a server and becomes there what the session was; it is its client's goroutine
// that waits. mu is held.
func (s *session) goOn() error {
	s.waiting = time.Now()
	s.mu.Unlock()
	_, err := s.g.await(s.g.ctx, s.door, false) // others may bring the session to a server meanwhile
	s.mu.Lock()
	if err == nil && (s.self.connected() || s.moving || s.ended) {
		s.waiting = time.Time{}
		return nil
	}
	if err == nil {
		s.moving = true
		s.mu.Unlock()
		err = s.self.attach(s.g.ctx, false)
		s.mu.Lock()
		s.done()
	} else {
		err = carryError{codeNoServer, err.Error() + "; nothing was under way: connect again"}
	}
	s.waiting = time.Time{}
	if err != nil {
		s.mu.Unlock()
		s.endWith(err)
		s.mu.Lock()
	}
	return err
}

// hold waits while sessions are held; mu is held.
func (s *session) hold() {
	s.waiting = time.Now()
	for !s.ended && !s.moving && s.self.connected() && s.must() {
		s.cond.Wait()
	}
	s.g.waits.Add(1)
	s.g.waited.Add(int64(time.Since(s.waiting)))
	s.waiting = time.Time{}
}

// endWith ends a session that could not go on.
func (s *session) endWith(err error) {
	c := carryError{codeShutdown, err.Error()}
	if errors.As(err, &c) {
		s.g.closedN.Add(1)
	}
	s.self.end(c.code, c.text)
}

// endAtBoundary closes the session where nothing is under way, and reports whether it did; it waits
// for that until ctx ends.
func (s *session) endAtBoundary(ctx context.Context, code, why string) bool {
	for s.awaitBoundary(ctx) {
		if !s.take() {
			return true
		}
		s.mu.Lock()
		quiet := !s.self.connected() || s.self.atBoundary()
		s.mu.Unlock()
		if quiet {
			s.self.end(code, why)
		}
		s.giveBack()
		if quiet {
			return true
		}
	}
	return false
}

// endAfterCut closes a session that took too long.
func (s *session) endAfterCut(why string) {
	s.mu.Lock()
	told := carryError{codeShutdown, "nothing was under way: connect again"}
	if s.self.connected() && !s.self.atBoundary() {
		told = s.self.outcome()
	}
	s.mu.Unlock()
	s.self.end(told.code, why+"; "+told.text)
}

// cuts has something done to end what is under way, while the client begins nothing.
func (s *session) cuts(end func()) {
	s.mu.Lock()
	if s.ended || s.cutting || !s.self.connected() || s.self.atBoundary() {
		s.mu.Unlock()
		return
	}
	s.cutting = true
	s.mu.Unlock()
	end()
	s.mu.Lock()
	s.cutting = false
	s.cond.Broadcast()
	s.mu.Unlock()
}

// awaitThat waits until something is so, the session has ended or lost its server, or ctx ends.
func (s *session) awaitThat(ctx context.Context, so func() bool) {
	stop := context.AfterFunc(ctx, s.wake)
	defer stop()
	s.mu.Lock()
	defer s.mu.Unlock()
	for !s.ended && s.self.connected() && !so() && ctx.Err() == nil {
		s.cond.Wait()
	}
}
