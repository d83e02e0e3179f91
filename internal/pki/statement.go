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
	return ecdsa.SignASN1(rand.Reader, a.signing().key, sum[:])
}

// SaidBy reports whether one of these authorities signed a statement.
func SaidBy(authorities []*x509.Certificate, text, signature []byte) bool {
	sum := sha256.Sum256(text)
	for _, a := range authorities {
		if key, ok := a.PublicKey.(*ecdsa.PublicKey); ok && ecdsa.VerifyASN1(key, sum[:], signature) {
			return true
		}
	}
	return false
}

// AuthoritiesStatement is what the service signs of the authorities that are to be trusted,
// given as a file of certificates.
func AuthoritiesStatement(certificates []byte) []byte {
	return append([]byte("crosstwin authorities\n"), certificates...)
}
