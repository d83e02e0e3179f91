package agent

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"os"
	"path/filepath"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/pki"
)

// The agent trusts the service's authority. While that is being exchanged it trusts two: the
// old one and the new one. Invariant: an authority is trusted only because one that was
// trusted before has signed so.

// authorityFile holds the authorities, the one that signs first.
const authorityFile = "authority.crt"

func (a *Agent) loadAuthorities() error {
	file := filepath.Join(a.dir, authorityFile)
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	certs, err := pki.ReadCertificates(text)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	a.trusted.Store(&certs)
	return nil
}

// authorities returns those that are trusted now.
func (a *Agent) authorities() []*x509.Certificate {
	if p := a.trusted.Load(); p != nil {
		return *p
	}
	return nil
}

// serverTLS is how the agent serves: what it shows and whom it trusts may change while
// it runs.
func (a *Agent) serverTLS() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS13, GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) {
		return &tls.Config{Certificates: []tls.Certificate{a.certificate()}, ClientAuth: tls.RequireAndVerifyClientCert,
			ClientCAs: pki.Pool(a.authorities()), MinVersion: tls.VersionTLS13}, nil
	}}
}

// takeAuthorities takes over whom the service says to trust from now on.
func (a *Agent) takeAuthorities(w http.ResponseWriter, r *http.Request) error {
	var in agentapi.Authorities
	if err := decode(r.Body, &in); err != nil {
		return err
	}
	certs, err := pki.ReadCertificates([]byte(in.Certificates))
	if err != nil {
		return fmt.Errorf("the authorities to trust: %w", err)
	}
	if !pki.SaidBy(a.authorities(), pki.AuthoritiesStatement([]byte(in.Certificates)), in.Signature) {
		a.log.Error("somebody with the service's certificate names authorities to trust, without the signature of the one "+
			"that is trusted: nothing is changed", "authorities", pki.Fingerprints(certs))
		return fmt.Errorf("what names the authorities to trust is not signed by one that %s's agent trusts", a.cfg.Server)
	}
	own := a.certificate().Leaf
	if pki.SignedBy(own, certs) == "" {
		return fmt.Errorf("the certificate of %s's agent is of none of these authorities: it has to be renewed first",
			a.cfg.Server)
	}
	if err := writeSynced(filepath.Join(a.dir, authorityFile), []byte(in.Certificates), 0o600); err != nil {
		return err
	}
	a.trusted.Store(&certs)
	a.log.Info("the authorities to trust were taken over", "authorities", pki.Fingerprints(certs))
	if err := a.certifyDatabase(); err != nil { // the servers that the database follows are of them, too
		return err
	}
	return answer(w, struct{}{})
}
