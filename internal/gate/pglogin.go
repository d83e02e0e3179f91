package gate

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	core "crosstwin/internal/core/session"
)

// pgKeys are what logs a user in: SCRAM's keys, or the hash that the server keeps (MD5).
type pgKeys struct {
	scram core.Keys
	md5   string
}

// mostStartup bounds the first message: the server's own limit (PostgreSQL, MAX_STARTUP_PACKET_LENGTH).
const mostStartup = 10000

// servePG serves one client of PostgreSQL's from its first byte to its last.
func (g *Gate) servePG(conn net.Conn, d doorway, loggedIn func()) {
	s := &pgSession{texts: map[string]stepText{}}
	s.init(g, d.door, conn, s)
	conn.SetDeadline(time.Now().Add(loginLimit))
	if err := s.greet(); err != nil || s.startup == nil {
		if err != nil {
			g.log.Debug("a client's greeting failed", "from", s.from, "error", err)
		}
		return
	}
	if err := s.login(); err != nil {
		g.refused.Add(1)
		g.log.Info("a login was refused", "user", s.user, "database", s.database, "from", s.from, "error", err)
		return
	}
	s.hasEntered()
	loggedIn()
	conn.SetDeadline(time.Time{})
	s.run()
}

// greet reads up to the startup message, and encrypts the connection where the client wants it.
// After a request to cancel there is nothing more to do, and startup stays nil.
func (s *pgSession) greet() error {
	s.out = newWire(s.client)
	for {
		var head [8]byte
		if _, err := io.ReadFull(s.out.r, head[:]); err != nil {
			return err
		}
		n, code := binary.BigEndian.Uint32(head[:]), binary.BigEndian.Uint32(head[4:])
		if n < 8 || n > mostStartup {
			return fmt.Errorf("a first message of %d bytes", n)
		}
		rest := make([]byte, n-8)
		if _, err := io.ReadFull(s.out.r, rest); err != nil {
			return err
		}
		switch {
		case code == gssNumber:
			s.out.conn.Write([]byte{'N'})
		case code == sslNumber:
			if err := s.encrypt(); err != nil {
				return err
			}
		case code == cancelNumber:
			if len(rest) >= 8 {
				s.g.cancelPG(binary.BigEndian.Uint32(rest), rest[4:])
			}
			return nil
		case code>>16 == pgVersion>>16:
			return s.readStartup(code, rest)
		default:
			s.refuse(codeProtocol, fmt.Sprintf("unsupported frontend protocol %d.%d", code>>16, code&0xffff))
			return fmt.Errorf("protocol %d.%d", code>>16, code&0xffff)
		}
	}
}

// encrypt answers the request for TLS. What came behind it unencrypted would be taken for
// encrypted: it ends the connection.
func (s *pgSession) encrypt() error {
	_, local := s.client.(*net.UnixConn)
	if _, already := s.out.conn.(*tls.Conn); already || local {
		_, err := s.out.conn.Write([]byte{'N'})
		return err
	}
	if s.out.r.Buffered() > 0 {
		return errors.New("something came unencrypted behind the request for encryption")
	}
	if _, err := s.client.Write([]byte{'S'}); err != nil {
		return err
	}
	t := tls.Server(s.client, s.g.tls)
	if err := t.Handshake(); err != nil {
		return err
	}
	s.out = newWire(t)
	return nil
}

// readStartup reads who wants what. A newer minor version of the protocol is answered with the
// one that is spoken here, as a server does.
func (s *pgSession) readStartup(version uint32, rest []byte) error {
	params := map[string]string{}
	var unknown []string
	for list := strings.Split(string(rest), "\x00"); len(list) >= 2 && list[0] != ""; list = list[2:] {
		if strings.HasPrefix(list[0], "_pq_.") {
			unknown = append(unknown, list[0])
			continue
		}
		params[list[0]] = list[1]
	}
	if s.user = params["user"]; s.user == "" {
		s.refuse("28000", "no PostgreSQL user name specified in startup packet")
		return errors.New("no user")
	}
	if r, given := params["replication"]; given && r != "false" && r != "off" && r != "0" && r != "no" {
		s.refuse(codeNotHere, "replication connections do not go through a gate: connect to the server itself")
		return errors.New("a replication connection")
	}
	if s.database = params["database"]; s.database == "" {
		s.database = s.user
	}
	s.startup = params
	if version > pgVersion || len(unknown) > 0 {
		return s.out.send(&pgproto3.NegotiateProtocolVersion{NewestMinorProtocol: 0, UnrecognizedOptions: unknown})
	}
	return nil
}

// refuse tells a client that is not let in why.
func (s *pgSession) refuse(code, text string) { s.out.send(pgError("FATAL", code, text)) }

func (s *pgSession) login() error {
	ctx, cancel := context.WithTimeout(s.g.ctx, s.g.longest())
	defer cancel()
	if err := s.authenticate(ctx); err != nil {
		return err
	}
	s.client.SetDeadline(time.Now().Add(s.g.longest()))
	s.id = s.g.number()
	s.mu.Lock()
	s.waiting = time.Now()
	s.mu.Unlock()
	s.g.add(s) // those who wait are seen
	b, err := s.open(ctx, false)
	s.mu.Lock()
	s.waiting = time.Time{}
	s.mu.Unlock()
	if err != nil {
		s.g.remove(s)
		s.g.opened.Add(-1)
		var said serverError
		if errors.As(err, &said) {
			s.out.w.Write(frame('E', said.raw))
			s.out.w.Flush()
		} else {
			s.refuse(codeNoServer, err.Error()+"; nothing was carried out: try again")
		}
		return err
	}
	if err := s.begins(b); err != nil {
		return err
	}
	if s.g.misplaced(s.door, b.place) {
		s.lose("another server became primary meanwhile")
	}
	return nil
}

// begins begins the session on its first connection. The client is told so before anything that the
// server says by itself.
func (s *pgSession) begins(b *pgBackend) error {
	messages := []pgproto3.Message{&pgproto3.AuthenticationOk{}}
	for _, name := range slices.Sorted(maps.Keys(b.params)) {
		messages = append(messages, &pgproto3.ParameterStatus{Name: name, Value: b.params[name]})
	}
	messages = append(messages,
		&pgproto3.BackendKeyData{ProcessID: binary.BigEndian.Uint32(b.cancel[:4]), SecretKey: b.cancel[4:]},
		&pgproto3.ReadyForQuery{TxStatus: 'I'})
	s.writing.Lock()
	defer s.writing.Unlock()
	s.mu.Lock()
	s.back, s.at, s.params, s.cancel = b, b.place, b.params, b.cancel
	// A fresh session is known: it is what its login makes it.
	s.known, s.asked, s.fresh = &pgState{role: "none", user: s.user}, true, true
	s.mu.Unlock()
	go s.relay(b)
	err := s.out.send(messages...)
	if err != nil {
		s.g.remove(s)
		b.conn.Close()
	}
	return err
}

func frame(kind byte, body []byte) []byte {
	b := binary.BigEndian.AppendUint32([]byte{kind}, uint32(len(body)+4)) // #nosec G115 -- bounded by mostText
	return append(b, body...)
}

// authenticate has the client prove that it knows the password, without learning it.
func (s *pgSession) authenticate(ctx context.Context) error {
	s.client.SetDeadline(time.Time{}) // what is asked now has a limit of its own
	k, err := s.g.kept(ctx, s.user)
	if err != nil {
		s.refuse(codeNoServer, "no agent can be asked for passwords now; nothing was carried out: try again")
		return err
	}
	s.client.SetDeadline(time.Now().Add(loginLimit))
	wrong := fmt.Sprintf("password authentication failed for user %q", s.user)
	kept := ""
	if len(k.Passwords) > 0 {
		kept = k.Passwords[0]
	}
	if core.IsMD5(kept) {
		err = s.checkMD5(kept)
	} else {
		v, perr := core.ParseVerifier(kept)
		if perr != nil {
			v = core.FakeVerifier(s.user, s.g.secret)
		}
		if err = s.checkScram(v); err == nil && perr != nil {
			err = core.ErrPassword
		}
		if errors.Is(err, core.ErrPassword) && len(k.Methods) > 0 {
			err = fmt.Errorf("the server keeps %s for this user, so that no gate can log it in: docs/gates.md says what can "+
				"be done", strings.Join(k.Methods, ", "))
			s.refuse(codePassword, wrong)
			return err
		}
	}
	if errors.Is(err, core.ErrPassword) {
		s.refuse(codePassword, wrong)
	}
	return err
}

func (s *pgSession) checkMD5(kept string) error {
	var salt [4]byte
	rand.Read(salt[:])
	if err := s.out.send(&pgproto3.AuthenticationMD5Password{Salt: salt}); err != nil {
		return err
	}
	answer, err := s.password()
	if err != nil {
		return err
	}
	if string(answer) != core.AnswerMD5(kept, salt[:])+"\x00" {
		return core.ErrPassword
	}
	s.keys.md5 = kept
	return nil
}

// password reads the client's message with an answer.
func (s *pgSession) password() ([]byte, error) {
	kind, n, err := s.out.head()
	if err != nil {
		return nil, err
	}
	if kind != 'p' || n > mostStartup {
		return nil, fmt.Errorf("a message of kind %q where a password was expected", kind)
	}
	return s.out.body(n)
}

func (s *pgSession) checkScram(v core.Verifier) error {
	var binding []byte
	if _, encrypted := s.out.conn.(*tls.Conn); encrypted {
		if c, err := s.g.shows(nil); err == nil {
			binding = endPoint(c.Certificate[0])
		}
	}
	server := core.NewScramServer(v, binding)
	if err := s.out.send(&pgproto3.AuthenticationSASL{AuthMechanisms: server.Mechanisms()}); err != nil {
		return err
	}
	body, err := s.password()
	if err != nil {
		return err
	}
	var first pgproto3.SASLInitialResponse
	if err := first.Decode(body); err != nil {
		return err
	}
	challenge, err := server.First(first.AuthMechanism, first.Data, random())
	if err != nil {
		s.refuse(codeProtocol, err.Error())
		return err
	}
	if err := s.out.send(&pgproto3.AuthenticationSASLContinue{Data: challenge}); err != nil {
		return err
	}
	if body, err = s.password(); err != nil {
		return err
	}
	last, keys, err := server.Final(body)
	if err != nil {
		if !errors.Is(err, core.ErrPassword) {
			s.refuse(codeProtocol, err.Error())
		}
		return err
	}
	s.keys.scram = keys
	return s.out.send(&pgproto3.AuthenticationSASLFinal{Data: last})
}

// random is a nonce.
func random() string {
	var b [18]byte
	rand.Read(b[:])
	return base64.StdEncoding.EncodeToString(b[:])
}

// pgBackend is one connection to a server.
type pgBackend struct {
	*wire
	place
	// writing: the server may have answered what the client's goroutine sent before that has
	// returned from sending it.
	writing sync.Mutex
	cancel  [8]byte // process and key, for a request to cancel
	params  map[string]string
	retired bool           // given up on purpose: its end says nothing; the session's mu guards it
	dying   string         // the SQLSTATE by which the server ended it
	torn    bool           // the client has the beginning of a message; set before gone is closed
	gone    chan struct{}  // closed once nobody reads it any more
	answers chan []message // what was answered to a question of the gate's; nil: none was asked
	asking  []message
}

// message is one of the server's.
type message struct {
	kind byte
	body []byte
}

// open waits for a server and logs in there.
func (s *pgSession) open(ctx context.Context, past bool) (*pgBackend, error) {
	for {
		p, err := s.g.await(ctx, s.door, past)
		if err != nil {
			return nil, err
		}
		select {
		case s.g.opening <- struct{}{}:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		b, err := s.dial(ctx, p)
		<-s.g.opening
		if err == nil {
			return b, nil
		}
		var said serverError
		if errors.As(err, &said) && !passing(said.code) {
			return nil, err
		}
		// The server went away, or has no room: it may be another one that is named next.
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// passing reports whether a refusal to let somebody in is over in a moment: the server starts,
// stops, or was a replica that could not be read yet.
func passing(code string) bool { return code == "57P03" || code == "57P01" || code == "57P02" }

// dial opens a connection to one server.
func (s *pgSession) dial(ctx context.Context, p place) (*pgBackend, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	for _, encrypted := range []bool{false, true} {
		w, err := dialPG(ctx, p, s.g.control.Authorities(), encrypted)
		if err != nil {
			return nil, err
		}
		b := &pgBackend{wire: w, place: p, params: map[string]string{}, gone: make(chan struct{})}
		if err = b.login(s.startup, s.user, s.keys); err == nil {
			w.conn.SetDeadline(time.Time{})
			return b, nil
		}
		w.conn.Close()
		var said serverError
		if !errors.As(err, &said) || said.code != "28000" || encrypted {
			return nil, err
		}
	}
	return nil, errors.New("not reached")
}

// login logs in as the client did.
func (b *pgBackend) login(startup map[string]string, user string, keys pgKeys) error {
	if err := b.send(&pgproto3.StartupMessage{ProtocolVersion: pgVersion, Parameters: startup}); err != nil {
		return err
	}
	var scram *core.ScramClient
	for {
		kind, n, err := b.head()
		if err != nil {
			return err
		}
		body, err := b.body(n)
		if err != nil {
			return err
		}
		switch kind {
		case 'E':
			return readError(body)
		case 'S':
			name, value := pair(body)
			b.params[name] = value
		case 'K':
			if len(body) == 8 {
				copy(b.cancel[:], body)
			}
		case 'Z':
			return nil
		case 'R':
			if scram, err = b.prove(body, user, keys, scram); err != nil {
				return err
			}
		}
	}
}

// prove answers one message of the login.
func (b *pgBackend) prove(body []byte, user string, keys pgKeys, scram *core.ScramClient) (*core.ScramClient, error) {
	if len(body) < 4 {
		return nil, errors.New("the server's login cannot be read")
	}
	rest := body[4:]
	switch method := binary.BigEndian.Uint32(body); {
	case method == 0:
		return scram, nil
	case method == 5 && keys.md5 != "" && len(rest) == 4:
		return nil, b.send(&pgproto3.PasswordMessage{Password: core.AnswerMD5(keys.md5, rest)})
	case method == 10 && keys.scram.Client != nil:
		binding := b.peerBinding()
		if !slices.Contains(strings.Split(string(rest), "\x00"), core.ScramPlus) {
			binding = nil
		}
		scram = core.NewScramClient(keys.scram, binding, random())
		mechanism, first := scram.First()
		return scram, b.send(&pgproto3.SASLInitialResponse{AuthMechanism: mechanism, Data: first})
	case method == 11 && scram != nil:
		proof, err := scram.Final(rest)
		if err != nil {
			return nil, err
		}
		return scram, b.send(&pgproto3.SASLResponse{Data: proof})
	case method == 12 && scram != nil:
		return scram, scram.Check(rest)
	default:
		return nil, fmt.Errorf("%s wants user %q to log in by a method that the gate cannot do with what is kept of the "+
			"password (%d): let the gate's host in by scram-sha-256 in pg_hba.conf", b.Name, user, method)
	}
}

// pair reads two texts that end in a zero.
func pair(b []byte) (a, z string) {
	a, rest, _ := strings.Cut(string(b), "\x00")
	z, _, _ = strings.Cut(rest, "\x00")
	return a, z
}

// cancelPG passes a request to cancel on to where the session is now.
func (g *Gate) cancelPG(process uint32, secret []byte) {
	for _, x := range g.all() {
		s, ok := x.(*pgSession)
		if !ok {
			continue
		}
		s.mu.Lock()
		own := binary.BigEndian.Uint32(s.cancel[:4]) == process && slices.Equal(s.cancel[4:], secret)
		b := s.back
		s.mu.Unlock()
		if own && b != nil {
			b.sendCancel(g)
			return
		}
	}
}

// sendCancel asks the server to end what runs in the session. The server closes the connection
// when it has sent the signal.
func (b *pgBackend) sendCancel(g *Gate) {
	ctx, cancel := context.WithTimeout(g.ctx, cutLimit)
	defer cancel()
	_, encrypted := b.conn.(*tls.Conn)
	w, err := dialPG(ctx, b.place, g.control.Authorities(), encrypted)
	if err != nil {
		return
	}
	defer w.conn.Close()
	m := binary.BigEndian.AppendUint32(nil, 16)
	m = binary.BigEndian.AppendUint32(m, cancelNumber)
	w.conn.Write(append(m, b.cancel[:]...))
	io.Copy(io.Discard, w.conn)
}
