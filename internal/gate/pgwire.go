package gate

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"crosstwin/internal/core/observation"
)

// bufferSize is that of one direction's buffer. A session has four, most of the time for nothing.
const bufferSize = 4 << 10

// mostText bounds what is read whole of one message: a statement that is looked at, an error. A
// longer statement counts as able to do anything.
const mostText = 16 << 20

// wire is one end of PostgreSQL's protocol.
type wire struct {
	conn net.Conn
	r    *bufio.Reader
	w    *bufio.Writer
}

func newWire(c net.Conn) *wire {
	return &wire{c, bufio.NewReaderSize(c, bufferSize), bufio.NewWriterSize(c, bufferSize)}
}

// head reads the kind and the length of the next message, its body's, and leaves both unread.
func (w *wire) head() (kind byte, body int, err error) {
	h, err := w.r.Peek(5)
	if err != nil {
		return 0, 0, err
	}
	n := int(int32(binary.BigEndian.Uint32(h[1:])))
	if n < 4 || n > 1<<30 {
		return 0, 0, fmt.Errorf("a message of kind %q has length %d", h[0], n)
	}
	return h[0], n - 4, nil
}

// body reads the next message's body.
func (w *wire) body(n int) ([]byte, error) {
	if n > mostText {
		return nil, fmt.Errorf("a message of %d bytes is longer than %d", n, mostText)
	}
	if _, err := w.r.Discard(5); err != nil {
		return nil, err
	}
	b := make([]byte, n)
	_, err := io.ReadFull(w.r, b)
	return b, err
}

// whole returns the next message as it stands in the buffer, where it fits.
func (w *wire) whole(n int) ([]byte, bool) {
	if n+5 > w.r.Size() {
		return nil, false
	}
	b, err := w.r.Peek(n + 5)
	return b, err == nil
}

// texts returns the first texts of the next message's body, each of which ends in a zero: as many
// as lie within the buffer.
func (w *wire) texts(n, most int) (out []string) {
	b, err := w.r.Peek(min(n+5, w.r.Size()))
	if err != nil {
		return nil
	}
	for b = b[5:]; len(out) < most; {
		text, rest, ends := bytes.Cut(b, []byte{0})
		if !ends {
			break
		}
		out, b = append(out, string(text)), rest
	}
	return out
}

// pass copies the next message. What cannot be written is read all the same: torn tells that the
// reader's side ended before the message did.
func (w *wire) pass(n int, to io.Writer) (torn error) {
	if b, fits := w.whole(n); fits {
		to.Write(b)
		_, err := w.r.Discard(len(b))
		return err
	}
	_, err := io.CopyN(keepReading{to}, w.r, int64(n)+5)
	return err
}

// keepReading takes everything, also when the writer behind it fails.
type keepReading struct{ w io.Writer }

func (k keepReading) Write(b []byte) (int, error) {
	k.w.Write(b)
	return len(b), nil
}

// send writes messages and flushes.
func (w *wire) send(list ...pgproto3.Message) error {
	for _, m := range list {
		b, err := m.Encode(nil)
		if err != nil {
			return err
		}
		w.w.Write(b)
	}
	return w.w.Flush()
}

// pgError makes an error as the server words it.
func pgError(severity, code, text string) *pgproto3.ErrorResponse {
	return &pgproto3.ErrorResponse{Severity: severity, SeverityUnlocalized: severity, Code: code, Message: text}
}

// serverError is an error that a server answered with.
type serverError struct {
	raw  []byte // the whole body
	code string
	text string
}

func (e serverError) Error() string { return e.text + " (SQLSTATE " + e.code + ")" }

func readError(body []byte) serverError {
	var m pgproto3.ErrorResponse
	m.Decode(body)
	return serverError{body, m.Code, m.Message}
}

// The numbers that begin a connection in place of a version.
const (
	pgVersion    = 196608
	cancelNumber = 80877102
	sslNumber    = 80877103
	gssNumber    = 80877104
)

// dialPG opens a connection to a server, encrypted where it has to be, or can be over a network.
// On loopback nothing is on a network; a server that insists is tried again.
func dialPG(ctx context.Context, p place, authorities *x509.CertPool, encrypted bool) (*wire, error) {
	d := &net.Dialer{Timeout: 5 * time.Second, KeepAlive: 10 * time.Second}
	c, err := d.DialContext(ctx, "tcp", p.Address.String())
	if err != nil {
		return nil, err
	}
	if deadline, ok := ctx.Deadline(); ok {
		c.SetDeadline(deadline)
	}
	if ip := net.ParseIP(p.Address.Host); ip != nil && ip.IsLoopback() && !encrypted {
		return newWire(c), nil
	}
	var ask [8]byte
	binary.BigEndian.PutUint32(ask[:], 8)
	binary.BigEndian.PutUint32(ask[4:], sslNumber)
	if _, err = c.Write(ask[:]); err == nil {
		_, err = io.ReadFull(c, ask[:1])
	}
	if err != nil {
		c.Close()
		return nil, err
	}
	if ask[0] != 'S' {
		if p.Proof == observation.ProofAuthority {
			c.Close()
			return nil, fmt.Errorf("%s takes no encrypted connection, and has to prove itself by one", p.Name)
		}
		return newWire(c), nil
	}
	t := tls.Client(c, serverTLS(p, authorities))
	if err := t.HandshakeContext(ctx); err != nil {
		c.Close()
		return nil, fmt.Errorf("%s could not prove itself: %w", p.Name, err)
	}
	return newWire(t), nil
}

// serverTLS is what a server has to prove to the gate.
func serverTLS(p place, authorities *x509.CertPool) *tls.Config {
	if p.Proof == observation.ProofAuthority {
		return &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: authorities, ServerName: p.Address.Host}
	}
	return &tls.Config{
		InsecureSkipVerify: true, // #nosec G402 -- its certificate is the administrator's; the login proves the server
		MinVersion:         tls.VersionTLS12,
	}
}

// endPoint is what channel binding of type tls-server-end-point binds to (RFC 5929): the hash of
// the certificate, by the algorithm of its signature.
func endPoint(der []byte) []byte {
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return nil
	}
	switch c.SignatureAlgorithm {
	case x509.SHA384WithRSA, x509.ECDSAWithSHA384, x509.SHA384WithRSAPSS:
		h := sha512.Sum384(der)
		return h[:]
	case x509.SHA512WithRSA, x509.ECDSAWithSHA512, x509.SHA512WithRSAPSS:
		h := sha512.Sum512(der)
		return h[:]
	}
	h := sha256.Sum256(der)
	return h[:]
}

// peerBinding is that of the server at the other end; nil where the connection is not encrypted.
func (w *wire) peerBinding() []byte {
	t, ok := w.conn.(*tls.Conn)
	if !ok {
		return nil
	}
	list := t.ConnectionState().PeerCertificates
	if len(list) == 0 {
		return nil
	}
	return endPoint(list[0].Raw)
}
