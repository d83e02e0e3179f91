package session

import (
	"bytes"
	"crypto/hmac"
	"crypto/md5" // #nosec G501 -- the method of PostgreSQL that is called so
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// The gate is the SCRAM server for the client and the SCRAM client for the server (RFC 5802,
// RFC 7677). From the client's proof comes its key, which logs in anywhere where the same
// password is kept in the same form; the password itself is never known.

// The mechanisms, by their names on the wire.
const (
	Scram     = "SCRAM-SHA-256"
	ScramPlus = "SCRAM-SHA-256-PLUS"
)

// Verifier is what PostgreSQL keeps of a password by SCRAM.
type Verifier struct {
	Iterations           int
	Salt                 []byte
	StoredKey, ServerKey []byte
}

// ErrPassword says that a client does not know the password.
var ErrPassword = errors.New("the password is wrong")

// ParseVerifier reads "SCRAM-SHA-256$iterations:salt$StoredKey:ServerKey" (documentation,
// "pg_authid").
func ParseVerifier(text string) (v Verifier, err error) {
	wrong := errors.New("not a SCRAM verifier")
	method, rest, _ := strings.Cut(text, "$")
	first, keys, ok := strings.Cut(rest, "$")
	rounds, salt, ok2 := strings.Cut(first, ":")
	stored, server, ok3 := strings.Cut(keys, ":")
	if method != Scram || !ok || !ok2 || !ok3 {
		return v, wrong
	}
	if v.Iterations, err = strconv.Atoi(rounds); err != nil || v.Iterations < 1 {
		return v, wrong
	}
	for _, x := range []struct {
		into *[]byte
		text string
		size int
	}{{&v.Salt, salt, 0}, {&v.StoredKey, stored, sha256.Size}, {&v.ServerKey, server, sha256.Size}} {
		if *x.into, err = base64.StdEncoding.DecodeString(x.text); err != nil || x.size > 0 && len(*x.into) != x.size {
			return v, wrong
		}
	}
	return v, nil
}

// FakeVerifier is one that no password fits, and the same each time for one name and secret:
// nobody learns from it whether there is such a user.
func FakeVerifier(user string, secret []byte) Verifier {
	of := func(what string) []byte { return hmacOf(secret, []byte(what+"\x00"+user)) }
	return Verifier{Iterations: 4096, Salt: of("salt")[:16], StoredKey: of("stored"), ServerKey: of("server")}
}

// Keys log in by SCRAM in place of the password.
type Keys struct{ Client, Server []byte }

// ScramServer is one login of a client.
type ScramServer struct {
	verifier Verifier
	// binding is what the client has to be bound to: the certificate's hash; nil without TLS.
	binding     []byte
	plus        bool
	clientBare  string
	header      string // the client's GS2 header
	serverFirst string
	nonce       string
}

// NewScramServer begins a login. Binding is the hash of the gate's certificate where the
// connection is encrypted.
func NewScramServer(v Verifier, binding []byte) *ScramServer {
	return &ScramServer{verifier: v, binding: binding}
}

// Mechanisms are those that are offered.
func (s *ScramServer) Mechanisms() []string {
	if s.binding != nil {
		return []string{ScramPlus, Scram}
	}
	return []string{Scram}
}

// First takes the client's first message, and returns the server's. Nonce is fresh and random.
func (s *ScramServer) First(mechanism string, message []byte, nonce string) ([]byte, error) {
	s.plus = mechanism == ScramPlus
	if mechanism != Scram && (!s.plus || s.binding == nil) {
		return nil, fmt.Errorf("there is no mechanism %q here", mechanism)
	}
	parts := strings.SplitN(string(message), ",", 3)
	if len(parts) != 3 {
		return nil, errors.New("the client's first SCRAM message is incomplete")
	}
	flag := parts[0]
	switch {
	case s.plus && flag != "p=tls-server-end-point":
		return nil, fmt.Errorf("the client binds itself by %q, which is not known here", flag)
	case !s.plus && flag == "y" && s.binding != nil:
		// It could bind itself and was told that nobody offers it: somebody is in between.
		return nil, errors.New("the client was not told that channel binding is offered: somebody may be in between")
	case !s.plus && flag != "n" && flag != "y":
		return nil, fmt.Errorf("the client asks for channel binding %q without its mechanism", flag)
	case parts[1] != "":
		return nil, errors.New("the client wants to be another user than it logs in as")
	}
	s.header, s.clientBare = flag+","+parts[1]+",", parts[2]
	if strings.HasPrefix(s.clientBare, "m=") {
		return nil, errors.New("the client asks for an extension of SCRAM that is not known here")
	}
	own := attribute(s.clientBare, "r")
	if own == "" {
		return nil, errors.New("the client's first SCRAM message has no nonce")
	}
	s.nonce = own + nonce
	s.serverFirst = fmt.Sprintf("r=%s,s=%s,i=%d", s.nonce, base64.StdEncoding.EncodeToString(s.verifier.Salt),
		s.verifier.Iterations)
	return []byte(s.serverFirst), nil
}

// Final takes the client's proof, and returns the server's last message and the keys; an
// error that is ErrPassword where the proof is wrong.
func (s *ScramServer) Final(message []byte) (last []byte, keys Keys, err error) {
	text := string(message)
	at := strings.LastIndex(text, ",p=")
	if at < 0 {
		return nil, keys, errors.New("the client's last SCRAM message has no proof")
	}
	bare := text[:at]
	proof, err := base64.StdEncoding.DecodeString(text[at+3:])
	if err != nil || len(proof) != sha256.Size {
		return nil, keys, errors.New("the client's proof cannot be read")
	}
	bound := []byte(s.header)
	if s.plus {
		bound = append(bound, s.binding...)
	}
	if attribute(bare, "c") != base64.StdEncoding.EncodeToString(bound) {
		return nil, keys, errors.New("the client is bound to another connection than this one: somebody may be in between")
	}
	if attribute(bare, "r") != s.nonce {
		return nil, keys, errors.New("the client's last SCRAM message is of another login")
	}
	all := []byte(s.clientBare + "," + s.serverFirst + "," + bare)
	keys.Client = xor(proof, hmacOf(s.verifier.StoredKey, all))
	stored := sha256.Sum256(keys.Client)
	if subtle.ConstantTimeCompare(stored[:], s.verifier.StoredKey) != 1 {
		return nil, Keys{}, ErrPassword
	}
	keys.Server = s.verifier.ServerKey
	return []byte("v=" + base64.StdEncoding.EncodeToString(hmacOf(keys.Server, all))), keys, nil
}

// ScramClient is one login at a server, by keys.
type ScramClient struct {
	keys        Keys
	binding     []byte // of the server's certificate; nil: not bound
	nonce       string
	clientBare  string
	clientFinal string
	serverFirst string
}

// NewScramClient begins a login. Binding is the hash of the server's certificate where the
// server offers ScramPlus, nil otherwise.
func NewScramClient(k Keys, binding []byte, nonce string) *ScramClient {
	return &ScramClient{keys: k, binding: binding, nonce: nonce}
}

// header is the client's GS2 header: that it does not bind itself is said as "n", also where it
// could: the gate has looked at what the server offers.
func (c *ScramClient) header() string {
	if c.binding != nil {
		return "p=tls-server-end-point,,"
	}
	return "n,,"
}

// First returns the first message and its mechanism. The server takes the user from the login.
func (c *ScramClient) First() (mechanism string, message []byte) {
	c.clientBare = "n=,r=" + c.nonce
	if mechanism = Scram; c.binding != nil {
		mechanism = ScramPlus
	}
	return mechanism, []byte(c.header() + c.clientBare)
}

// Final takes the server's first message, and returns the proof.
func (c *ScramClient) Final(serverFirst []byte) ([]byte, error) {
	c.serverFirst = string(serverFirst)
	nonce := attribute(c.serverFirst, "r")
	if !strings.HasPrefix(nonce, c.nonce) || len(nonce) == len(c.nonce) {
		return nil, errors.New("the server's SCRAM message is of another login")
	}
	bound := append([]byte(c.header()), c.binding...)
	c.clientFinal = "c=" + base64.StdEncoding.EncodeToString(bound) + ",r=" + nonce
	stored := sha256.Sum256(c.keys.Client)
	proof := xor(c.keys.Client, hmacOf(stored[:], c.all()))
	return []byte(c.clientFinal + ",p=" + base64.StdEncoding.EncodeToString(proof)), nil
}

// Check takes the server's last message: it has to know the password's verifier as well.
func (c *ScramClient) Check(serverFinal []byte) error {
	want := "v=" + base64.StdEncoding.EncodeToString(hmacOf(c.keys.Server, c.all()))
	if !bytes.Equal(serverFinal, []byte(want)) {
		return errors.New("the server does not know the user's password: it is another one")
	}
	return nil
}

func (c *ScramClient) all() []byte {
	return []byte(c.clientBare + "," + c.serverFirst + "," + c.clientFinal)
}

func attribute(message, name string) string {
	for _, a := range strings.Split(message, ",") {
		if strings.HasPrefix(a, name+"=") {
			return a[len(name)+1:]
		}
	}
	return ""
}

func hmacOf(key, text []byte) []byte {
	h := hmac.New(sha256.New, key)
	h.Write(text)
	return h.Sum(nil)
}

// xor joins two texts of the same length.
func xor(a, b []byte) []byte {
	out := make([]byte, len(a))
	for i := range a {
		out[i] = a[i] ^ b[i]
	}
	return out
}

// AnswerMD5 is what a client answers to a salt, from what the server keeps: "md5" and the
// hash of password and user.
func AnswerMD5(kept string, salt []byte) string {
	sum := md5.Sum(append([]byte(strings.TrimPrefix(kept, "md5")), salt...)) // #nosec G401 -- the protocol's
	return "md5" + hex.EncodeToString(sum[:])
}

// IsMD5 reports whether what is kept of a password is its MD5 hash.
func IsMD5(kept string) bool { return len(kept) == 35 && strings.HasPrefix(kept, "md5") }
