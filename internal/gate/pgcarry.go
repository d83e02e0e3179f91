package gate

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"crosstwin/internal/core/route"
	core "crosstwin/internal/core/session"
)

// How a session of PostgreSQL's is carried from one server to another.

// awaitBoundary implements carried.
func (s *pgSession) awaitBoundary(ctx context.Context) bool {
	stop := context.AfterFunc(ctx, s.cond.Broadcast)
	defer stop()
	s.mu.Lock()
	defer s.mu.Unlock()
	for !s.ended && s.back != nil && (s.moving || !s.units.AtBoundary()) && ctx.Err() == nil {
		s.cond.Wait()
	}
	return s.ended || s.back == nil || s.units.AtBoundary()
}

// ask implements carried.
func (s *pgSession) ask(ctx context.Context) {
	s.mu.Lock()
	if s.asked || s.back == nil || !s.units.AtBoundary() || s.moving || s.ended {
		s.mu.Unlock()
		return
	}
	s.moving = true
	s.mu.Unlock()
	s.askNow(ctx)
	s.mu.Lock()
	s.done()
	s.mu.Unlock()
}

// askNow asks; the session is the caller's, and at a boundary.
func (s *pgSession) askNow(ctx context.Context) {
	s.mu.Lock()
	b, names := s.back, append([]string{}, s.names...)
	s.mu.Unlock()
	if b == nil {
		return
	}
	got, err := s.exchange(ctx, b, query(askSQL(names)))
	var st *pgState
	if err == nil {
		st, err = readState(got)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil {
		s.whyNot = "a state that could not be asked for"
		return
	}
	s.known, s.asked, s.fresh, s.parsed = st, true, true, nil
	s.whyNot = s.why()
}

// why is why the session cannot be carried; mu is held.
func (s *pgSession) why() string {
	if s.known == nil {
		return "a state that is not known"
	}
	why := s.known.why
	if s.hidden {
		why = append(why, "a setting by set_config whose name is not known")
	}
	if s.known.user != s.user {
		why = append(why, "SET SESSION AUTHORIZATION")
	}
	return strings.Join(why, ", ")
}

// pinned implements carried: locks are taken and channels listened to before anybody else goes on.
func (s *pgSession) pinned() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.back == nil && !s.ended && s.known != nil && len(s.known.locks)+len(s.known.channels) > 0
}

// rest implements carried.
func (s *pgSession) rest() bool {
	s.mu.Lock()
	ok := s.asked && s.whyNot == "" && !s.moving && !s.ended && s.back != nil && s.units.AtBoundary() &&
		len(s.known.locks)+len(s.known.channels) == 0 && time.Since(s.changed) > knowAfter
	if ok {
		s.moving = true
	}
	s.mu.Unlock()
	if !ok {
		return false
	}
	s.detach()
	s.mu.Lock()
	s.done()
	s.mu.Unlock()
	return true
}

// detach gives the connection up; the session is the caller's.
func (s *pgSession) detach() {
	s.mu.Lock()
	b := s.back
	s.back, s.at = nil, place{}
	if b != nil {
		b.retired = true
	}
	s.mu.Unlock()
	if b == nil {
		return
	}
	b.conn.SetWriteDeadline(time.Now().Add(time.Second))
	b.writing.Lock()
	b.send(&pgproto3.Terminate{})
	b.writing.Unlock()
	b.conn.Close()
	<-b.gone // what it had to say to the client is said
}

// leave implements carried.
func (s *pgSession) leave() string {
	s.mu.Lock()
	if !s.begin() {
		s.mu.Unlock()
		return ""
	}
	why := s.why()
	switch {
	case s.back == nil:
		s.done()
		s.mu.Unlock()
		return ""
	case !s.units.AtBoundary() && !s.dropped:
		why = "work that could not be ended"
	case !s.asked && !s.dropped && why == "":
		why = "a state that could not be asked for"
	}
	s.mu.Unlock()
	if why != "" {
		s.g.closedN.Add(1)
		s.end(codeShutdown, "the primary is about to change, and a session with "+why+
			" cannot be carried to another server; nothing was under way")
		return why
	}
	s.detach()
	s.mu.Lock()
	s.done()
	s.mu.Unlock()
	return ""
}

// moveOn implements carried.
func (s *pgSession) moveOn() {
	ctx, cancel := context.WithTimeout(s.g.ctx, cutLimit)
	defer cancel()
	s.ask(ctx)
	s.mu.Lock()
	ok := s.asked && s.whyNot == "" && !s.moving && !s.ended && s.units.AtBoundary()
	if ok {
		s.moving = true
	}
	s.mu.Unlock()
	if ok {
		s.detach()
		s.mu.Lock()
		s.done()
		s.mu.Unlock()
	}
}

// enter implements carried.
func (s *pgSession) enter(ctx context.Context) error {
	s.mu.Lock()
	if !s.begin() {
		s.mu.Unlock()
		return errEnded
	}
	done := s.back != nil
	s.mu.Unlock()
	var err error
	if !done {
		err = s.attach(ctx, true)
	}
	s.mu.Lock()
	s.done()
	s.mu.Unlock()
	if err != nil {
		s.endWith(err)
	}
	return err
}

// carryError says why a session could not go on; code is what its client is told.
type carryError struct{ code, text string }

func (e carryError) Error() string { return e.text }

// attach goes to a server and becomes there what the session was; it is the caller's.
func (s *pgSession) attach(ctx context.Context, past bool) error {
	s.mu.Lock()
	st, parsed, unnamed, failed := s.known, s.parsed, s.unnamed, s.units.Status() == core.Failed
	s.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, waitLimit+loginLimit)
	defer cancel()
	b, err := s.open(ctx, past)
	if err != nil {
		return carryError{codeNoServer, "no server to go on with: " + err.Error() + "; nothing was under way: connect again"}
	}
	if err := s.settle(b, st, parsed, unnamed, failed); err != nil {
		b.conn.Close()
		return err
	}
	var told []pgproto3.Message
	s.mu.Lock()
	for name, value := range b.params {
		if s.params[name] != value {
			told = append(told, &pgproto3.ParameterStatus{Name: name, Value: value})
		}
	}
	s.params, s.back, s.at, s.dropped = b.params, b, b.place, false
	s.mu.Unlock()
	if len(told) > 0 { // the session is at a boundary: its client may be told at any time
		s.toClient(func(w *wire) { w.send(told...) })
	}
	s.g.carriedN.Add(1)
	go s.relay(b)
	if s.g.misplaced(s.door, b.place) {
		s.lose("another server became primary meanwhile")
	}
	return nil
}

// settle looks whether the server holds all that the session wrote, and makes the connection what
// the session was.
func (s *pgSession) settle(b *pgBackend, st *pgState, parsed []message, unnamed []byte, failed bool) error {
	if said := s.g.standing(b.Name); st.lostAfter(said.Line, said.Past) {
		return carryError{codeUnknown, fmt.Sprintf("writes of this session may be missing on %s, which became primary "+
			"without all of the former one's: look whether they are there", b.Name)}
	}
	b.conn.SetDeadline(time.Now().Add(loginLimit))
	defer b.conn.SetDeadline(time.Time{})
	if err := b.become(st, parsed, unnamed, failed); err != nil {
		return carryError{codeShutdown, fmt.Sprintf("the session could not be carried to %s: %v; nothing was under way",
			b.Name, err)}
	}
	return nil
}

// cut implements carried: what runs is cancelled, and a transaction is taken back. Its client is
// told that it may try again, now or with its next statement.
func (s *pgSession) cut(ctx context.Context) {
	s.mu.Lock()
	b := s.back
	if s.ended || b == nil || s.units.AtBoundary() {
		s.mu.Unlock()
		return
	}
	running := !s.units.Quiet()
	s.cutting = running
	s.mu.Unlock()
	if running {
		b.sendCancel(s.g)
		s.awaitQuiet(ctx)
	}
	s.mu.Lock()
	if !s.begin() {
		s.mu.Unlock()
		return
	}
	status := s.units.Status()
	if s.back != b || !s.units.Quiet() || status == core.Idle {
		if s.units.Quiet() && running {
			s.g.cutN.Add(1)
		}
		s.done()
		s.mu.Unlock()
		return
	}
	s.mu.Unlock()
	s.rollBack(ctx, b, status)
	s.mu.Lock()
	s.done()
	s.mu.Unlock()
}

// rollBack takes a transaction back on the server, and leaves the session in one that has failed
// for its client; the session is the caller's.
func (s *pgSession) rollBack(ctx context.Context, b *pgBackend, status byte) {
	_, err := s.exchange(ctx, b, query("rollback"))
	if err == nil {
		s.askNow(ctx)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil || !s.asked {
		return
	}
	s.g.cutN.Add(1)
	s.dropped = true
	s.units.Lose(core.Failed)
	s.failed = status == core.InTransaction // who has an error already knows
}

// awaitQuiet waits until nothing is unanswered.
func (s *pgSession) awaitQuiet(ctx context.Context) {
	stop := context.AfterFunc(ctx, s.cond.Broadcast)
	defer stop()
	s.mu.Lock()
	defer s.mu.Unlock()
	for !s.ended && s.back != nil && !s.units.Quiet() && ctx.Err() == nil {
		s.cond.Wait()
	}
}

// lose implements carried.
func (s *pgSession) lose(why string) {
	s.mu.Lock()
	b := s.back
	s.mu.Unlock()
	if b != nil {
		s.g.log.Info("a session's server is taken for gone", "session", s.id, "server", b.Name, "why", why)
		b.conn.Close() // its reader takes it from there
	}
}

// lost handles the end of a server's connection: what the session was doing decides whether it
// lives on, and what its client is told (handbook, "Gate facts", 5).
func (s *pgSession) lost(b *pgBackend, err error) {
	s.mu.Lock()
	if s.back != b || b.retired || s.ended {
		s.mu.Unlock()
		return
	}
	s.back, s.at = nil, place{}
	quiet, status := s.units.Quiet(), s.units.Status()
	code, text := s.judge(b, quiet, status)
	if errors.Is(err, errTorn) {
		code = "torn"
	}
	if code == "" || code == codeRetry {
		s.livesOn(quiet, status, code)
		s.cond.Broadcast()
		s.mu.Unlock()
		if code == "" && b.dying == "57P01" {
			go s.wasEnded(b)
		}
		return
	}
	s.mu.Unlock()
	if code == "torn" {
		s.end("", "") // nothing that could be said would be understood
		return
	}
	s.end(code, text)
}

// judge says what a client is told whose server has gone; an empty code: nothing, it goes on as if
// nothing had been; mu is held.
func (s *pgSession) judge(b *pgBackend, quiet bool, status byte) (code, text string) {
	known := s.fresh && s.why() == "" && !s.steps.locks
	gone := "the connection to " + b.Name + " has ended"
	switch {
	case quiet && status == core.Idle && s.asked && known:
		return "", ""
	case quiet && status == core.Idle:
		return codeShutdown, gone + "; nothing was under way"
	case status == core.Idle && s.door == route.Reader, status != core.Idle && !s.steps.ends:
		if known {
			return codeRetry, ""
		}
		return codeShutdown, gone + "; nothing of the transaction was committed"
	}
	return codeUnknown, gone + " while a statement was under way: whether it was committed is not known"
}

// livesOn leaves the session without a server; mu is held. A client in a transaction is told that
// it has failed: now where it waits for an answer, else with its next statement.
func (s *pgSession) livesOn(quiet bool, status byte, code string) {
	if code == "" {
		return
	}
	s.g.cutN.Add(1)
	after := byte(core.Failed)
	if status == core.Idle {
		after = core.Idle
	}
	answers, unfinished := s.units.Lose(after)
	s.dropped, s.asked = true, true // the transaction is gone, and what was before it is known
	if quiet {
		s.failed = status == core.InTransaction
		return
	}
	s.skip = unfinished
	messages := [][]byte{}
	for range answers {
		messages = append(messages, retryMessage(), frame('Z', []byte{after}))
	}
	if answers == 0 && unfinished {
		messages = append(messages, retryMessage())
	}
	s.mu.Unlock()
	s.toClient(func(w *wire) {
		for _, m := range messages {
			w.w.Write(m)
		}
		w.w.Flush()
	})
	s.mu.Lock()
}

// wasEnded tells an administrator's end of a session from the end of its server: where the server
// lets the user in again, it lives, and the session was meant.
func (s *pgSession) wasEnded(b *pgBackend) {
	ctx, cancel := context.WithTimeout(s.g.ctx, askLimit)
	defer cancel()
	again, err := s.dial(ctx, b.place)
	if err != nil {
		return
	}
	again.send(&pgproto3.Terminate{})
	again.conn.Close()
	s.end(codeShutdown, "terminating connection due to administrator command")
}

// endWith ends a session that could not go on.
func (s *pgSession) endWith(err error) {
	var c carryError
	if errors.As(err, &c) {
		s.g.closedN.Add(1)
		s.end(c.code, c.text)
		return
	}
	s.end(codeShutdown, err.Error())
}

// endAtBoundary implements carried.
func (s *pgSession) endAtBoundary(ctx context.Context, code, why string) bool {
	for s.awaitBoundary(ctx) {
		s.mu.Lock()
		if !s.begin() {
			s.mu.Unlock()
			return true
		}
		quiet := s.back == nil || s.units.AtBoundary()
		s.mu.Unlock()
		if quiet {
			s.end(code, why)
			return true
		}
		s.mu.Lock()
		s.done()
		s.mu.Unlock()
	}
	return false
}

// end implements carried. Without a code nothing is said.
func (s *pgSession) end(code, why string) {
	s.mu.Lock()
	if s.ended {
		s.mu.Unlock()
		return
	}
	s.ended = true
	b := s.back
	if b != nil {
		b.retired = true
	}
	s.cond.Broadcast()
	s.mu.Unlock()
	s.client.SetWriteDeadline(time.Now().Add(time.Second)) // a client that reads nothing holds nobody up
	if b != nil {
		b.conn.Close()
		<-b.gone
	}
	if code != "" {
		s.g.log.Info("a session was ended", "session", s.id, "user", s.user, "code", code, "why", why)
		s.toClient(func(w *wire) { w.send(pgError("FATAL", code, why)) })
	}
	s.out.conn.Close()
}
