package gate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"crosstwin/internal/core/route"
	core "crosstwin/internal/core/session"
)

// How a session of PostgreSQL's is carried from one server to another.

// connected implements carried.
func (s *pgSession) connected() bool { return s.back != nil }

// atBoundary implements carried. A transaction that was taken back on the server is none there.
func (s *pgSession) atBoundary() bool { return s.units.AtBoundary() || s.dropped && s.units.Quiet() }

// pins implements carried.
func (s *pgSession) pins() bool {
	return s.known != nil && len(s.known.locks)+len(s.known.channels) > 0
}

// mayHaveCommitted reports whether what is under way may have committed something; mu is held.
func (s *pgSession) mayHaveCommitted() bool {
	if s.units.Status() == core.Idle {
		return s.steps.parts
	}
	return s.steps.ends
}

// outcome implements carried.
func (s *pgSession) outcome() carryError {
	if s.units.Status() != core.Idle && !s.steps.ends {
		return carryError{codeShutdown, "nothing of the transaction was committed"}
	}
	return carryError{codeUnknown, "a statement was under way: whether it was committed is not known"}
}

// askNow implements carried. A timeout of the session's own, or a late request to cancel, may hit the
// question: it is asked once more without a timeout.
func (s *pgSession) askNow(ctx context.Context) {
	s.mu.Lock()
	b, names := s.back, append([]string{}, s.names...)
	s.mu.Unlock()
	if b == nil {
		return
	}
	got, err := s.exchange(ctx, b, query(askSQL(names)))
	var said serverError
	if errors.As(err, &said) && said.code == codeCancelled {
		got, err = s.exchange(ctx, b, untimed(askSQL(names)))
	}
	var st *pgState
	if err == nil {
		st, err = readState(got)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil {
		s.unknown()
		return
	}
	s.known, s.asked, s.fresh, s.parsed = st, true, true, nil
	s.whyNot = s.why()
}

// why implements carried.
func (s *pgSession) why() string {
	if s.known == nil {
		return "a state that is not known"
	}
	why := slices.Clone(s.known.why)
	if s.hidden != "" {
		why = append(why, s.hidden)
	}
	if s.unnamedLost {
		why = append(why, "a long statement without a name")
	}
	if s.known.user != s.user {
		why = append(why, "SET SESSION AUTHORIZATION")
	}
	return strings.Join(why, ", ")
}

// detach implements carried. What others notified a listening session of reaches it before.
func (s *pgSession) detach() {
	s.mu.Lock()
	b, listens := s.back, s.known != nil && len(s.known.channels) > 0
	s.mu.Unlock()
	if b == nil {
		return
	}
	if listens {
		ctx, cancel := context.WithTimeout(s.g.ctx, cutLimit)
		s.exchange(ctx, b, []pgproto3.Message{&pgproto3.Sync{}})
		cancel()
	}
	s.mu.Lock()
	s.back, s.at = nil, place{}
	b.retired = true
	s.mu.Unlock()
	b.conn.SetWriteDeadline(time.Now().Add(time.Second))
	b.writing.Lock()
	b.send(&pgproto3.Terminate{})
	b.writing.Unlock()
	b.conn.Close()
	<-b.gone // what it had to say to the client is said
}

// attach goes to a server and becomes there what the session was; it is the caller's.
func (s *pgSession) attach(ctx context.Context, past bool) error {
	s.mu.Lock()
	st, parsed, unnamed, failed := s.known, s.parsed, s.unnamed, s.units.Status() == core.Failed
	s.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, s.g.longest())
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
	s.cuts(func() {
		s.mu.Lock()
		b, running := s.back, !s.units.Quiet()
		s.cancelled = running
		s.mu.Unlock()
		if running && b != nil {
			b.sendCancel(s.g)
			s.awaitThat(ctx, s.units.Quiet)
		}
		if !s.take() {
			return
		}
		defer s.giveBack()
		s.mu.Lock()
		status := s.units.Status()
		inside := s.back == b && b != nil && s.units.Quiet() && !s.atBoundary()
		s.mu.Unlock()
		if inside {
			s.rollBack(ctx, b, status)
		}
	})
}

// rollBack takes a transaction back on the server, and leaves the session in one that has failed
// for its client; the session is the caller's.
func (s *pgSession) rollBack(ctx context.Context, b *pgBackend, status byte) {
	_, err := s.exchange(ctx, b, query("rollback"))
	var said serverError
	if errors.As(err, &said) && said.code == codeCancelled { // the request to cancel came late
		_, err = s.exchange(ctx, b, query("rollback"))
	}
	if err == nil {
		s.askNow(ctx)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil || !s.asked {
		return
	}
	s.dropped = true
	s.units.Lose(core.Failed)
	if status == core.InTransaction { // who has an error already knows
		s.failed = true
		s.g.cutN.Add(1)
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
		if b.dying == "57P01" {
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
	case known && (status == core.Idle && s.door == route.Reader || status != core.Idle && !s.steps.ends):
		return codeRetry, ""
	}
	told := s.outcome()
	return told.code, gone + "; " + told.text
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
	s.dropped, s.asked = after == core.Failed, true // the transaction is gone, and what was before it is known
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
	if b != nil && b.torn { // nothing that could be said would be understood
		code = ""
	}
	if code != "" {
		s.g.log.Info("a session was ended", "session", s.id, "user", s.user, "code", code, "why", why)
		s.toClient(func(w *wire) { w.send(pgError("FATAL", code, why)) })
	}
	s.out.conn.Close()
}
