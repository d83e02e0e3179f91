package pki

import (
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
)

// SignStatement signs what the service says with the authority's key.
func (a *Authority) SignStatement(text []byte) ([]byte, error) {
	sum := sha256.Sum256(text)
	return ecdsa.SignASN1(rand.Reader, a.key, sum[:])
}

// SaidBy reports whether an authority signed a statement.
func SaidBy(authority *x509.Certificate, text, signature []byte) bool {
	key, ok := authority.PublicKey.(*ecdsa.PublicKey)
	sum := sha256.Sum256(text)
	return ok && ecdsa.VerifyASN1(key, sum[:], signature)
}
