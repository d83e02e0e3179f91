package service

import (
	"crypto/x509"
	"slices"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/pki"
)

// shown is a certificate of an agent that was made some time ago, which the authority makes
// good from an hour earlier on.
func shown(t *testing.T, s *Service, server string, age time.Duration) *x509.Certificate {
	t.Helper()
	pair, err := s.Authority.Pair(pki.AgentName("bookings", server))
	if err != nil {
		t.Fatal(err)
	}
	pair.Leaf.NotBefore = time.Now().Add(-age).Truncate(time.Second)
	return pair.Leaf
}

// Of the certificates of a name the newest that was seen counts, and those made since; none of
// a server that was removed; and records from an older backup lock no agent out.
func TestCertificates(t *testing.T) {
	s := newService(t, t.TempDir())
	tern := agentapi.Target{Cluster: "bookings", Server: "tern"}
	serials := func() []string {
		t.Helper()
		if err := s.reload(t.Context(), ""); err != nil { // what is kept is what the records say
			t.Fatal(err)
		}
		if c := s.certificates.told("bookings", []string{"tern"}); c != nil {
			return c.Serials
		}
		return nil
	}
	shows := func(c *x509.Certificate, want ...string) {
		t.Helper()
		if err := s.showsCertificate(tern, c); err != nil {
			t.Fatal(err)
		}
		if got := serials(); !slices.Equal(got, want) {
			t.Errorf("%v count, want %v", got, want)
		}
	}
	first, second, third := shown(t, s, "tern", 3*time.Hour), shown(t, s, "tern", time.Hour), shown(t, s, "tern", 0)
	one, two, three := pki.Serial(first), pki.Serial(second), pki.Serial(third)
	if got := serials(); got != nil {
		t.Errorf("nobody was seen: %v", got)
	}
	shows(first, one) // of an agent that was enrolled by an older version
	made := pki.EncodeCertificates([]*x509.Certificate{second})
	if err := s.certified(t.Context(), "bookings", "tern", made); err != nil {
		t.Fatal(err)
	}
	shows(first, one, two) // it has not taken the new one yet
	shows(second, two)
	shows(second, two)
	if err := s.showsCertificate(tern, first); err == nil ||
		!strings.Contains(err.Error(), "crosstwin server code bookings tern") {
		t.Errorf("an old one: %v", err)
	}
	shows(third, two, three) // renewed since the backup that these records are of
	shows(third, three)
	if got := s.certificates.told("bookings", []string{"tern", "gull"}); got != nil {
		t.Errorf("one of two is known: %v", got)
	}
	rec, err := s.Store.Server(t.Context(), "bookings", "tern")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Store.RemoveServer(t.Context(), rec.ID); err != nil {
		t.Fatal(err)
	}
	if got := serials(); got != nil {
		t.Errorf("removed: %v", got)
	}
}

// An agent that was away while a server was enrolled and removed is told the same serials as
// before, and that something has changed.
func TestCertificatesThatCameAndWent(t *testing.T) {
	s := newService(t, t.TempDir())
	told := func() *agentapi.Certificates {
		t.Helper()
		if err := s.reload(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		return s.certificates.told("bookings", []string{"gull"})
	}
	enrolls := func(server string) {
		t.Helper()
		made := pki.EncodeCertificates([]*x509.Certificate{shown(t, s, server, 0)})
		if err := s.certified(t.Context(), "bookings", server, made); err != nil {
			t.Fatal(err)
		}
	}
	enrolls("gull")
	before := told()
	if again := told(); !again.Changed.Equal(before.Changed) {
		t.Error("nothing has changed")
	}
	enrolls("tern")
	rec, err := s.Store.Server(t.Context(), "bookings", "tern")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Store.RemoveServer(t.Context(), rec.ID); err != nil {
		t.Fatal(err)
	}
	if after := told(); !slices.Equal(after.Serials, before.Serials) || !after.Changed.After(before.Changed) {
		t.Errorf("%+v, before %+v", after, before)
	}
}
