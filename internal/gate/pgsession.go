package gate

import (
	"errors"
	"fmt"
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
	// texts are what prepared statements can do, by name; steps is what is carried out since the
	// session was quiet can do, all together.
	texts map[string]stepText
	steps stepText
	// bound is what portals can do that were made in this transaction.
	bound stepText
	// parsed are statements that were prepared since known; unnamed is the newest without a name,
	// unless it was too long to be kept.
	parsed      []message
	unnamed     []byte
	unnamedLost bool
	names       []string // of settings with a dot that were set
	hidden      string   // what was set cannot be known, and why
	lockers     bool     // a statement that was prepared in SQL may take a lock
	// fresh: known is so still, but for what a transaction that has not ended does.
	fresh bool
	// failed: the transaction was ended for a change of servers, and the client has not been told.
	// dropped: no server has it any more, though for its client it goes on. Invariant: nothing of
	// the client's goes to the server that it was dropped on, where it would be carried out alone.
	failed, dropped bool
	// skip: what the client sends is passed over until it ends its unit with Sync.
	skip bool
	// cancelled: the gate has cancelled what runs. Invariant: a commit that a cancel let go is never
	// told to be good. It is on this server alone, and perhaps on none that comes after it, although
	// the server says success (handbook, "Synchronous modes", 14).
	cancelled bool
}

// stepText is what a text can do: end the transaction that it runs in by a commit (commits: it says
// so), or by taking it back; have committed a part when it is ended outside of a transaction; take
// a lock that outlasts its transaction.
type stepText struct{ ends, commits, over, parts, locks bool }

// anything is a text that is not known.
var anything = stepText{ends: true, commits: true, parts: true, locks: true}

// with is what one can do after another: behind the end of a transaction another one may commit.
func (a stepText) with(b stepText) stepText {
	return stepText{ends: a.ends || b.ends || a.over, commits: a.commits || b.commits, over: a.over || b.over,
		parts: a.parts || b.parts, locks: a.locks || b.locks}
}

func textStep(t core.PGText) stepText {
	return stepText{ends: t.Ends, commits: t.Commits, over: t.Over, parts: t.Parts, locks: t.Locks}
}

// toClient does something with the client's connection that nobody else may come between.
func (s *pgSession) toClient(do func(w *wire)) {
	s.writing.Lock()
	defer s.writing.Unlock()
	do(s.out)
}

// run serves a session that has logged in until it ends.
func (s *pgSession) run() {
	err := s.fromClient()
	s.mu.Lock()
	s.ended = true
	b := s.back
	s.back = nil
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
	whole  []byte // the message, where it was taken out of the buffer
	step   stepText
	named  string // the statement that it prepares, executes or closes
	closes bool   // it closes that one
	long   bool   // it is too long to be read
	pg     core.PGText
}

// read looks at a message; nothing is forwarded yet.
func (s *pgSession) read(kind byte, n int) (t text, err error) {
	switch kind {
	case 'Q', 'P':
		return s.readText(kind, n)
	case 'B':
		names := s.out.texts(n, 2) // of a portal and of its statement
		if len(names) < 2 {
			t.step = anything
			return t, nil
		}
		t.named = names[1]
		t.step = s.statement(t.named)
	case 'C':
		if names := s.out.texts(n, 1); len(names) == 1 && strings.HasPrefix(names[0], "S") {
			t.named, t.closes = names[0][1:], true
		}
	case 'F': // a function may take a lock, and commits nothing
		t.step = stepText{locks: true}
	}
	return t, nil
}

// readText reads a statement.
func (s *pgSession) readText(kind byte, n int) (t text, err error) {
	if n > mostText {
		if names := s.out.texts(n, 1); kind == 'P' && len(names) == 1 {
			t.named = names[0]
		}
		t.step, t.long = anything, true
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
	t.step = textStep(t.pg)
	return t, nil
}

// statement is what a prepared statement can do.
func (s *pgSession) statement(name string) stepText {
	s.mu.Lock()
	defer s.mu.Unlock()
	if step, known := s.texts[name]; known {
		return step
	}
	return anything
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
	switch {
	case s.back == nil:
		return true, s.goOn()
	case (s.cutting || s.must()) && s.units.Pending() > 0: // only then it is known whether this is a new transaction
		s.waitFlushed()
		return true, nil
	case s.cutting:
		s.cond.Wait()
		return true, nil
	case s.must() && s.atBoundary():
		s.hold()
		return true, nil
	case s.dropped:
		s.moving = true
		s.mu.Unlock()
		s.detach()
		s.mu.Lock()
		s.done()
		return true, nil
	}
	return false, nil
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
		s.steps = s.steps.with(t.step)
		s.unnamed, s.unnamedLost = nil, false // a simple query ends it
	case 'E':
		s.steps = s.steps.with(s.bound)
	case 'F':
		s.steps = s.steps.with(t.step)
	case 'P':
		s.prepares(t)
	case 'B':
		s.bound = s.bound.with(t.step)
	case 'C':
		if t.closes {
			delete(s.texts, t.named)
		}
	}
	s.sets(t)
}

// sets notes what a text sets that no server tells; mu is held.
func (s *pgSession) sets(t text) {
	for _, n := range t.pg.Settings {
		if !slices.Contains(s.names, n) {
			s.names = append(s.names, n)
		}
	}
	switch {
	case t.long:
		s.hidden = fmt.Sprintf("a statement of more than %d MB", mostText>>20)
	case t.pg.Hidden:
		s.hidden = "a setting by set_config whose name is not known"
	case len(s.names) > mostNames:
		s.hidden = fmt.Sprintf("more than %d settings of its own", mostNames)
	}
	s.lockers = s.lockers || t.pg.Prepares && t.pg.Locks
	s.steps.locks = s.steps.locks || t.pg.Executes && s.lockers
}

// prepares notes a statement; mu is held. One of a name that there is already fails, so that the
// older one stays: it counts as able to do what either can.
func (s *pgSession) prepares(t text) {
	if t.named == "" {
		s.texts[""] = t.step
		if s.unnamed, s.unnamedLost = t.whole, false; len(t.whole) > mostUnnamed || t.long {
			s.unnamed, s.unnamedLost = nil, true
		}
		return
	}
	step := t.step
	if before, there := s.texts[t.named]; there {
		step = step.with(before)
	}
	if len(s.texts) < mostStatements {
		s.texts[t.named] = step
	} else {
		delete(s.texts, t.named)
	}
	if s.parsed = append(s.parsed, message{'P', t.whole}); len(s.parsed) > mostParsed || t.long {
		s.fresh = false // what the session is, once its transaction is lost, is not known
	}
	if !s.fresh {
		s.parsed = nil
	}
}

// mostUnnamed bounds a statement without a name that is kept for a session, mostParsed how many
// with a name of one transaction.
const (
	mostUnnamed = 1 << 20
	mostParsed  = 1000
)

// mostNames bounds how many settings with a dot a session may have set to be portable.
const mostNames = 200

// mostStatements bounds what is kept of prepared statements. The session goes on beyond it; a
// statement that is not kept counts as able to do anything, as those prepared in SQL.
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
			b.torn = errors.Is(err, errTorn)
			s.lost(b, err)
			return
		}
	}
}

// errTorn says that a server went away when the client had the beginning of a message, and not yet
// its end.
var errTorn = errors.New("the server went away before the end of a message")

func (s *pgSession) fromServer(b *pgBackend, kind byte, n int) error {
	switch kind {
	case 'Z', 'E', 'S', 'G', 'C', 'N':
		if n <= mostText && (kind != 'C' || n < 32) && (kind != 'N' || s.isCancelled()) {
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

func (s *pgSession) isCancelled() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.cancelled
}

// errUnacknowledged says that a commit was let go by a gate's cancel before a replica had it.
var errUnacknowledged = errors.New("a commit did not wait for a replica, because it was cancelled")

// waitedInVain reports whether a notice says that. Its text is in the server's language, the name
// of the function that wrote it is not.
func waitedInVain(body []byte) bool {
	var m pgproto3.NoticeResponse
	return m.Decode(body) == nil && m.Routine == "SyncRepWaitForLSN"
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
		if cut := s.cancelled && e.code == codeCancelled && !s.mayHaveCommitted(); cut || s.failed && !ends(body) {
			if cut {
				s.g.cutN.Add(1)
			}
			out, s.failed = retryMessage(), false
		}
	case 'S':
		name, value := pair(body)
		s.params[name] = value
	case 'G':
		s.units.CopyIn()
	case 'N':
		if waitedInVain(body) {
			s.mu.Unlock()
			return errUnacknowledged
		}
	case 'C':
		// The transaction was ended for the change: a client that commits has to be told, and
		// looks at no tag.
		if s.failed && s.steps.commits && strings.HasPrefix(string(body), "ROLLBACK") {
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
		s.cancelled = false
	}
	if s.units.Status() == core.Idle {
		s.failed, s.fresh, s.parsed, s.bound = false, false, nil, stepText{}
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
