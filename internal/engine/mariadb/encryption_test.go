package mariadb

import (
	"os"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/enginetest"
)

// A copy is encrypted from its first start, the primary from its next; then the account
// gets in no other way, and a replica follows nobody who does not prove itself. A
// settings file that is gone keeps no server from starting.
func TestEncryptedReplication(t *testing.T) {
	t.Parallel()
	authority := enginetest.Authority(t)
	p := &pair{t, enginetest.Peers{}}
	wren, plover := p.create("wren", 11), p.add("plover", 12)
	for _, r := range []*rig{wren, plover} {
		r.ok(r.Certify(enginetest.Certificate(t, authority, "127.0.0.1")))
	}
	wren.prepare(verb.Prepare{Account: true})
	p.seed(plover, wren, "")
	proofs := func(r *rig) (server, link observation.Proof) {
		o := r.Observe(r.ctx(), false)
		if o.Links.Upstream != nil {
			link = o.Links.Upstream.Proof
		}
		return o.Encryption.State, link
	}
	if state, _ := proofs(wren); state != observation.ProofNone {
		t.Errorf("the primary, not restarted: %s", state)
	}
	if state, link := proofs(plover); state != observation.ProofAuthority || link != observation.ProofNone {
		t.Errorf("the copy: %s, its link %s", state, link)
	}

	wren.leave(true)
	wren.ok(wren.Start(wren.ctx(), "primary"))
	if state, _ := proofs(wren); state != observation.ProofAuthority {
		t.Fatalf("the primary, restarted: %s", state)
	}
	peer := wren.peer()
	peer.Proof = observation.ProofAuthority
	plover.ok(plover.Follow(plover.ctx(), verb.Follow{Upstream: peer}))
	if _, link := proofs(plover); link != observation.ProofAuthority {
		t.Errorf("the link: %s", link)
	}
	wren.prepare(verb.Prepare{Account: true, Encrypted: true})
	if res := plover.Probe(plover.ctx(), wren.peer(), account); res.OK {
		t.Error("the account gets in without encryption")
	}
	if res := plover.Probe(plover.ctx(), peer, account); !res.OK {
		t.Errorf("the account does not get in: %+v", res)
	}
	plover.awaitLink("connected", func(u *observation.Upstream) bool { return u.Connected })

	// An impostor at the same address, and another server of this authority.
	for _, c := range []struct{ what, host string }{{"a stranger", "127.0.0.1"}, {"another server", "10.7.7.7"}} {
		by := authority
		if c.what == "a stranger" {
			by = enginetest.Authority(t)
		}
		shown := enginetest.Certificate(t, by, c.host)
		shown.Authority = authority.PEM()
		wren.ok(wren.Certify(shown))
		plover.sql("stop slave io_thread; start slave io_thread")
		plover.awaitLink(c.what+" refused", func(u *observation.Upstream) bool {
			return !u.Connected && strings.Contains(u.Problem, "SSL")
		})
		if res := plover.Probe(plover.ctx(), peer, account); res.OK {
			t.Errorf("the probe took the certificate of %s", c.what)
		}
	}
	wren.ok(wren.Certify(enginetest.Certificate(t, authority, "127.0.0.1")))
	plover.awaitLink("connected again", func(u *observation.Upstream) bool { return u.Connected })

	plover.leave(true)
	if err := os.Remove(plover.encryption.SettingsFile()); err != nil {
		t.Fatal(err)
	}
	plover.ok(plover.Start(plover.ctx(), "replica"))
	if state, _ := proofs(plover); state != observation.ProofNone {
		t.Errorf("without its settings: %s", state)
	}
}

// What an administrator has set up stays.
func TestOwnCertificateStays(t *testing.T) {
	for text, own := range map[string]bool{"[mariadbd]\nssl_cert = /x\n": true, "[mysqld]\nssl-cert=/x\n": true,
		"[mariadbd]\n# ssl_cert = /x\nssl_ca = /x\n": false} {
		if got := namesCertificate(text); got != own {
			t.Errorf("%q: %t", text, got)
		}
	}
}

// awaitLink waits for a state of the link to the upstream.
func (r *rig) awaitLink(what string, ok func(*observation.Upstream) bool) *observation.Server {
	r.t.Helper()
	var o *observation.Server
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if o = r.Observe(r.ctx(), false); o.Links.Upstream != nil && ok(o.Links.Upstream) {
			return o
		}
	}
	r.t.Fatalf("%s's link never %s: %+v", r.cfg.Name, what, o.Links.Upstream)
	return nil
}
