package enginetest

import (
	"bytes"
	"testing"

	"crosstwin/internal/engine"
	"crosstwin/internal/pki"
)

// Certificate has an authority sign a certificate for a database at a host.
func Certificate(t *testing.T, authority *pki.Authority, host string) engine.Certificate {
	t.Helper()
	key, keyPEM, err := pki.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	csr, err := pki.Request(key)
	if err != nil {
		t.Fatal(err)
	}
	signed, err := authority.SignDatabase(csr, host)
	if err != nil {
		t.Fatal(err)
	}
	return engine.Certificate{Pair: bytes.Join([][]byte{signed, keyPEM}, []byte("\n")), Authority: authority.PEM()}
}

// Authority makes one.
func Authority(t *testing.T) *pki.Authority {
	t.Helper()
	a, err := pki.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return a
}
