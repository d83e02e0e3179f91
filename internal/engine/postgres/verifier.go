package postgres

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"regexp"
)

// scramRounds is the server's own number of iterations (SCRAM_DEFAULT_ITERATIONS).
const scramRounds = 4096

// verifierText is the form of such a verifier.
var verifierText = regexp.MustCompile(`^SCRAM-SHA-256\$\d{1,7}:[A-Za-z0-9+/=]{4,64}` +
	`\$[A-Za-z0-9+/=]{44}:[A-Za-z0-9+/=]{44}$`)

// scramVerifier returns what PostgreSQL keeps of a password of plain ASCII
// (documentation, "pg_authid"; RFC 5803, RFC 7677).
func scramVerifier(password string) (string, error) {
	salt := make([]byte, 16)
	rand.Read(salt)
	salted, err := pbkdf2.Key(sha256.New, password, salt, scramRounds, sha256.Size)
	if err != nil {
		return "", err
	}
	sum := func(text string) []byte {
		m := hmac.New(sha256.New, salted)
		m.Write([]byte(text))
		return m.Sum(nil)
	}
	stored := sha256.Sum256(sum("Client Key"))
	b64 := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", scramRounds, b64(salt), b64(stored[:]), b64(sum("Server Key"))), nil
}
