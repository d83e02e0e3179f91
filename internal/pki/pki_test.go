package pki

import (
	"crypto/x509"
	"encoding/pem"
	"os"
	"path/filepath"
	"testing"
)

func TestAuthority(t *testing.T) {
	dir := t.TempDir()
	a, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	again, err := Open(dir)
	if err != nil || again.Fingerprint() != a.Fingerprint() {
		t.Fatalf("the authority changed: %v", err)
	}
	if fi, err := os.Stat(filepath.Join(dir, "authority.key")); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("the key's file: %v %v", fi.Mode(), err)
	}
	key, _, err := NewKey()
	if err != nil {
		t.Fatal(err)
	}
	csr, err := Request(key)
	if err != nil {
		t.Fatal(err)
	}
	// The name is the authority's choice, whatever the request says.
	signed, err := a.SignRequest(csr, AgentName("bookings", "gull"))
	if err != nil {
		t.Fatal(err)
	}
	b, _ := pem.Decode(signed)
	cert, err := x509.ParseCertificate(b.Bytes)
	if err != nil || cert.Subject.CommonName != "gull.bookings.agent.crosstwin" || cert.IsCA {
		t.Errorf("%+v %v", cert.Subject, err)
	}
	for name, want := range map[string]bool{"gull.bookings.agent.crosstwin": true, "tern.bookings.agent.crosstwin": false,
		ServiceName: false} {
		_, err := cert.Verify(x509.VerifyOptions{Roots: a.Pool(), DNSName: name,
			KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
		if (err == nil) != want {
			t.Errorf("as %s: %v", name, err)
		}
	}
	other, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := cert.Verify(x509.VerifyOptions{Roots: other.Pool()}); err == nil {
		t.Error("another authority's pool trusts it")
	}
	for _, bad := range [][]byte{nil, []byte("x"), signed} {
		if _, err := a.SignRequest(bad, "x"); err == nil {
			t.Errorf("%.20q was signed", bad)
		}
	}
	// A certificate without its key is no new authority: agents would be lost.
	os.Remove(filepath.Join(dir, "authority.key"))
	if _, err := Open(dir); err == nil {
		t.Error("an authority without a key was opened")
	}
}

// A database's certificate proves the database at its address, and neither an agent
// nor the service.
func TestDatabaseProvesNothingElse(t *testing.T) {
	a, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	key, _, err := NewKey()
	if err != nil {
		t.Fatal(err)
	}
	csr, err := Request(key)
	if err != nil {
		t.Fatal(err)
	}
	for _, host := range []string{"", ServiceName, "gull.bookings.agent.crosstwin", "SERVICE.Crosstwin",
		"service.crosstwin."} {
		if _, err := a.SignDatabase(csr, host); err == nil {
			t.Errorf("a database at %q got a certificate", host)
		}
	}
	for host, others := range map[string][]string{"harbour.skerry.example": {"island.skerry.example", ServiceName},
		"10.0.0.1": {"10.0.0.2", "database"}, "fd00::1": {"fd00::2"}} {
		signed, err := a.SignDatabase(csr, host)
		if err != nil {
			t.Fatal(err)
		}
		b, _ := pem.Decode(signed)
		cert, err := x509.ParseCertificate(b.Bytes)
		if err != nil {
			t.Fatal(err)
		}
		as := func(name string, usage x509.ExtKeyUsage) error {
			_, err := cert.Verify(x509.VerifyOptions{Roots: a.Pool(), DNSName: name, KeyUsages: []x509.ExtKeyUsage{usage}})
			return err
		}
		if err := as(host, x509.ExtKeyUsageServerAuth); err != nil {
			t.Errorf("%s: %v", host, err)
		}
		if as(host, x509.ExtKeyUsageClientAuth) == nil {
			t.Errorf("%s may call as a client", host)
		}
		for _, other := range others {
			if as(other, x509.ExtKeyUsageServerAuth) == nil {
				t.Errorf("%s passes as %s", host, other)
			}
		}
	}
}
