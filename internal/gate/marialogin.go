package gate

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"crosstwin/internal/core/observation"
	core "crosstwin/internal/core/session"
)

// Capabilities that a gate has to know (documentation, "Connecting").
const (
	capDatabase   = 1 << 3
	capCompress   = 1 << 5
	capLocalFiles = 1 << 7
	capProtocol41 = 1 << 9
	capTLS        = 1 << 11
	capSecure     = 1 << 15
	capPlugin     = 1 << 19
	capAttributes = 1 << 20
	capLengths    = 1 << 21
	capNoEnds     = 1 << 24
)

// greeting is a server's first packet.
type greeting struct {
	version string
	caps    uint32
	charset byte
	status  uint16
	nonce   []byte
	plugin  string
	thread  uint32
}

func readGreeting(b []byte) (g greeting, err error) {
	short := errors.New("the server's greeting is incomplete")
	if len(b) > 0 && b[0] == 0xff {
		return g, readFailure(b)
	}
	if len(b) < 1 || b[0] != 10 {
		return g, errors.New("the server greets by another protocol")
	}
	version, rest, ok := bytes.Cut(b[1:], []byte{0})
	if !ok || len(rest) < 31 {
		return g, short
	}
	g.version, g.thread = string(version), binary.LittleEndian.Uint32(rest)
	g.nonce = append(g.nonce, rest[4:12]...)
	g.caps = uint32(binary.LittleEndian.Uint16(rest[13:])) | uint32(binary.LittleEndian.Uint16(rest[18:]))<<16
	g.charset, g.status = rest[15], binary.LittleEndian.Uint16(rest[16:])
	size := max(12, int(rest[20])-9)
	if rest = rest[31:]; len(rest) < size {
		return g, short
	}
	g.nonce = append(g.nonce, rest[:size]...)
	plugin, _, _ := bytes.Cut(bytes.TrimPrefix(rest[size:], []byte{0}), []byte{0})
	g.plugin = string(plugin)
	return g, nil
}

// greet is the gate's own: of the server's version and abilities, without those that a gate cannot
// follow, and with a nonce of its own.
func (g greeting) packet(thread uint32, nonce []byte, encrypts bool) []byte {
	caps := g.caps &^ (capCompress | capTLS)
	if encrypts {
		caps |= capTLS
	}
	b := append([]byte{10}, g.version...)
	b = binary.LittleEndian.AppendUint32(append(b, 0), thread)
	b = append(append(b, nonce[:8]...), 0)
	b = binary.LittleEndian.AppendUint16(b, uint16(caps)) // #nosec G115 -- the lower half
	b = append(b, g.charset)
	b = binary.LittleEndian.AppendUint16(b, 2) // no transaction, commits by itself
	b = binary.LittleEndian.AppendUint16(b, uint16(caps>>16))
	b = append(b, byte(len(nonce)+1))
	b = append(b, make([]byte, 10)...)
	b = append(append(b, nonce[8:]...), 0)
	return append(append(b, core.NativePassword...), 0)
}

// mariaLogin is a client's answer to the greeting.
type mariaLogin struct {
	caps       uint32
	most       uint32
	charset    byte
	user       string
	answer     []byte
	database   string
	plugin     string
	attributes []byte
}

func readMariaLogin(b []byte) (l mariaLogin, err error) {
	short := errors.New("the client's login is incomplete")
	if len(b) < 32 {
		return l, short
	}
	l.caps, l.most, l.charset = binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint32(b[4:]), b[8]
	if l.caps&capProtocol41 == 0 {
		return l, errors.New("the client speaks a protocol of before 4.1")
	}
	rest := b[32:]
	text := func() string {
		t, after, ok := bytes.Cut(rest, []byte{0})
		if rest = after; !ok {
			err = short
		}
		return string(t)
	}
	l.user = text()
	if err != nil || len(rest) == 0 {
		return l, short
	}
	n, size, ok := uint64(rest[0]), 1, true
	if l.caps&capLengths != 0 {
		n, size, ok = core.LengthEncoded(rest)
	}
	if !ok || uint64(len(rest)-size) < n {
		return l, short
	}
	l.answer, rest = rest[size:size+int(n)], rest[size+int(n):] // #nosec G115 -- at most the packet's length
	if l.caps&capDatabase != 0 {
		l.database = text()
	}
	if l.caps&capPlugin != 0 && err == nil && len(rest) > 0 {
		l.plugin = text()
	}
	if l.caps&capAttributes != 0 && err == nil {
		l.attributes = rest
	}
	return l, err
}

// packet is the login at a server, with another answer.
func (l mariaLogin) packet(answer []byte) []byte {
	caps := l.caps &^ (capDatabase | capLengths)
	if l.database != "" {
		caps |= capDatabase
	}
	caps |= capPlugin | capSecure
	b := l.begins(caps)
	b = append(append(b, l.user...), 0, byte(len(answer)))
	b = append(b, answer...)
	if l.database != "" {
		b = append(append(b, l.database...), 0)
	}
	b = append(append(b, core.NativePassword...), 0)
	if caps&capAttributes != 0 {
		b = append(b, l.attributes...)
	}
	return b
}

// begins is the part that a request for encryption has in common with a login.
func (l mariaLogin) begins(caps uint32) []byte {
	b := binary.LittleEndian.AppendUint32(nil, caps)
	b = binary.LittleEndian.AppendUint32(b, l.most)
	return append(append(b, l.charset), make([]byte, 23)...)
}

// gateThreads is where the numbers begin that a gate gives its sessions as connections: no server
// gets as far.
const gateThreads = 0x40000000

// serveMaria serves one client of MariaDB's from its first byte to its last.
func (g *Gate) serveMaria(conn net.Conn, d doorway, loggedIn func()) {
	s := &mariaSession{statements: map[uint32]*mariaStatement{}}
	s.init(g, d.door, conn, s)
	s.id = g.number()
	s.out = newPackets(conn)
	conn.SetDeadline(time.Now().Add(g.longest()))
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

// greeted returns the greeting of a server, which does not change while it runs.
func (g *Gate) greeted(ctx context.Context, s *mariaSession) (greeting, error) {
	g.mu.Lock()
	have := g.greeting
	g.mu.Unlock()
	if have.version != "" {
		return have, nil
	}
	p, err := g.await(ctx, s.door, false)
	if err != nil {
		return have, err
	}
	w, have, err := dialMaria(ctx, p)
	if err != nil {
		return have, err
	}
	w.conn.Close()
	g.mu.Lock()
	g.greeting = have
	g.mu.Unlock()
	return have, nil
}

func (s *mariaSession) login() error {
	ctx, cancel := context.WithTimeout(s.g.ctx, s.g.longest())
	defer cancel()
	greets, err := s.g.greeted(ctx, s)
	if err != nil {
		s.out.send(failure(errShutdown, err.Error()+"; nothing was carried out: try again"))
		return err
	}
	if err := s.authenticate(ctx, greets); err != nil {
		return err
	}
	s.mu.Lock()
	s.waiting = time.Now()
	s.mu.Unlock()
	s.g.add(s)
	b, err := s.open(ctx, false)
	s.mu.Lock()
	s.waiting = time.Time{}
	s.mu.Unlock()
	if err == nil {
		err = s.arrives(b)
	}
	if err != nil {
		s.g.remove(s)
		s.g.opened.Add(-1)
		var said mariaError
		if errors.As(err, &said) {
			s.out.send(said.raw)
		} else {
			s.out.send(failure(errShutdown, err.Error()+"; nothing was carried out: try again"))
		}
		return err
	}
	if s.g.misplaced(s.door, b.place) {
		s.lose("another server became primary meanwhile")
	}
	return s.out.send(okay)
}

// authenticate has the client prove that it knows the password, without learning it.
func (s *mariaSession) authenticate(ctx context.Context, greets greeting) error {
	nonce := make([]byte, 20)
	rand.Read(nonce)
	for i := range nonce { // the nonce ends where a zero stands
		nonce[i] = nonce[i]&0x7f | 1
	}
	_, local := s.client.(*net.UnixConn)
	if err := s.out.send(greets.packet(gateThreads+uint32(s.id), nonce, !local)); err != nil { // #nosec G115 -- few
		return err
	}
	b, err := s.out.read()
	if err == nil && len(b) == 32 && binary.LittleEndian.Uint32(b)&capTLS != 0 {
		b, err = s.encrypt()
	}
	if err != nil {
		return err
	}
	if s.as, err = readMariaLogin(b); err != nil {
		s.out.send(failure(errBroken, err.Error()))
		return err
	}
	s.user, s.database, s.noEnds = s.as.user, s.as.database, s.as.caps&capNoEnds != 0
	answer := s.as.answer
	if s.as.plugin != "" && s.as.plugin != core.NativePassword || len(answer) == 0 && s.as.plugin == "" {
		ask := append(append([]byte{0xfe}, core.NativePassword...), 0)
		if err := s.out.send(append(append(ask, nonce...), 0)); err != nil {
			return err
		}
		if answer, err = s.out.read(); err != nil {
			return err
		}
	}
	return s.check(ctx, nonce, answer)
}

func (s *mariaSession) check(ctx context.Context, nonce, answer []byte) error {
	k, err := s.g.kept(ctx, s.user)
	if err != nil {
		s.out.send(failure(errShutdown, "no agent can be asked for passwords now; nothing was carried out: try again"))
		return err
	}
	for _, kept := range k.Passwords {
		stage2, ok := core.ParseNative(kept)
		if !ok {
			continue
		}
		if stage1, right := core.CheckNative(stage2, nonce, answer); right {
			s.stage1 = stage1
			return nil
		}
	}
	using := "YES"
	if len(answer) == 0 {
		using = "NO"
	}
	host, _, _ := net.SplitHostPort(s.from)
	s.out.send(failure(errDenied, fmt.Sprintf("Access denied for user '%s'@'%s' (using password: %s)", s.user, host,
		using)))
	if len(k.Methods) > 0 {
		return fmt.Errorf("the server keeps what is of %s for this user, by which no gate can log it in: docs/gates.md "+
			"says what can be done", strings.Join(k.Methods, ", "))
	}
	return core.ErrPassword
}

// encrypt takes the client's connection over into TLS, and reads its login there.
func (s *mariaSession) encrypt() ([]byte, error) {
	if s.out.r.Buffered() > 0 {
		// The client has begun the handshake at once: what is buffered belongs to it.
		pending, _ := s.out.r.Peek(s.out.r.Buffered())
		s.client = &prefixed{s.client, bytes.NewReader(bytes.Clone(pending))}
	}
	t := tls.Server(s.client, s.g.tls)
	if err := t.Handshake(); err != nil {
		return nil, err
	}
	seq := s.out.seq
	s.out = newPackets(t)
	s.out.seq = seq
	return s.out.read()
}

// prefixed is a connection of which a part was read already.
type prefixed struct {
	net.Conn
	first *bytes.Reader
}

func (p *prefixed) Read(b []byte) (int, error) {
	if p.first.Len() > 0 {
		return p.first.Read(b)
	}
	return p.Conn.Read(b)
}

// dialMaria opens a connection to a server and reads its greeting.
func dialMaria(ctx context.Context, p place) (*packets, greeting, error) {
	d := &net.Dialer{Timeout: 5 * time.Second, KeepAlive: 10 * time.Second}
	c, err := d.DialContext(ctx, "tcp", p.Address.String())
	if err != nil {
		return nil, greeting{}, err
	}
	if deadline, ok := ctx.Deadline(); ok {
		c.SetDeadline(deadline)
	}
	w := newPackets(c)
	b, err := w.read()
	var g greeting
	if err == nil {
		g, err = readGreeting(b)
	}
	if err != nil {
		c.Close()
	}
	return w, g, err
}

// mariaBackend is one connection to a server.
type mariaBackend struct {
	*packets
	place
	thread uint32
	ids    map[uint32]uint32 // of the client's statements, as the server numbers them
	// untimed is the session's limit for statements while it is lifted for the gate's questions.
	untimed *string
	typed   map[uint32]bool // those whose types the server knows, by the client's numbers
}

// open waits for a server and logs in there.
func (s *mariaSession) open(ctx context.Context, past bool) (*mariaBackend, error) {
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
		var said mariaError
		if err == nil || errors.As(err, &said) && said.number != errShutdown {
			return b, err
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// dial logs in at one server.
func (s *mariaSession) dial(ctx context.Context, p place) (*mariaBackend, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	w, g, err := dialMaria(ctx, p)
	if err != nil {
		return nil, err
	}
	b := &mariaBackend{packets: w, place: p, thread: g.thread, ids: map[uint32]uint32{}, typed: map[uint32]bool{}}
	if err := s.proves(ctx, b, g); err != nil {
		w.conn.Close()
		return nil, err
	}
	b.conn.SetDeadline(time.Time{})
	return b, nil
}

// proves logs in as the client did. Over a network the connection is encrypted where the server
// can; a server that has to prove itself does so first.
func (s *mariaSession) proves(ctx context.Context, b *mariaBackend, g greeting) error {
	as := s.as
	as.database = s.database
	as.caps &= g.caps &^ (capCompress | capTLS)
	ip := net.ParseIP(b.Address.Host)
	loopback := ip != nil && ip.IsLoopback()
	switch must := b.Proof == observation.ProofAuthority; {
	case g.caps&capTLS != 0 && !loopback:
		as.caps |= capTLS
		if err := b.send(as.begins(as.caps)); err != nil {
			return err
		}
		t := tls.Client(b.conn, serverTLS(b.place, s.g.control.Authorities()))
		if err := t.HandshakeContext(ctx); err != nil {
			return fmt.Errorf("%s could not prove itself: %w", b.Name, err)
		}
		seq := b.seq
		b.packets = newPackets(t)
		b.seq = seq
	case must && !loopback:
		return fmt.Errorf("%s takes no encrypted connection, and has to prove itself by one", b.Name)
	}
	if err := b.send(as.packet(core.AnswerNative(s.stage1, g.nonce[:20]))); err != nil {
		return err
	}
	for {
		answer, err := b.read()
		switch {
		case err != nil:
			return err
		case len(answer) == 0:
			return errors.New("the server's answer to the login is empty")
		case answer[0] == 0xff:
			return readFailure(answer)
		case answer[0] == 0:
			return nil
		case answer[0] != 0xfe:
			return errors.New("the server's answer to the login cannot be read")
		}
		plugin, nonce, _ := bytes.Cut(answer[1:], []byte{0})
		reply := []byte{} // another method than the one that the gate can do: the server asks for the next
		if string(plugin) == core.NativePassword && len(nonce) >= 20 {
			reply = core.AnswerNative(s.stage1, nonce[:20])
		}
		if err := b.send(reply); err != nil {
			return err
		}
	}
}
