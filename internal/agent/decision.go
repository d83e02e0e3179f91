package agent

import (
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/pki"
)

// keepDecision keeps the newest decision that the service signed, to be shown with what
// the agent says of its term. One of a cluster that was made anew comes before any that
// was kept.
func (a *Agent) keepDecision(d *guard.Signed) error {
	kept := a.memory.get().Decision
	if d == nil || d.Cluster != a.cfg.Cluster || d.Made == kept.Made && d.Term <= kept.Term {
		return nil
	}
	if a.authority == nil || !pki.SaidBy(a.authority, d.Statement(), d.Signature) {
		a.log.Warn("a decision came without the service's signature: it is not kept", "term", d.Term, "owner", d.Owner)
		return nil
	}
	return a.memory.change(func(s *state) error { s.Decision = *d; return nil })
}

var errUnsigned = errors.New("the permit is not signed by the service")

// readAuthority reads the certificate of the service's authority.
func readAuthority(text []byte) (*x509.Certificate, error) {
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("it holds no certificate")
	}
	return x509.ParseCertificate(block.Bytes)
}
