package agent

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/pki"
)

// An agent's certificate is renewed by the service, which asks for a new key's request
// and answers with a certificate of the same name. The private key never leaves the
// host. Key and certificate stand in one file, so that they change together.

// pairFile holds the agent's key and certificate; agents that were enrolled by an older
// version have two files until they are renewed.
const pairFile = "agent.pem"

// loadPair reads the agent's certificate and key.
func loadPair(dir string) (tls.Certificate, error) {
	b, err := os.ReadFile(filepath.Join(dir, pairFile))
	if errors.Is(err, fs.ErrNotExist) {
		return tls.LoadX509KeyPair(filepath.Join(dir, "agent.crt"), filepath.Join(dir, "agent.key"))
	}
	if err != nil {
		return tls.Certificate{}, err
	}
	return tls.X509KeyPair(b, b)
}

// certificate returns the agent's newest certificate.
func (a *Agent) certificate() tls.Certificate {
	if c := a.renewed.Load(); c != nil {
		return *c
	}
	return a.cert
}

// askRenewal makes new keys and returns their requests.
func (a *Agent) askRenewal(w http.ResponseWriter, _ *http.Request) error {
	own, csr, err := newRequest()
	if err != nil {
		return err
	}
	database, databaseCSR, err := newRequest()
	if err != nil {
		return err
	}
	a.renewing.Store(&pendingKeys{own, database})
	return answer(w, agentapi.Renewal{Request: string(csr), DatabaseRequest: string(databaseCSR)})
}

// pendingKey is a key that waits for its certificate.
type pendingKey struct {
	key *ecdsa.PrivateKey
	pem []byte
}

// pendingKeys are those of the agent and of its database.
type pendingKeys struct{ own, database *pendingKey }

// takeRenewal takes the certificate for the key that was made last. It has to be for
// that key, under this server's name, by the authority that the agent knows.
func (a *Agent) takeRenewal(w http.ResponseWriter, r *http.Request) error {
	var in agentapi.Renewal
	if err := decode(r.Body, &in); err != nil {
		return err
	}
	pending := a.renewing.Load()
	if pending == nil {
		return errors.New("no key waits for a certificate")
	}
	c, both, err := a.signedPair([]byte(in.Certificate), pending.own, a.name())
	if err != nil {
		return err
	}
	pair, err := tls.X509KeyPair(both, both)
	if err != nil {
		return err
	}
	if err := writeSynced(filepath.Join(a.dir, pairFile), both, 0o600); err != nil {
		return err
	}
	a.renewed.Store(&pair)
	a.renewing.Store(nil)
	if in.DatabaseCertificate != "" {
		if err := a.takeDatabasePair([]byte(in.DatabaseCertificate), pending.database); err != nil {
			return fmt.Errorf("the database's: %w", err)
		}
	}
	a.log.Info("the agent's certificate was renewed", "until", c.NotAfter)
	return answer(w, struct{}{})
}

// signedPair returns a certificate with its key, as they stand in one file: if it is one
// for that key, by the authority that the agent knows, under a name where one is given.
func (a *Agent) signedPair(certificate []byte, key *pendingKey, name string) (*x509.Certificate, []byte, error) {
	block, _ := pem.Decode(certificate)
	if block == nil {
		return nil, nil, errors.New("the answer holds no certificate")
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, nil, err
	}
	if _, err := c.Verify(x509.VerifyOptions{Roots: pki.Pool(a.authorities()), DNSName: name}); err != nil {
		return nil, nil, fmt.Errorf("the new certificate is not this agent's: %w", err)
	}
	if !key.key.PublicKey.Equal(c.PublicKey) {
		return nil, nil, errors.New("the new certificate is for another key")
	}
	return c, bytes.Join([][]byte{certificate, key.pem}, []byte("\n")), nil
}

// newRequest makes a key and a request for its certificate.
func newRequest() (*pendingKey, []byte, error) {
	key, keyPEM, err := pki.NewKey()
	if err != nil {
		return nil, nil, err
	}
	csr, err := pki.Request(key)
	return &pendingKey{key, keyPEM}, csr, err
}
