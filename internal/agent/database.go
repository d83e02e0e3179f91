package agent

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/engine"
	"crosstwin/internal/pki"
)

// The database has a certificate of its own, by the address at which others reach it.
// Its key is the database's to read, so it proves no agent: the authority sees to that.

// databaseFile holds the database's key and certificate.
const databaseFile = "database.pem"

// readDatabasePair reads the certificate that the service signed for the database; nil
// when there is none yet.
func readDatabasePair(dir string) (*tls.Certificate, []byte, error) {
	b, err := os.ReadFile(filepath.Join(dir, databaseFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	pair, err := tls.X509KeyPair(b, b)
	return &pair, b, err
}

// certifyDatabase gives the database the certificate that the agent's directory holds.
func (a *Agent) certifyDatabase() error {
	x, ok := a.engine.(engine.Encrypter)
	if !ok {
		return nil
	}
	pair, both, err := readDatabasePair(a.dir)
	if err != nil || pair == nil {
		return err
	}
	authority := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.authority.Raw})
	if err := x.Certify(engine.Certificate{Pair: both, Authority: authority}); err != nil {
		return fmt.Errorf("give the database its certificate: %w", err)
	}
	a.database.Store(pair.Leaf)
	return nil
}

// noteEncryption completes what the engine saw of its server's encryption.
func (a *Agent) noteEncryption(o *observation.Server) {
	if _, ok := a.engine.(engine.Encrypter); !ok {
		o.Encryption = nil
		return
	}
	if o.Encryption == nil {
		o.Encryption = &observation.Encryption{}
	}
	if c := a.database.Load(); c != nil {
		o.Encryption.CertificateEnds = c.NotAfter
	}
}

// keepDatabasePair writes a certificate for the database down, if it is one for that
// key, by the service's authority, and good to prove a server.
func keepDatabasePair(dir string, certificate []byte, for_ *pendingKey, roots *x509.CertPool) error {
	block, _ := pem.Decode(certificate)
	if block == nil {
		return errors.New("the answer holds no certificate for the database")
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return err
	}
	if _, err := c.Verify(x509.VerifyOptions{Roots: roots}); err != nil {
		return fmt.Errorf("the database's new certificate is not the service's: %w", err)
	}
	if !for_.key.PublicKey.Equal(c.PublicKey) {
		return errors.New("the database's new certificate is for another key")
	}
	both := bytes.Join([][]byte{certificate, for_.pem}, []byte("\n"))
	return writeSynced(filepath.Join(dir, databaseFile), both, 0o600)
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
