package gate

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"syscall"

	core "crosstwin/internal/core/session"
)

// packets is one end of MariaDB's protocol: packets of at most 16 MB, numbered within a command.
type packets struct {
	conn net.Conn
	r    *bufio.Reader
	w    *bufio.Writer
	seq  byte
}

func newPackets(c net.Conn) *packets {
	return &packets{conn: c, r: bufio.NewReaderSize(c, bufferSize), w: bufio.NewWriterSize(c, bufferSize)}
}

// longest is the length of a packet that goes on in the next one.
const longest = 1<<24 - 1

// head looks at the next packet's length and number, and leaves it unread.
func (p *packets) head() (size int, seq byte, err error) {
	h, err := p.r.Peek(4)
	if err != nil {
		return 0, 0, err
	}
	return int(h[0]) | int(h[1])<<8 | int(h[2])<<16, h[3], nil
}

// begins returns the beginning of the next packet's content, which stays unread: at most what the
// buffer holds.
func (p *packets) begins(size, most int) ([]byte, error) {
	n := min(size, most, p.r.Size()-4)
	b, err := p.r.Peek(n + 4)
	if err != nil {
		return nil, err
	}
	return b[4:], nil
}

// read reads one packet, whose continuations are refused.
func (p *packets) read() ([]byte, error) {
	size, seq, err := p.head()
	if err != nil {
		return nil, err
	}
	if size == longest {
		return nil, fmt.Errorf("a packet of %d bytes that goes on", size)
	}
	p.r.Discard(4)
	b := make([]byte, size)
	_, err = io.ReadFull(p.r, b)
	p.seq = seq + 1
	return b, err
}

// write puts one packet into the buffer.
func (p *packets) write(b []byte) {
	p.frame(len(b), p.seq)
	p.w.Write(b)
	p.seq++
}

func (p *packets) frame(size int, seq byte) {
	p.w.Write([]byte{byte(size), byte(size >> 8), byte(size >> 16), seq})
}

// send writes one packet and flushes.
func (p *packets) send(b []byte) error {
	p.write(b)
	return p.w.Flush()
}

// pass copies the next packet as it stands. A reader that breaks off in its midst is an error, a
// writer that takes nothing is not.
func (p *packets) pass(size int, to io.Writer) error {
	if size+4 <= p.r.Size() {
		b, err := p.r.Peek(size + 4)
		if err != nil {
			return err
		}
		to.Write(b)
		_, err = p.r.Discard(len(b))
		return err
	}
	if _, err := io.CopyN(keepReading{to}, p.r, int64(size)+4); err != nil {
		return errTorn
	}
	return nil
}

// alive reports whether a connection that should be silent is so: not ended, and nothing said.
func (p *packets) alive() bool {
	if p.r.Buffered() > 0 {
		return false
	}
	raw, ok := p.conn.(syscall.Conn)
	if !ok {
		t, encrypted := p.conn.(interface{ NetConn() net.Conn })
		if !encrypted {
			return true
		}
		if raw, ok = t.NetConn().(syscall.Conn); !ok {
			return true
		}
	}
	rc, err := raw.SyscallConn()
	if err != nil {
		return false
	}
	silent := false
	err = rc.Read(func(fd uintptr) bool {
		var b [1]byte
		_, _, err := syscall.Recvfrom(int(fd), b[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		silent = err == syscall.EAGAIN || err == syscall.EWOULDBLOCK
		return true
	})
	return err == nil && silent
}

// The numbers of errors that a gate sends by itself (documentation, "MariaDB Error Codes").
const (
	errRetry    = 1213 // deadlock: the transaction was taken back, try again
	errGone     = 1927 // the connection was killed
	errDenied   = 1045
	errShutdown = 1053 // a server shutdown is in progress
	errNotHere  = 1235
	errBroken   = 1043 // bad handshake
)

var states = map[uint16]string{errRetry: "40001", errGone: "70100", errDenied: "28000", errShutdown: "08S01",
	errNotHere: "42000", errBroken: "08S01"}

// numbers are what a client is told in place of the SQLSTATEs by which sessions end.
var numbers = map[string]uint16{codeShutdown: errGone, codeUnknown: errGone, codeNoServer: errShutdown}

// failure is an error packet.
func failure(number uint16, text string) []byte {
	b := binary.LittleEndian.AppendUint16([]byte{0xff}, number)
	return append(append(append(b, '#'), states[number]...), text...)
}

// okay is an OK packet of a session in no transaction.
var okay = []byte{0, 0, 0, 2, 0, 0, 0}

// mariaError is an error that a server answered with.
type mariaError struct {
	raw    []byte
	number uint16
	text   string
}

func (e mariaError) Error() string { return fmt.Sprintf("%s (%d)", e.text, e.number) }

func readFailure(b []byte) mariaError {
	e := mariaError{raw: b}
	if len(b) >= 3 {
		e.number, e.text = binary.LittleEndian.Uint16(b[1:]), string(b[3:])
		if len(e.text) > 6 && e.text[0] == '#' {
			e.text = e.text[6:]
		}
	}
	return e
}

// command sends a command of the gate's own and returns its rows, each column as text; a nil
// column is NULL.
func (p *packets) command(kind byte, body string, noEnds bool) (rows [][]*string, x *core.Exchange, err error) {
	p.seq = 0
	if err := p.send(append([]byte{kind}, body...)); err != nil {
		return nil, nil, err
	}
	x = core.Begin(kind, noEnds)
	for !x.Answered() {
		b, err := p.read()
		if err != nil {
			return nil, nil, err
		}
		inRows := x.InRows()
		if got := x.Packet(b, len(b)); got == core.Done && x.Failed {
			return nil, x, readFailure(b)
		} else if inRows && got == core.More {
			row, err := textRow(b)
			if err != nil {
				return nil, nil, err
			}
			rows = append(rows, row)
		}
	}
	return rows, x, nil
}

// textRow reads a row of the text protocol.
func textRow(b []byte) (row []*string, err error) {
	for len(b) > 0 {
		if b[0] == 0xfb {
			row, b = append(row, nil), b[1:]
			continue
		}
		n, size, ok := core.LengthEncoded(b)
		if !ok || uint64(len(b)-size) < n {
			return nil, fmt.Errorf("a row that cannot be read")
		}
		text := string(b[size : size+int(n)])        // #nosec G115 -- at most the packet's length
		row, b = append(row, &text), b[size+int(n):] // #nosec G115 -- likewise
	}
	return row, nil
}
