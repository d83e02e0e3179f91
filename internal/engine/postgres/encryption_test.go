package postgres

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/enginetest"
)

// A running server is encrypted without a restart; the account gets in no other way; a
// replica follows one that proves itself, and no impostor; a copy names its own files.
func TestEncryptedReplication(t *testing.T) {
	t.Parallel()
	authority, stranger := enginetest.Authority(t), enginetest.Authority(t)
	p := primary(t)
	r := newRig(t, "tern")
	for _, x := range []*rig{p, r} {
		if err := x.Certify(enginetest.Certificate(t, authority, "127.0.0.1")); err != nil {
			t.Fatal(err)
		}
	}
	was, _ := p.running()
	source := account(t, p, r)
	source.Proof = observation.ProofAuthority
	if o := p.Observe(p.ctx(), false); o.Encryption.State != observation.ProofAuthority {
		t.Fatalf("after Prepare: %+v", o.Encryption)
	}
	if now, _ := p.running(); now.pid != was.pid {
		t.Error("it was restarted")
	}
	plainly := pgtool.ConnInfo("host", "127.0.0.1", "port", p.text("show port"), "user", accountOfTest.User, "dbname",
		"postgres", "password", "pass:word\\'", "sslmode", "disable")
	var refusal *pgconn.PgError
	if _, err := pgx.Connect(p.ctx(), plainly); !errors.As(err, &refusal) ||
		!strings.Contains(refusal.Message, "no encryption") {
		t.Errorf("the account without encryption: %v", err)
	}

	r.copyFrom(p, source)
	o := r.Observe(r.ctx(), false)
	if o.Links.Upstream.Proof != observation.ProofAuthority || o.Encryption.State != observation.ProofAuthority {
		t.Errorf("the replica: %+v, %+v", o.Links.Upstream, o.Encryption)
	}
	if cert := r.text("show ssl_cert_file"); cert != r.encryption.Served() {
		t.Errorf("the copy shows %s", cert)
	}
	p.await("encrypted link", func(*observation.Server) bool {
		return p.text("select count(*)::text from pg_stat_replication join pg_stat_ssl using (pid) where ssl") == "1"
	})

	// An impostor: the same address, a certificate of another authority.
	pair := enginetest.Certificate(t, stranger, "127.0.0.1")
	pair.Authority = authority.PEM()
	if err := p.Certify(pair); err != nil {
		t.Fatal(err)
	}
	p.sql("select pg_terminate_backend(pid) from pg_stat_replication")
	r.await("impostor refused", func(o *observation.Server) bool {
		return !o.Links.Upstream.Connected && strings.Contains(o.Links.Upstream.Problem, "certificate verify failed")
	})
	// One of this authority, for another address.
	if err := p.Certify(enginetest.Certificate(t, authority, "10.7.7.7")); err != nil {
		t.Fatal(err)
	}
	r.await("another server's certificate refused", func(o *observation.Server) bool {
		return !o.Links.Upstream.Connected && strings.Contains(o.Links.Upstream.Problem, "10.7.7.7")
	})
	if res := r.Probe(r.ctx(), source, accountOfTest); res.OK {
		t.Error("the probe took another server's certificate")
	}
	// One that the server does not take up: it says nothing of that, and goes on with the old one.
	cert, _, _ := bytes.Cut(enginetest.Certificate(t, authority, "127.0.0.1").Pair, []byte("-----BEGIN PRIVATE"))
	_, key, _ := bytes.Cut(enginetest.Certificate(t, authority, "127.0.0.1").Pair, []byte("-----BEGIN PRIVATE"))
	torn := engine.Certificate{Pair: bytes.Join([][]byte{cert, key}, []byte("-----BEGIN PRIVATE")),
		Authority: authority.PEM()}
	if err := p.Certify(torn); err == nil || !strings.Contains(err.Error(), "still shows another certificate") {
		t.Errorf("a certificate that was not taken up: %v", err)
	}
	// Renewed: taken up without a restart of either.
	if err := p.Certify(enginetest.Certificate(t, authority, "127.0.0.1")); err != nil {
		t.Fatal(err)
	}
	r.await("follows again", func(o *observation.Server) bool { return o.Links.Upstream.Connected })
}

// What an administrator has set up stays.
func TestOwnCertificateStays(t *testing.T) {
	t.Parallel()
	p := primary(t)
	own := enginetest.Certificate(t, enginetest.Authority(t), "127.0.0.1")
	if err := p.WriteOwned(p.Path("own.pem"), own.Pair); err != nil {
		t.Fatal(err)
	}
	p.sql("alter system set ssl_cert_file = 'own.pem'", "alter system set ssl_key_file = 'own.pem'",
		"alter system set ssl = on", "select pg_reload_conf()")
	p.await("own certificate", func(o *observation.Server) bool { return o.Encryption.State == observation.ProofOther })
	if err := p.Certify(enginetest.Certificate(t, enginetest.Authority(t), "127.0.0.1")); err != nil {
		t.Fatal(err)
	}
	before, err := p.ReadFile(p.Path("postgresql.conf"))
	if err != nil {
		t.Fatal(err)
	}
	source := account(t, p, p)
	if after, _ := p.ReadFile(p.Path("postgresql.conf")); string(after) != string(before) {
		t.Error("the configuration was changed")
	}
	if o := p.Observe(p.ctx(), false); o.Encryption.State != observation.ProofOther {
		t.Errorf("%+v", o.Encryption)
	}
	source.Proof = observation.ProofOther
	if res := p.Probe(p.ctx(), source, accountOfTest); !res.OK {
		t.Errorf("%+v", res)
	}
	source.Proof = observation.ProofAuthority
	if res := p.Probe(p.ctx(), source, accountOfTest); res.OK {
		t.Errorf("a certificate of somebody else's passed as the service's: %+v", res)
	}
}
