package gate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"maps"

	core "crosstwin/internal/core/session"
)

// How a session of MariaDB's is carried from one server to another.

// arrives takes up a connection after a login, of the client's own or the gate's: what the login
// set is what all later differences are from.
func (s *mariaSession) arrives(b *mariaBackend) error {
	_, values, _, err := s.values(b)
	if err != nil {
		return err
	}
	values = s.g.sharedBaseline(values)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.back, s.at, s.at0 = b, b.place, values
	if s.known == nil {
		s.known, s.asked, s.fresh = &mariaState{database: s.database}, true, true
	}
	return nil
}

// sharedBaseline returns variables that are the same as those given, and are kept once for all
// sessions: logins at a server set the same for most.
func (g *Gate) sharedBaseline(values map[string]*string) map[string]*string {
	same := func(a, b *string) bool { return a == b || a != nil && b != nil && *a == *b }
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, have := range g.baselines {
		if maps.EqualFunc(have, values, same) {
			return have
		}
	}
	if len(g.baselines) >= mostBaselines {
		g.baselines = g.baselines[1:]
	}
	g.baselines = append(g.baselines, values)
	return values
}

// mostBaselines bounds how many are compared.
const mostBaselines = 20

// askNow implements carried.
func (s *mariaSession) askNow(ctx context.Context) {
	s.mu.Lock()
	b, base := s.back, s.at0
	s.mu.Unlock()
	if b == nil || !b.alive() {
		return // whoever speaks next finds it gone
	}
	deadline, limited := ctx.Deadline()
	if !limited {
		deadline = time.Now().Add(knowLimit)
	}
	b.conn.SetDeadline(deadline)
	st, err := s.readState(b, base)
	var said mariaError
	if errors.As(err, &said) && (said.number == timedOut || said.number == interrupted) {
		if err = b.lift(s.noEnds); err == nil {
			st, err = s.readState(b, base)
		}
		b.untimed = nil
	}
	b.conn.SetDeadline(time.Time{})
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil {
		s.unknown()
		if !errors.As(err, &said) {
			b.conn.Close() // its answers would be taken for the client's
		}
		return
	}
	s.known, s.asked, s.fresh = st, true, true
	s.whyNot = s.why()
}

// why implements carried.
func (s *mariaSession) why() string {
	if s.known == nil {
		return "a state that is not known"
	}
	why := slices.Clone(s.known.why)
	if s.holds != "" {
		why = append(why, s.holds)
	}
	for _, st := range s.statements {
		if st.cursor {
			why = append(why, "an open cursor")
			break
		}
	}
	for _, st := range s.statements {
		if st.long {
			why = append(why, "data sent ahead of a statement")
			break
		}
	}
	return strings.Join(why, ", ")
}

// detach implements carried.
func (s *mariaSession) detach() {
	s.mu.Lock()
	b := s.back
	s.back, s.at = nil, place{}
	s.mu.Unlock()
	if b == nil {
		return
	}
	go func() {
		b.conn.SetDeadline(time.Now().Add(time.Second))
		b.seq = 0
		b.send([]byte{core.ComQuit})
		b.conn.Close()
	}()
}

// attach goes to a server and becomes there what the session was; it is the caller's.
func (s *mariaSession) attach(ctx context.Context, past bool) error {
	s.mu.Lock()
	st := s.known
	if st == nil {
		s.mu.Unlock()
		return carryError{codeShutdown, "what there is of the session is not known; nothing was under way"}
	}
	s.database = st.database
	s.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, s.g.longest())
	defer cancel()
	b, err := s.open(ctx, past)
	if err != nil {
		return carryError{codeNoServer, "no server to go on with: " + err.Error() +
			"; nothing was under way: connect again"}
	}
	b.conn.SetDeadline(time.Now().Add(loginLimit))
	err = s.become(b, st)
	b.conn.SetDeadline(time.Time{})
	if err != nil {
		b.conn.Close()
		var c carryError
		if errors.As(err, &c) {
			return err
		}
		return carryError{codeShutdown, fmt.Sprintf("the session could not be carried to %s: %v; nothing was under way",
			b.Name, err)}
	}
	s.g.carriedN.Add(1)
	if s.g.misplaced(s.door, b.place) {
		s.lose("another server became primary meanwhile")
	}
	return nil
}

// become makes a connection what the session was.
func (s *mariaSession) become(b *mariaBackend, st *mariaState) error {
	if st.lastGTID != "" {
		rows, _, err := b.command(core.ComQuery, "select @@global.gtid_binlog_state, @@global.gtid_current_pos limit 1",
			s.noEnds)
		if err != nil || len(rows) != 1 || len(rows[0]) != 2 {
			return fmt.Errorf("what %s holds cannot be read: %w", b.Name, err)
		}
		if !holds(st.lastGTID, value(rows[0][0]), value(rows[0][1])) {
			return carryError{codeUnknown, fmt.Sprintf("writes of this session are missing on %s, which became primary "+
				"without all of the former one's (%s): look what is there", b.Name, st.lastGTID)}
		}
	}
	if err := s.arrives(b); err != nil {
		return err
	}
	if err := s.restoreOn(b, st); err != nil {
		s.mu.Lock()
		s.back, s.at = nil, place{}
		s.mu.Unlock()
		return err
	}
	return nil
}

func (s *mariaSession) restoreOn(b *mariaBackend, st *mariaState) error {
	kinds, err := s.variables(b)
	if err != nil {
		return err
	}
	for _, sql := range st.restore(kinds) {
		if _, _, err := b.command(core.ComQuery, sql, s.noEnds); err != nil {
			return err
		}
	}
	s.mu.Lock()
	statements := maps.Clone(s.statements)
	s.mu.Unlock()
	for _, id := range slices.Sorted(maps.Keys(statements)) {
		_, x, err := b.command(core.ComPrepare, statements[id].text, s.noEnds)
		if err != nil {
			return err
		}
		b.ids[id] = x.Statement
	}
	return nil
}

// cut implements carried: what runs is cancelled, and a transaction is taken back. Its client is
// told that it may try again, now or with its next command.
func (s *mariaSession) cut(ctx context.Context) {
	s.cuts(func() {
		s.mu.Lock()
		b, busy := s.back, s.busy
		s.told = false
		s.mu.Unlock()
		if busy && b != nil {
			s.kill(ctx, b)
			s.awaitThat(ctx, func() bool { return !s.busy })
		}
		if !s.take() {
			return
		}
		defer s.giveBack()
		s.mu.Lock()
		inside := s.back == b && b != nil && !s.busy && s.inside
		s.mu.Unlock()
		if inside {
			s.takeBack(b)
		}
	})
}

// takeBack takes a transaction back on the server; the session is the caller's.
func (s *mariaSession) takeBack(b *mariaBackend) {
	b.conn.SetDeadline(time.Now().Add(cutLimit))
	defer b.conn.SetDeadline(time.Time{})
	_, _, err := b.command(core.ComQuery, "rollback", s.noEnds)
	var said mariaError
	if errors.As(err, &said) && said.number == interrupted { // the KILL QUERY came late
		_, _, err = b.command(core.ComQuery, "rollback", s.noEnds)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil {
		b.conn.Close() // its answers would be taken for the client's
		return
	}
	if s.inside = false; !s.told {
		s.failed = true
		s.g.cutN.Add(1)
	}
}

// kill ends what runs in a session. Users may do so with their own without any privilege.
func (s *mariaSession) kill(ctx context.Context, b *mariaBackend) {
	other, err := s.dial(ctx, b.place)
	if err != nil {
		s.g.log.Warn("what runs in a session could not be ended", "session", s.id, "error", err)
		return
	}
	defer other.conn.Close()
	s.mu.Lock()
	s.killed = s.busy && s.back == b
	still := s.killed
	s.mu.Unlock()
	if !still {
		return
	}
	other.conn.SetDeadline(time.Now().Add(cutLimit))
	other.command(core.ComQuery, fmt.Sprintf("kill query %d", b.thread), s.noEnds)
}

// lose implements carried.
func (s *mariaSession) lose(why string) {
	s.mu.Lock()
	b := s.back
	s.mu.Unlock()
	if b != nil {
		s.g.log.Info("a session's server is taken for gone", "session", s.id, "server", b.Name, "why", why)
		b.conn.Close() // whoever uses it next finds it gone
	}
}

// goneBetween handles the end of a server's connection that was found before a command was sent.
func (s *mariaSession) goneBetween(b *mariaBackend) error {
	b.conn.Close()
	s.mu.Lock()
	known := s.fresh && s.why() == ""
	switch {
	case s.back != b || s.ended:
		s.mu.Unlock()
		return nil
	case s.inside && known && !s.ends:
		s.back, s.at, s.inside, s.failed, s.asked = nil, place{}, false, true, true
		s.g.cutN.Add(1)
		s.mu.Unlock()
		return nil
	case !s.inside && s.asked && known:
		s.back, s.at = nil, place{}
		s.mu.Unlock()
		return s.wasKilled(b)
	}
	s.mu.Unlock()
	err := carryError{codeShutdown, "the connection to " + b.Name +
		" has ended; nothing that was not acknowledged was committed"}
	s.endWith(err)
	return err
}

// wasKilled tells a KILL of the session from the end of its server: where the server lets the user
// in again, it lives, and the session was meant. An idle session may have ended long ago, with a
// server that was started again since: only the same process counts.
func (s *mariaSession) wasKilled(b *mariaBackend) error {
	if s.g.standing(b.Name).Process != b.process || b.process == "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(s.g.ctx, askLimit)
	defer cancel()
	again, err := s.dial(ctx, b.place)
	if err != nil {
		return nil
	}
	defer again.conn.Close()
	rows, _, err := again.command(core.ComQuery, "select @@global.read_only limit 1", s.noEnds)
	if err != nil || len(rows) != 1 || !s.reader() && value(rows[0][0]) != "0" {
		return nil // it is no primary any more: that is why it ended its sessions
	}
	err = carryError{codeShutdown, "Connection was killed"}
	s.endWith(err)
	return err
}

// lost handles the end of a server's connection while a command was under way (handbook, "Gate
// facts", 5).
func (s *mariaSession) lost(b *mariaBackend, cause error) error {
	b.conn.Close()
	s.mu.Lock()
	if s.back != b || s.ended {
		s.mu.Unlock()
		return errEnded
	}
	told := s.outcome()
	s.back, s.at, s.busy, s.killed = nil, place{}, false, false
	retry := told.code != codeUnknown && s.fresh && s.why() == ""
	if retry {
		s.inside, s.asked = false, true
		s.g.cutN.Add(1)
	}
	s.cond.Broadcast()
	s.mu.Unlock()
	switch {
	case errors.Is(cause, errTorn):
		s.end("", "") // nothing that could be said would be understood
		return errTorn
	case retry:
		return s.out.send(failure(errRetry, retryText))
	}
	told.text = "the connection to " + b.Name + " has ended; " + told.text
	s.endWith(told)
	return told
}

// end implements carried. Without a code nothing is said; a client that waits for no answer reads
// it with its next command.
func (s *mariaSession) end(code, why string) {
	s.mu.Lock()
	if s.ended {
		s.mu.Unlock()
		return
	}
	s.ended = true
	b := s.back
	s.back = nil
	waits := !s.waiting.IsZero() || s.busy || b == nil
	s.cond.Broadcast()
	s.mu.Unlock()
	s.client.SetWriteDeadline(time.Now().Add(time.Second)) // a client that reads nothing holds nobody up
	if b != nil {
		b.conn.Close()
	}
	number := numbers[code]
	if number != 0 {
		s.g.log.Info("a session was ended", "session", s.id, "user", s.user, "code", number, "why", why)
		if !waits {
			s.out.seq = 1 // it is read as the answer to the next command
		}
		s.out.send(failure(number, why))
	}
	s.out.conn.Close()
}
