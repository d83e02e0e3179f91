package agent

import (
	"crypto/tls"
	"crypto/x509"
	"net/http"
	"slices"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/pki"
)

// noteCertificates keeps by which certificates agents of the cluster are known from now on.
// Where nothing is said, what was said last goes on: pledges are asked for when the service
// is away. An agent that can write nothing down is told again, and holds nobody up.
func (a *Agent) noteCertificates(said *agentapi.Certificates) {
	known := a.memory.get().Certificates
	if said == nil || known != nil && said.Changed.Equal(known.Changed) && slices.Equal(said.Serials, known.Serials) {
		return
	}
	if err := a.memory.change(func(s *state) error { s.Certificates = said; return nil }); err != nil {
		a.log.Warn("could not note by which certificates other agents are known", "error", err)
	}
}

// knownAgent refuses the certificate of an agent that was removed, or that has a newer one
// (invariant: who left the cluster is let in nowhere, within a second of that, also when
// another server bears the name). One that was made since the list changed is only too new
// for it: to withdraw a certificate is a change.
func (a *Agent) knownAgent(leaf *x509.Certificate) error {
	name := leaf.Subject.CommonName
	known := a.memory.get().Certificates
	if !pki.EnrolledName(name) || known == nil || slices.Contains(known.Serials, pki.Serial(leaf)) ||
		!pki.MadeAt(leaf).Before(known.Changed.Truncate(time.Second)) {
		return nil
	}
	return agentapi.Problem{Title: "Not allowed", Status: http.StatusForbidden, Code: agentapi.CodeForbidden,
		Detail: "the certificate of " + name + " is not one that counts for " + a.cfg.Server + "'s agent: its server " +
			"was removed, or has a newer one"}
}

// knownServer is knownAgent for a peer that is called.
func (a *Agent) knownServer(s tls.ConnectionState) error { return a.knownAgent(s.PeerCertificates[0]) }
