package agent

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

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

// certifyDatabase gives the database whom to trust, and the certificate that the agent's
// directory holds. Where that fails certifyAgain tries it again: its directory may be
// prepared at that moment.
func (a *Agent) certifyDatabase() (err error) {
	x, ok := a.engine.(engine.Encrypter)
	if !ok {
		return nil
	}
	a.certifying.Lock()
	defer a.certifying.Unlock()
	defer func() { a.uncertified.Store(err != nil) }()
	pair, both, err := readDatabasePair(a.dir)
	if err != nil {
		return err
	}
	authorities := pki.EncodeCertificates(a.authorities())
	if err := x.Certify(engine.Certificate{Pair: both, Authority: authorities}); err != nil {
		return fmt.Errorf("give the database its certificate: %w", err)
	}
	if pair != nil {
		a.database.Store(pair.Leaf)
	}
	return nil
}

// certifyAgain tries again what could not be given. It is apart from watch, which waits
// for nothing.
func (a *Agent) certifyAgain(ctx context.Context) {
	t := time.NewTicker(2 * time.Second)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		if a.uncertified.Load() && a.certifyDatabase() == nil {
			a.log.Info("the database was given its certificate")
		}
	}
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
		o.Encryption.CertificateEnds, o.Encryption.CertificateBy = c.NotAfter, pki.SignedBy(c, a.authorities())
	}
}

// takeDatabasePair keeps a new certificate of the database's, and gives it to the server.
func (a *Agent) takeDatabasePair(certificate []byte, key *pendingKey) error {
	_, both, err := a.signedPair(certificate, key, "")
	if err != nil {
		return err
	}
	if err := writeSynced(filepath.Join(a.dir, databaseFile), both, 0o600); err != nil {
		return err
	}
	return a.certifyDatabase()
}
