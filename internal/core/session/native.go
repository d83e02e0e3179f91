package session

import (
	"crypto/sha1" // #nosec G505 -- the method of MariaDB that is called so
	"crypto/subtle"
	"encoding/hex"
	"strings"
)

// NativePassword is MariaDB's method that both sides can do with what the server keeps:
// the SHA-1 of the SHA-1 of the password (documentation, "Authentication Plugin -
// mysql_native_password").
const NativePassword = "mysql_native_password" // #nosec G101 -- a method's name

// ParseNative reads what is kept of a password, "*" and 40 digits in hex; empty: no password.
func ParseNative(kept string) (stage2 []byte, ok bool) {
	if kept == "" {
		return nil, true
	}
	b, err := hex.DecodeString(strings.TrimPrefix(kept, "*"))
	return b, err == nil && len(b) == sha1.Size && kept[0] == '*'
}

// CheckNative returns the SHA-1 of the password from a client's answer to a nonce, which logs
// in anywhere; false where the password is wrong.
func CheckNative(stage2, nonce, answer []byte) (stage1 []byte, ok bool) {
	if len(stage2) == 0 {
		return nil, len(answer) == 0
	}
	if len(answer) != sha1.Size || len(stage2) != sha1.Size {
		return nil, false
	}
	stage1 = xor(answer, sha1Of(nonce, stage2))
	return stage1, subtle.ConstantTimeCompare(sha1Of(stage1), stage2) == 1
}

// AnswerNative is the answer to a server's nonce.
func AnswerNative(stage1, nonce []byte) []byte {
	if len(stage1) == 0 {
		return nil
	}
	return xor(stage1, sha1Of(nonce, sha1Of(stage1)))
}

func sha1Of(parts ...[]byte) []byte {
	h := sha1.New() // #nosec G401 -- the protocol's
	for _, p := range parts {
		h.Write(p)
	}
	return h.Sum(nil)
}
