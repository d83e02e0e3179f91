package session

import (
	"crypto/pbkdf2"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"testing"
)

func verifierOf(t testing.TB, password, salt string) (Verifier, Keys) {
	t.Helper()
	salted, err := pbkdf2.Key(sha256.New, password, []byte(salt), 4096, 32)
	if err != nil {
		t.Fatal(err)
	}
	client, server := hmacOf(salted, []byte("Client Key")), hmacOf(salted, []byte("Server Key"))
	stored := sha256.Sum256(client)
	b64 := base64.StdEncoding.EncodeToString
	v, err := ParseVerifier(fmt.Sprintf("SCRAM-SHA-256$4096:%s$%s:%s", b64([]byte(salt)), b64(stored[:]), b64(server)))
	if err != nil {
		t.Fatal(err)
	}
	return v, Keys{client, server}
}

// A client that knows the password logs in at the gate, and the gate by what it learns of that
// at a server that keeps the same; bound to the connection or not.
func TestScram(t *testing.T) {
	v, keys := verifierOf(t, "ferry", "0123456789abcdef")
	for name, c := range map[string]struct {
		offered, bound []byte
		user           Keys
		fails          bool
	}{
		"plain":                 {nil, nil, keys, false},
		"bound":                 {[]byte("certificate"), []byte("certificate"), keys, false},
		"bound to another":      {[]byte("certificate"), []byte("other"), keys, true},
		"not bound, by choice":  {[]byte("certificate"), nil, keys, false},
		"another password":      {nil, nil, Keys{hmacOf(nil, nil), keys.Server}, true},
		"bound and not offered": {nil, []byte("certificate"), keys, true},
	} {
		server, client := NewScramServer(v, c.offered), NewScramClient(c.user, c.bound, "abc")
		got, err := exchange(server, client)
		if (err != nil) != c.fails {
			t.Errorf("%s: %v", name, err)
		}
		if err == nil && (string(got.Client) != string(keys.Client) || string(got.Server) != string(keys.Server)) {
			t.Errorf("%s: the keys are others", name)
		}
	}
	if _, err := exchange(NewScramServer(FakeVerifier("nobody", []byte("x")), nil),
		NewScramClient(keys, nil, "abc")); !errors.Is(err, ErrPassword) {
		t.Errorf("a user who is not there: %v", err)
	}
	if _, err := NewScramServer(v, []byte("certificate")).First(Scram, []byte("y,,n=,r=abc"), "def"); err == nil {
		t.Error("a client that was not told of channel binding is let in")
	}
}

func exchange(s *ScramServer, c *ScramClient) (Keys, error) {
	mechanism, first := c.First()
	challenge, err := s.First(mechanism, first, "def")
	if err != nil {
		return Keys{}, err
	}
	proof, err := c.Final(challenge)
	if err != nil {
		return Keys{}, err
	}
	last, keys, err := s.Final(proof)
	if err != nil {
		return keys, err
	}
	return keys, c.Check(last)
}

func FuzzScramServer(f *testing.F) {
	f.Add("SCRAM-SHA-256", []byte("n,,n=,r=abc"), []byte("c=biws,r=abcdef,p="))
	f.Fuzz(func(t *testing.T, mechanism string, first, final []byte) {
		s := NewScramServer(FakeVerifier("u", []byte("secret")), []byte("hash"))
		if _, err := s.First(mechanism, first, "def"); err != nil {
			return
		}
		if _, _, err := s.Final(final); err == nil {
			t.Error("somebody without a password is let in")
		}
	})
}

func TestNative(t *testing.T) {
	stage1 := sha1Of([]byte("ferry"))
	stage2, ok := ParseNative(fmt.Sprintf("*%X", sha1Of(stage1)))
	if !ok {
		t.Fatal("not read")
	}
	nonce := []byte("01234567890123456789")
	got, ok := CheckNative(stage2, nonce, AnswerNative(stage1, nonce))
	if !ok || string(got) != string(stage1) {
		t.Error("the right password is not let in")
	}
	for name, answer := range map[string][]byte{"none": nil, "another": AnswerNative(sha1Of([]byte("x")), nonce),
		"short": {1}} {
		if _, ok := CheckNative(stage2, nonce, answer); ok {
			t.Errorf("%s is let in", name)
		}
	}
	if _, ok := CheckNative(nil, nonce, nil); !ok {
		t.Error("a user without a password is not let in")
	}
	for _, bad := range []string{"*12", "x", "invalid", "12345678901234567890123456789012345678901"} {
		if _, ok := ParseNative(bad); ok {
			t.Errorf("%q is read", bad)
		}
	}
}

func TestMD5(t *testing.T) {
	// Of user "skerry" with password "ferry", as the server keeps it, and its answer to a salt.
	kept := "md5" + "0123456789abcdef0123456789abcdef"
	if !IsMD5(kept) || IsMD5("SCRAM") {
		t.Error("not told apart")
	}
	if a, b := AnswerMD5(kept, []byte{1, 2, 3, 4}), AnswerMD5(kept, []byte{1, 2, 3, 5}); len(a) != 35 || a == b {
		t.Errorf("%s %s", a, b)
	}
}
