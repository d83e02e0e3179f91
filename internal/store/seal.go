package store

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Secrets that have to be read again (those that sign what alert channels get) are
// sealed by a key in a file of its own: a copy of the records alone tells nobody any.
// Everything else that is secret stands in the records as a hash.

// keyFile holds the key, beside the records.
const keyFile = "secrets.key"

// sealedMark begins a sealed secret.
const sealedMark = "sealed:"

// errSealed says that a secret cannot be read.
var errSealed = errors.New("it was sealed by another key than the one in " + keyFile)

// loadKey reads the key, or makes one.
func (s *Store) loadKey() error {
	path := filepath.Join(filepath.Dir(s.path), keyFile)
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key := make([]byte, 32)
		rand.Read(key)
		b = []byte(hex.EncodeToString(key) + "\n")
		err = os.WriteFile(path, b, 0o600)
	}
	if err != nil {
		return err
	}
	key, err := hex.DecodeString(strings.TrimSpace(string(b)))
	if err != nil || len(key) != 32 {
		return fmt.Errorf("%s holds no key: 64 hexadecimal digits are expected", path)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return err
	}
	s.seals, err = cipher.NewGCM(block)
	return err
}

// seal seals a secret for the record of a name: it opens nowhere else.
func (s *Store) seal(name, secret string) string {
	nonce := make([]byte, s.seals.NonceSize())
	rand.Read(nonce)
	return sealedMark + base64.StdEncoding.EncodeToString(s.seals.Seal(nonce, nonce, []byte(secret), []byte(name)))
}

func (s *Store) unseal(name, sealed string) (string, error) {
	text, ok := strings.CutPrefix(sealed, sealedMark)
	b, err := base64.StdEncoding.DecodeString(text)
	if n := s.seals.NonceSize(); ok && err == nil && len(b) > n {
		if plain, err := s.seals.Open(nil, b[:n], b[n:], []byte(name)); err == nil {
			return string(plain), nil
		}
	}
	return "", errSealed
}

// sealAll seals what an older version kept as it was.
func (s *Store) sealAll(ctx context.Context) error {
	var rows []struct{ Name, Secret string }
	if err := s.w.SelectContext(ctx, &rows, "select name, secret from channels where secret not like ?",
		sealedMark+"%"); err != nil {
		return err
	}
	for _, r := range rows {
		if _, err := s.w.ExecContext(ctx, "update channels set secret = ? where name = ?", s.seal(r.Name, r.Secret),
			r.Name); err != nil {
			return err
		}
	}
	return nil
}
