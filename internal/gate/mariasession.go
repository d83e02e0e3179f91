package gate

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"io"
	"strconv"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/route"
	core "crosstwin/internal/core/session"
)

// mariaSession is one client of MariaDB's. The protocol has one command at a time, so one
// goroutine serves it; what stands below as is guarded by mu.
type mariaSession struct {
	session
	out    *packets // to the client
	as     mariaLogin
	stage1 []byte // the hash of the password that logs in
	noEnds bool

	back       *mariaBackend // nil: it has none now
	busy       bool          // a command is under way
	inside     bool          // in a transaction
	ends       bool          // what is under way, in a transaction, may have committed
	parts      bool          // likewise, outside of one
	statements map[uint32]*mariaStatement
	numbered   uint32 // the newest statement's number, as the client knows it
	known      *mariaState
	at0        map[string]*string // variables as the login at the present server set them
	holds      string             // what the session holds that can be neither asked nor carried
	fresh      bool               // known is so still, but for what a transaction that has not ended does
	// failed: the transaction was ended for a change of servers, and the client has not been told.
	// Invariant: its next command, unless it ends the transaction as well, is answered with that and
	// carried out nowhere, where it would be carried out alone.
	failed bool
	told   bool // by the answer to what was cut
	// killed: the gate has ended what runs. Invariant: a commit that this let go is never told to be
	// good. It may be on this server alone, although the server says success, without a warning
	// (handbook, "Synchronous modes", 25).
	killed bool
}

// mariaStatement is a prepared statement of the binary protocol.
type mariaStatement struct {
	text       string
	parameters int
	types      []byte // of the newest execution that told them
	cursor     bool   // it may have one open
	long       bool   // data of a parameter was sent ahead
}

// run serves a session that has logged in until it ends.
func (s *mariaSession) run() {
	err := s.fromClient()
	s.mu.Lock()
	s.ended = true
	b := s.back
	s.back = nil
	s.cond.Broadcast()
	s.mu.Unlock()
	s.g.remove(s)
	if b != nil {
		b.conn.SetWriteDeadline(time.Now().Add(time.Second))
		if err == nil || errors.Is(err, io.EOF) {
			b.seq = 0
			b.send([]byte{core.ComQuit})
		}
		b.conn.Close()
	}
	s.out.conn.Close()
}

func (s *mariaSession) fromClient() error {
	for {
		size, _, err := s.out.head()
		if err != nil {
			return err
		}
		if size == 0 {
			return errors.New("a command without content")
		}
		c, err := s.read(size)
		if err != nil || c.kind == core.ComQuit {
			return err
		}
		if err := s.carryOut(c); err != nil {
			return err
		}
	}
}

// command is one of the client's. Its content is whole, or goes on in further packets and is still
// unread but for its head.
type command struct {
	kind  byte
	size  int
	head  []byte
	whole bool
	text  core.MariaText
	sql   string
}

// read reads a command, whole where it fits into one packet.
func (s *mariaSession) read(size int) (c command, err error) {
	c.size = size
	if c.whole = size < longest; c.whole {
		c.head, err = s.out.read()
	} else {
		var b []byte
		b, err = s.out.begins(size, size)
		c.head = bytes.Clone(b)
	}
	if err != nil {
		return c, err
	}
	c.kind = c.head[0]
	switch {
	case c.kind != core.ComQuery && c.kind != core.ComPrepare:
	case c.whole:
		c.sql = string(c.head[1:])
		c.text = core.ReadMaria(c.sql)
	default:
		c.text = tooLong
	}
	return c, nil
}

// tooLong is what a text can do that is not read.
var tooLong = core.MariaText{Ends: true, Parts: true, Holds: "a statement of more than 16 MB"}

// refusals are commands that a gate does not pass on.
var refusals = map[byte]string{
	core.ComChangeUser:  "changing the user of a connection does not go through a gate: connect anew",
	core.ComBinlogDump:  "replication does not go through a gate: connect to the server itself",
	core.ComRegister:    "replication does not go through a gate: connect to the server itself",
	core.ComTableDump:   "this command does not go through a gate",
	core.ComBulkExecute: "this command does not go through a gate",
}

// carryOut has the server carry out one command and passes on its answer.
func (s *mariaSession) carryOut(c command) error {
	if why, refused := refusals[c.kind]; refused {
		return s.answer(c, failure(errNotHere, why))
	}
	b, err := s.admit(c)
	if errors.Is(err, errAnswered) {
		return nil
	}
	if err != nil {
		return err
	}
	x, err := s.forward(b, c)
	if errors.Is(err, errClient) {
		return err
	}
	if err != nil {
		return s.lost(b, err)
	}
	if x.Failed {
		// An error does not say whether there is a transaction.
		if _, ping, perr := b.command(core.ComPing, "", s.noEnds); perr == nil {
			x.InTransaction, x.Known = ping.InTransaction, true
		}
	}
	s.finish(c, x)
	return nil
}

// answer answers a command without the server; what is left of it is passed over.
func (s *mariaSession) answer(c command, b []byte) error {
	if !c.whole {
		s.out.seq = 1
		if err := s.out.skip(c.size); err != nil {
			return err
		}
	}
	return s.out.send(b)
}

// skip passes over a packet.
func (p *packets) skip(size int) error {
	_, err := p.r.Discard(size + 4)
	return err
}

// admit waits for a command's turn and notes that it is under way.
func (s *mariaSession) admit(c command) (*mariaBackend, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for {
		switch {
		case s.ended:
			return nil, errEnded
		case s.moving || s.cutting:
			s.cond.Wait()
			continue
		case s.failed && tells(c.kind):
			s.failed = false
			if c.kind == core.ComReset {
				continue
			}
			s.mu.Unlock()
			err := s.answer(c, afterCut(c))
			s.mu.Lock()
			return nil, cmp.Or(err, errAnswered)
		case s.back == nil:
			if err := s.goOn(); err != nil {
				return nil, err
			}
			continue
		case time.Since(s.changed) > stillThere && !s.back.alive():
			b := s.back
			s.mu.Unlock()
			err := s.goneBetween(b)
			s.mu.Lock()
			if err != nil {
				return nil, err
			}
			continue
		case !s.inside && s.must() && c.kind != core.ComCloseStmt:
			s.hold()
			continue
		}
		break
	}
	s.busy, s.asked, s.changed = true, false, time.Now()
	if !s.inside {
		s.ends = false
	}
	t := c.text
	if c.kind == core.ComExecute {
		t = s.executes(c)
	}
	s.ends = s.ends || t.Ends || s.inside && t.Begins
	s.parts = t.Parts
	if t.Holds != "" {
		s.holds = t.Holds
	}
	return s.back, nil
}

// tells reports whether a command's answer can tell the client that its transaction has failed.
func tells(kind byte) bool {
	return kind != core.ComCloseStmt && kind != core.ComLongData && kind != core.ComPing
}

// afterCut is the answer to the first command after a transaction was ended.
func afterCut(c command) []byte {
	if c.text.Rollback {
		return okay
	}
	return failure(errRetry, retryText)
}

// stillThere is for how long after an answer its server is taken to be there without a look: that
// is a system call, and would be one for each command.
const stillThere = 20 * time.Millisecond

// errAnswered says that a command needs no server any more.
var errAnswered = errors.New("the command was answered")

// executes is what the prepared statement can do that a command executes; mu is held.
func (s *mariaSession) executes(c command) core.MariaText {
	if len(c.head) >= 5 {
		if st := s.statements[binary.LittleEndian.Uint32(c.head[1:])]; st != nil {
			return core.ReadMaria(st.text)
		}
	}
	return core.MariaText{} // the server knows no such statement either
}

// forward sends a command on and passes the answer back.
func (s *mariaSession) forward(b *mariaBackend, c command) (*core.Exchange, error) {
	s.write(b, c)
	if s.out.r.Buffered() == 0 || c.kind != core.ComLongData && c.kind != core.ComCloseStmt {
		b.w.Flush() // where it fails, reading fails too
	}
	x := core.Begin(c.kind, s.noEnds)
	for !x.Answered() {
		size, seq, err := b.head()
		if err != nil {
			return x, err
		}
		head, err := b.begins(size, 64)
		if err != nil {
			return x, err
		}
		what := x.Packet(head, size)
		if what == core.Done && s.unacknowledged(c, x) {
			return x, errUnacknowledged
		}
		if x.Failed && s.tellsCut(x.Code) {
			b.skip(size)
			s.out.seq = seq
			s.out.write(failure(errRetry, retryText))
		} else if x.Statement != 0 && what != core.WantsFile && c.kind == core.ComPrepare && s.prepared(b, c, x, head, size) {
			b.skip(size)
			s.out.seq = seq
			s.out.write(s.numberedAnswer(head))
		} else if err := b.pass(size, s.out.w); err != nil {
			return x, err
		} else if size == longest {
			if err := s.passRest(b); err != nil {
				return x, err
			}
		}
		s.out.seq = seq + 1 // of what comes next, should the gate have to say it
		if what == core.WantsFile {
			if err := s.passFile(b); err != nil {
				return x, err
			}
		}
		if b.r.Buffered() == 0 || what == core.Done {
			s.out.w.Flush()
		}
	}
	return x, nil
}

// passRest passes on what a packet of the greatest length goes on in.
func (s *mariaSession) passRest(b *mariaBackend) error {
	for size := longest; size == longest; {
		var err error
		if size, _, err = b.head(); err != nil {
			return errTorn
		}
		if err := b.pass(size, s.out.w); err != nil {
			return errTorn
		}
	}
	return nil
}

// passFile passes on the file that a client sends, up to the empty packet that ends it.
func (s *mariaSession) passFile(b *mariaBackend) error {
	s.out.w.Flush()
	for {
		size, _, err := s.out.head()
		if err == nil {
			err = s.out.pass(size, b.w)
		}
		if err != nil {
			return errClient
		}
		if size == 0 {
			return b.w.Flush()
		}
		if s.out.r.Buffered() == 0 {
			b.w.Flush()
		}
	}
}

// unacknowledged reports whether a command may have committed what no replica has, because the gate
// ended it meanwhile.
func (s *mariaSession) unacknowledged(c command, x *core.Exchange) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.killed && !x.Failed && !x.InTransaction && !c.text.Rollback && !s.reader()
}

// errClient says that it was the client that went away, and not the server.
var errClient = errors.New("the client has gone")

// interrupted is the server's number for a statement that KILL QUERY ended.
const interrupted = 1317

// tellsCut reports whether an error is that by which the gate ended a statement of which nothing
// was committed: its client is told to try again.
func (s *mariaSession) tellsCut(number uint16) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.cutting || number != interrupted || s.inside && s.ends || !s.inside && s.parts {
		return false
	}
	s.told = true
	s.g.cutN.Add(1)
	return true
}

// write writes a command with what is another on this server: numbers of statements and
// connections, and types that the server has not been told.
func (s *mariaSession) write(b *mariaBackend, c command) {
	b.seq = 0
	head := c.head
	switch c.kind {
	case core.ComQuery:
		if c.text.Kill >= gateThreads {
			if thread, found := s.g.threadOf(c.text.Kill); found {
				head = slicesJoin(head[:1+c.text.KillAt], strconv.FormatUint(uint64(thread), 10), head[1+c.text.KillEnd:])
			}
		}
	case core.ComProcessKill:
		if len(head) >= 5 {
			if thread, found := s.g.threadOf(int64(binary.LittleEndian.Uint32(head[1:]))); found {
				head = binary.LittleEndian.AppendUint32([]byte{c.kind}, thread)
			}
		}
	case core.ComExecute, core.ComLongData, core.ComCloseStmt, core.ComResetStmt, core.ComFetch:
		head = s.renumber(b, c)
	}
	if c.whole {
		b.write(head)
		return
	}
	// A long command is passed on as it comes: its first part is in head already.
	size := c.size - len(c.head) + len(head)
	b.frame(size, 0)
	b.w.Write(head)
	s.out.r.Discard(4 + len(c.head))
	io.CopyN(keepReading{b.w}, s.out.r, int64(c.size-len(c.head)))
	for part := c.size; part == longest; { // its continuations
		next, _, err := s.out.head()
		if err != nil || s.out.pass(next, b.w) != nil {
			return
		}
		part = next
	}
}

func slicesJoin(a []byte, text string, b []byte) []byte {
	return append(append(append([]byte{}, a...), text...), b...)
}

// renumber gives a command on a prepared statement the number that this server knows it by, and
// the types of its parameters where the client has told them to another server only.
func (s *mariaSession) renumber(b *mariaBackend, c command) []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(c.head) < 5 {
		return c.head
	}
	id := binary.LittleEndian.Uint32(c.head[1:])
	st, own := s.statements[id], b.ids[id]
	if st == nil {
		return c.head // the server says that there is none
	}
	head := bytes.Clone(c.head)
	binary.LittleEndian.PutUint32(head[1:], own)
	switch c.kind {
	case core.ComLongData:
		st.long = true
	case core.ComResetStmt:
		st.long, st.cursor = false, false
	case core.ComCloseStmt:
		delete(s.statements, id)
		delete(b.ids, id)
	case core.ComExecute:
		st.long, st.cursor = false, len(head) > 5 && head[5] != 0
		head = st.withTypes(head, b.typed[id])
		b.typed[id] = true
	}
	return head
}

// withTypes keeps the types that an execution tells, and adds them where it does not and the
// server has not been told either.
func (st *mariaStatement) withTypes(head []byte, told bool) []byte {
	at := 10 + (st.parameters+7)/8 // behind number, flags, count of executions, and which are NULL
	if st.parameters == 0 || len(head) <= at {
		return head
	}
	n := 2 * st.parameters
	if head[at] == 1 {
		if len(head) >= at+1+n {
			st.types = bytes.Clone(head[at+1 : at+1+n])
		}
		return head
	}
	if told || len(st.types) != n {
		return head
	}
	out := append(append([]byte{}, head[:at]...), 1)
	return append(append(out, st.types...), head[at+1:]...)
}

// prepared notes a statement, under a number that stays the same wherever the session goes, and
// reports whether the server's answer has to be changed for it.
func (s *mariaSession) prepared(b *mariaBackend, c command, x *core.Exchange, head []byte, size int) bool {
	if head[0] != 0 || size < 9 || x.Noted {
		return false
	}
	x.Noted = true
	s.mu.Lock()
	defer s.mu.Unlock()
	s.numbered++
	s.statements[s.numbered] = &mariaStatement{text: c.sql, parameters: int(x.Parameters)}
	b.ids[s.numbered] = x.Statement
	return true
}

// numberedAnswer is the answer to a statement that was prepared, with its number here.
func (s *mariaSession) numberedAnswer(head []byte) []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := bytes.Clone(head)
	binary.LittleEndian.PutUint32(out[1:], s.numbered)
	return out
}

// finish notes what a command has done; mu is not held.
func (s *mariaSession) finish(c command, x *core.Exchange) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if x.Known {
		s.inside = x.InTransaction
	}
	if c.kind == core.ComReset && !x.Failed {
		s.statements, s.holds, s.known, s.inside = map[uint32]*mariaStatement{}, "", nil, false
	}
	if !s.inside {
		s.fresh = false
	}
	s.busy, s.killed, s.changed = false, false, time.Now()
	s.cond.Broadcast()
}

// threadOf returns the server's number of a connection that clients know by the gate's.
func (g *Gate) threadOf(id int64) (uint32, bool) {
	g.mu.Lock()
	x := g.sessions[id-gateThreads]
	g.mu.Unlock()
	s, ok := x.(*mariaSession)
	if !ok {
		return 0, false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.back == nil {
		return 0, false
	}
	return s.back.thread, true
}

// show implements carried.
func (s *mariaSession) show() observation.GateSession {
	s.mu.Lock()
	defer s.mu.Unlock()
	state := "idle"
	switch {
	case s.busy:
		state = "busy"
	case s.inside:
		state = "in a transaction"
	}
	return s.shows(state)
}

// connected implements carried.
func (s *mariaSession) connected() bool { return s.back != nil }

// atBoundary implements carried.
func (s *mariaSession) atBoundary() bool { return !s.busy && !s.inside }

// pins implements carried: nothing that is carried here shuts out others.
func (s *mariaSession) pins() bool { return false }

// outcome implements carried.
func (s *mariaSession) outcome() carryError {
	if s.inside && !s.ends || !s.inside && s.reader() {
		return carryError{codeShutdown, "nothing of the transaction was committed"}
	}
	return carryError{codeUnknown, "a statement was under way: whether it was committed is not known"}
}

// reader reports whether the session's server takes no writes.
func (s *mariaSession) reader() bool { return s.door == route.Reader }
