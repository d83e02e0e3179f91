package pki

import (
	"crypto/x509"
	"encoding/pem"
	"os"
	"path/filepath"
	"testing"

	"crosstwin/internal/core/authority"
)

// The exchange of an authority stands in its files: whatever it was interrupted at, it is
// at that stage or the one before when it is opened again, with a pair that fits.
func TestExchange(t *testing.T) {
	dir := t.TempDir()
	a, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	first := a.Fingerprint()
	reopen := func(step string, stage authority.Stage, trusted int) {
		t.Helper()
		if a, err = Open(dir); err != nil {
			t.Fatalf("%s: %v", step, err)
		}
		if a.Stage() != stage || len(a.Trusted()) != trusted {
			t.Fatalf("%s: stage %q, %d trusted", step, a.Stage(), len(a.Trusted()))
		}
		if _, err := a.Pair(ServiceName); err != nil {
			t.Fatalf("%s: %v", step, err)
		}
	}
	step := func(name string, do func() error) {
		t.Helper()
		if err := do(); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
	}
	if a.Switch() == nil || a.Forget() == nil {
		t.Error("a switch to nothing, or nothing to forget")
	}
	step("introduce", a.Introduce)
	if a.Introduce() == nil {
		t.Error("introduced twice")
	}
	if a.Fingerprint() != first {
		t.Error("the next one signs already")
	}
	reopen("introduced", authority.Introducing, 2)
	next := Fingerprints(a.Trusted())[1]

	// A switch that was interrupted after its first file, and after its second.
	keep := map[string][]byte{}
	for _, n := range []string{"authority.crt", "authority.next.crt", "authority.next.key"} {
		if keep[n], err = os.ReadFile(filepath.Join(dir, n)); err != nil {
			t.Fatal(err)
		}
	}
	write := func(n string, b []byte) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, n), b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("authority.former.crt", keep["authority.crt"])
	reopen("former written", authority.Introducing, 2)
	write("authority.key", keep["authority.next.key"])
	if err := os.Remove(filepath.Join(dir, "authority.next.key")); err != nil {
		t.Fatal(err)
	}
	reopen("key moved", authority.Renewing, 2)
	if got := Fingerprints(a.Trusted()); got[0] != next || got[1] != first {
		t.Errorf("trusted: %q", got)
	}
	step("forget", a.Forget)
	reopen("forgotten", "", 1)

	step("introduce again", a.Introduce)
	step("switch", a.Switch)
	reopen("switched", authority.Renewing, 2)
	if a.Fingerprint() == next || Fingerprints(a.Trusted())[1] != next {
		t.Error("the wrong one signs")
	}
}

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
