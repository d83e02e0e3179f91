package gate

import (
	"errors"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"crosstwin/internal/core/observation"
	core "crosstwin/internal/core/session"
)

// pgSession is one client of PostgreSQL's. Its messages are read by the goroutine of run; the
// server's by one of its own for each connection (relay). What stands below client is guarded by
// mu; messages to the client are written under writing.
type pgSession struct {
	session
	out     *wire // to the client
	startup map[string]string
	keys    pgKeys
	cancel  [8]byte // what the client cancels by: that of its first connection
	writing sync.Mutex

	back   *pgBackend // nil: it has none now
	units  core.Units
	params map[string]string // what the client was told of settings
	known  *pgState          // what there was of the session at its last known boundary
	// texts are what named statements can do, by name; steps is what is forwarded since the session
	// was quiet can do, all together, and last the newest statement.
	texts       map[string]stepText
	steps, last stepText
	// parsed are statements that were prepared since known, last the unnamed one.
	parsed  []message
	unnamed []byte
	names   []string // of settings with a dot that were set
	hidden  bool     // one was set whose name is not known
	// fresh: known is so still, but for what a transaction that has not ended does.
	fresh bool
	// failed: the transaction was ended for a change of servers, and the client has not been told.
	// dropped: no server has it any more; the client believes that it is in one.
	failed, dropped bool
	// skip: what the client sends is passed over until it ends its unit with Sync.
	skip bool
	// cutting: what runs was cancelled by the gate.
	cutting bool
}

// stepText is what a text can do.
type stepText struct{ ends, commit, locks bool }

func (a stepText) with(b stepText) stepText {
	return stepText{a.ends || b.ends, b.commit, a.locks || b.locks}
}

// toClient does something with the client's connection that nobody else may come between.
func (s *pgSession) toClient(do func(w *wire)) {
	s.writing.Lock()
	defer s.writing.Unlock()
	do(s.out)
}

// run serves a session that has logged in until it ends.
func (s *pgSession) run() {
	s.mu.Lock()
	b := s.back
	s.mu.Unlock()
	go s.relay(b)
	err := s.fromClient()
	s.mu.Lock()
	s.ended = true
	b, s.back = s.back, nil
	if b != nil {
		b.retired = true
	}
	s.cond.Broadcast()
	s.mu.Unlock()
	s.g.remove(s)
	if b != nil {
		b.conn.SetWriteDeadline(time.Now().Add(time.Second))
		if errors.Is(err, io.EOF) || err == nil {
			b.writing.Lock()
			b.send(&pgproto3.Terminate{})
			b.writing.Unlock()
		}
		b.conn.Close()
	}
	s.out.conn.Close()
}

// fromClient reads the client's messages and forwards each in its turn.
func (s *pgSession) fromClient() error {
	for {
		kind, n, err := s.out.head()
		if err != nil {
			return err
		}
		if kind == 'X' {
			return nil
		}
		text, err := s.read(kind, n)
		if err != nil {
			return err
		}
		b, err := s.admit(kind, text)
		if err != nil {
			return err
		}
		switch {
		case b != nil:
			err = s.forward(b, text, n)
		case text.whole == nil: // passed over
			err = s.out.pass(n, io.Discard)
		}
		if err != nil {
			return err
		}
	}
}

// forward sends a message on, and all that waits to be sent where the client has sent no more.
func (s *pgSession) forward(b *pgBackend, t text, n int) (err error) {
	b.writing.Lock()
	defer b.writing.Unlock()
	if t.whole != nil {
		b.w.Write(t.whole)
	} else {
		err = s.out.pass(n, b.w)
	}
	if s.out.r.Buffered() == 0 {
		b.w.Flush() // where it fails, relay sees why
	}
	return err
}

// text is what is known of one of the client's messages.
type text struct {
	whole []byte // the message, where it was taken out of the buffer
	step  stepText
	named string // the statement that it prepares, executes or closes
	pg    core.PGText
}

// read looks at a message; nothing is forwarded yet.
func (s *pgSession) read(kind byte, n int) (t text, err error) {
	switch kind {
	case 'Q', 'P':
	case 'B', 'C':
		body, fits := s.out.whole(n)
		if !fits {
			return t, nil
		}
		body = body[5:]
		if kind == 'B' {
			_, rest, _ := strings.Cut(string(body), "\x00") // the portal
			t.named, _, _ = strings.Cut(rest, "\x00")
			t.step = s.statement(t.named)
		} else if len(body) > 0 && body[0] == 'S' {
			t.named, _, _ = strings.Cut(string(body[1:]), "\x00")
		}
		return t, nil
	default:
		return t, nil
	}
	if n > mostText {
		t.step = stepText{ends: true, locks: true}
		t.pg.Hidden = true
		return t, nil
	}
	body, fits := s.out.whole(n)
	if fits {
		body = slices.Clone(body[5:])
	} else {
		if body, err = s.out.body(n); err != nil {
			return t, err
		}
		t.whole = frame(kind, body)
	}
	sql := string(body)
	if kind == 'P' {
		t.named, sql, _ = strings.Cut(sql, "\x00")
		if t.whole == nil {
			t.whole = frame(kind, body)
			s.out.r.Discard(n + 5)
		}
	}
	sql, _, _ = strings.Cut(sql, "\x00")
	t.pg = core.ReadPG(sql)
	t.step = stepText{t.pg.Ends, t.pg.Commit, t.pg.Locks}
	return t, nil
}

// statement is what a prepared statement can do. One that the gate did not see prepared, in SQL,
// is none that commits: PREPARE takes none.
func (s *pgSession) statement(name string) stepText {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.texts[name]
}

// admit waits for a message's turn and notes that it is forwarded. A nil connection: it is passed
// over.
func (s *pgSession) admit(kind byte, t text) (*pgBackend, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for {
		switch {
		case s.ended:
			return nil, errEnded
		case s.moving:
			s.cond.Wait()
			continue
		case s.skip:
			if kind == 'S' {
				s.skip = false
				s.ready()
			}
			return nil, nil
		case kind == 'd' || kind == 'c' || kind == 'f':
			if s.back == nil {
				return nil, nil // behind a copy that was ended
			}
		case s.units.Between():
			if again, err := s.mayBegin(); err != nil {
				return nil, err
			} else if again {
				continue
			}
		}
		break
	}
	s.forwards(kind, t)
	return s.back, nil
}

// mayBegin waits until a new unit may begin. Again: what held it up is over, and all has to be
// looked at anew.
func (s *pgSession) mayBegin() (again bool, err error) {
	if s.back != nil && s.must() {
		if s.units.Pending() > 0 { // only then it is known whether this is a new transaction
			s.waitFlushed()
			return true, nil
		}
		if s.units.AtBoundary() {
			s.hold()
			return true, nil
		}
	}
	if s.back != nil {
		return false, nil
	}
	s.waiting = time.Now()
	s.mu.Unlock()
	_, err = s.g.await(s.g.ctx, s.door, false) // others may bring the session to a server meanwhile
	s.mu.Lock()
	if err == nil && (s.back != nil || s.moving || s.ended) {
		s.waiting = time.Time{}
		return true, nil
	}
	if err == nil {
		s.moving = true
		s.mu.Unlock()
		err = s.attach(s.g.ctx, false)
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
	return true, err
}

// waitFlushed waits for a change with everything sent that was forwarded; mu is held.
func (s *pgSession) waitFlushed() {
	if b := s.back; b.w.Buffered() > 0 { // only this goroutine writes while the session is not at a boundary
		s.mu.Unlock()
		b.w.Flush()
		s.mu.Lock()
		return
	}
	s.cond.Wait()
}

// hold waits while sessions are held; mu is held.
func (s *pgSession) hold() {
	s.waiting = time.Now()
	for !s.ended && !s.moving && s.back != nil && s.must() {
		s.cond.Wait()
	}
	s.g.waits.Add(1)
	s.g.waited.Add(int64(time.Since(s.waiting)))
	s.waiting = time.Time{}
}

// forwards notes what a message is about to do to the session; mu is held.
func (s *pgSession) forwards(kind byte, t text) {
	if s.units.Quiet() {
		s.steps = stepText{}
		s.changed = time.Now()
	}
	s.asked = false
	s.units.Forward(kind)
	switch kind {
	case 'Q':
		s.unnamed = nil // a simple query ends it
		fallthrough
	case 'P':
		s.steps, s.last = s.steps.with(t.step), t.step
		for _, n := range t.pg.Settings {
			if !slices.Contains(s.names, n) {
				s.names = append(s.names, n)
			}
		}
		s.hidden = s.hidden || t.pg.Hidden || len(s.names) > mostNames
		if kind == 'P' && len(s.texts) < mostStatements {
			s.texts[t.named] = t.step
		}
		if kind == 'P' && t.named == "" {
			s.unnamed = t.whole
		} else if kind == 'P' {
			if s.fresh {
				s.parsed = append(s.parsed, message{'P', t.whole})
			}
		}
	case 'B':
		s.steps, s.last = s.steps.with(t.step), t.step
	case 'C':
		delete(s.texts, t.named)
	}
}

// mostNames bounds how many settings with a dot a session may have set to be portable.
const mostNames = 200

// mostStatements bounds what is kept of prepared statements. The session goes on beyond it; a
// statement that is not kept counts as one that commits nothing, as those prepared in SQL.
const mostStatements = 100_000

// ready tells the client that its unit has ended in a failed transaction; mu is held.
func (s *pgSession) ready() {
	status := s.units.Status()
	s.mu.Unlock()
	s.toClient(func(w *wire) { w.send(&pgproto3.ReadyForQuery{TxStatus: status}) })
	s.mu.Lock()
}

// relay reads a server's messages until the connection ends.
func (s *pgSession) relay(b *pgBackend) {
	defer close(b.gone)
	for {
		kind, n, err := b.head()
		if err == nil {
			err = s.fromServer(b, kind, n)
		}
		if err != nil {
			b.conn.Close()
			s.lost(b, err)
			return
		}
	}
}

// errTorn says that a server went away in the midst of a message that the client has the
// beginning of.
var errTorn = errors.New("the server went away in the midst of a message")

func (s *pgSession) fromServer(b *pgBackend, kind byte, n int) error {
	switch kind {
	case 'Z', 'E', 'S', 'G', 'C':
		if n <= mostText && (kind != 'C' || n < 32) {
			body, err := b.body(n)
			if err != nil {
				return err
			}
			return s.looked(b, kind, body)
		}
	}
	s.mu.Lock()
	answers := b.answers
	s.mu.Unlock()
	if answers != nil && kind != 'A' && kind != 'N' {
		body, err := b.body(n)
		if err == nil {
			b.asking = append(b.asking, message{kind, body})
		}
		return err
	}
	var err error
	s.toClient(func(w *wire) {
		if _, fits := b.whole(n); !fits && n+5 <= b.r.Size() {
			err = errors.New("the server went away")
			return
		}
		if err = b.pass(n, w.w); err != nil {
			err = errTorn
			return
		}
		if b.r.Buffered() == 0 {
			w.w.Flush()
		}
	})
	return err
}

// looked handles a message whose content matters here.
func (s *pgSession) looked(b *pgBackend, kind byte, body []byte) error {
	s.mu.Lock()
	if b.answers != nil && kind != 'S' {
		b.asking = append(b.asking, message{kind, body})
		if kind == 'Z' {
			b.answers <- b.asking
			b.answers, b.asking = nil, nil
		}
		s.mu.Unlock()
		return nil
	}
	out := frame(kind, body)
	switch kind {
	case 'Z':
		if len(body) == 1 {
			s.units.Ready(body[0])
		}
		s.isReady()
	case 'E':
		e := readError(body)
		if ends(body) && (e.code == "57P01" || e.code == "57P02") {
			b.dying = e.code
			s.mu.Unlock()
			return nil // the server stops, or somebody ended this session: lost tells which
		}
		if s.cutting && e.code == codeCancelled || s.failed && !ends(body) {
			out, s.failed = retryMessage(), false
		}
	case 'S':
		name, value := pair(body)
		s.params[name] = value
	case 'G':
		s.units.CopyIn()
	case 'C':
		// The transaction was ended for the change: a client that commits has to be told, and
		// looks at no tag.
		if s.failed && s.last.commit && strings.HasPrefix(string(body), "ROLLBACK") {
			out, s.failed = retryMessage(), false
		}
	}
	s.mu.Unlock()
	s.toClient(func(w *wire) {
		w.w.Write(out)
		if b.r.Buffered() == 0 {
			w.w.Flush()
		}
	})
	return nil
}

// isReady notes that an answer is complete; mu is held.
func (s *pgSession) isReady() {
	if s.units.Quiet() {
		s.changed = time.Now()
		s.cutting = false
	}
	if s.units.Status() == core.Idle {
		s.failed, s.fresh, s.parsed = false, false, nil
	}
	s.cond.Broadcast()
}

// ends reports whether an error ends the connection. The word is in the server's language; the
// field V is not.
func ends(body []byte) bool {
	var m pgproto3.ErrorResponse
	m.Decode(body)
	return m.SeverityUnlocalized == "FATAL" || m.SeverityUnlocalized == "PANIC"
}

// retryMessage tells a client that its transaction was ended and that it may try again.
func retryMessage() []byte {
	b, _ := pgError("ERROR", codeRetry, retryText).Encode(nil)
	return b
}

const retryText = "the transaction was ended for a change of the primary; nothing of it was committed: try again"

// show implements carried.
func (s *pgSession) show() observation.GateSession {
	s.mu.Lock()
	defer s.mu.Unlock()
	state := "idle"
	switch {
	case !s.units.Quiet():
		state = "busy"
	case s.units.Status() != core.Idle:
		state = "in a transaction"
	}
	return s.shows(state)
}
