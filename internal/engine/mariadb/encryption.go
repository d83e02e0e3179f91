package mariadb

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"os"
	"path/filepath"
	"strings"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// Encryption is set in a file of the agent's own, which the server's configuration
// includes; one that is missing is passed over, while a certificate that is missing
// would keep the server from starting (both measured). The server reads the settings at
// its start, and the certificate again when it is told to. What an administrator has
// set up instead is left alone.

const (
	encryptionBegin = "# crosstwin begin: encrypted connections, written by the agent"
	encryptionEnd   = "# crosstwin end"
)

// servedFile holds the server's certificate and key, trustedFile the authority of the
// servers that it follows, encryptionFile the settings. All are the database owner's.
func (e *Engine) servedFile() string     { return filepath.Join(e.cfg.WorkDir, "served.pem") }
func (e *Engine) trustedFile() string    { return filepath.Join(e.cfg.WorkDir, "trusted.pem") }
func (e *Engine) encryptionFile() string { return filepath.Join(e.cfg.WorkDir, "encryption.cnf") }

// Certify implements engine.Encrypter.
func (e *Engine) Certify(c engine.Certificate) error {
	settings := "[mariadbd]\nssl_cert = " + e.servedFile() + "\nssl_key = " + e.servedFile() + "\n"
	changed := false
	for _, f := range []struct {
		path    string
		content []byte
	}{{e.servedFile(), c.Pair}, {e.trustedFile(), c.Authority}, {e.encryptionFile(), []byte(settings)}} {
		if b, err := os.ReadFile(f.path); err == nil && string(b) == string(f.content) {
			continue
		}
		if err := e.GiveFile(f.path, f.content); err != nil {
			return err
		}
		changed = true
	}
	e.seen.Lock()
	e.seen.certified = true
	e.seen.Unlock()
	if _, running := e.running(); !changed || !running {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	// A server that uses other files reads nothing new by it; one that does not answer
	// reads them when it starts.
	e.exec(ctx, "flush no_write_to_binlog ssl")
	return nil
}

// encryption tells what a running server's settings prove to those who connect.
func (e *Engine) encryption(have, certFile string) observation.Proof {
	switch {
	case have != "YES":
		return observation.ProofNone
	case certFile == e.servedFile():
		return observation.ProofAuthority
	}
	return observation.ProofOther
}

// encrypt has the server take encrypted connections from its next start on, unless an
// administrator has set up a certificate of their own.
func (e *Engine) encrypt(ctx context.Context) error {
	cert, err := e.text(ctx, "select coalesce(@@ssl_cert, '')")
	if err != nil || cert != "" {
		return err
	}
	return e.encryptFromStart()
}

// encryptFromStart writes into the configuration that the agent's settings count.
func (e *Engine) encryptFromStart() error {
	e.seen.Lock()
	certified := e.seen.certified
	e.seen.Unlock()
	if !certified {
		return nil
	}
	b, err := e.ReadTrusted(e.cfg.ConfigFile)
	if err != nil || strings.Contains(string(b), "\n!include "+e.encryptionFile()+"\n") || ownCertificate(string(b)) {
		return err
	}
	return e.rewriteConfig(strings.TrimRight(string(b), "\n") + "\n" + encryptionBegin + "\n!include " +
		e.encryptionFile() + "\n" + encryptionEnd + "\n")
}

// ownCertificate reports whether a configuration names a certificate itself.
func ownCertificate(text string) bool {
	for line := range strings.Lines(text) {
		key, _, _ := strings.Cut(line, "=")
		if strings.ReplaceAll(strings.TrimSpace(key), "-", "_") == "ssl_cert" {
			return true
		}
	}
	return false
}

// insisting returns the options of a link by which an upstream has to prove itself. The
// server holds the upstream's address against its certificate (measured: the address
// itself too, not only a name).
func (e *Engine) insisting(up verb.Peer) string {
	switch up.Proof {
	case observation.ProofAuthority:
		return "master_ssl = 1, master_ssl_verify_server_cert = 1, master_ssl_ca = " + literal(e.trustedFile())
	case observation.ProofOther:
		return "master_ssl = 1, master_ssl_verify_server_cert = 0, master_ssl_ca = ''"
	case observation.ProofNone:
		return "master_ssl = 0, master_ssl_verify_server_cert = 0, master_ssl_ca = ''"
	}
	return "master_ssl_crl = ''" // not known: what it insists on stays
}

// insisted tells what a link insists on.
func (e *Engine) insisted(l link) observation.Proof {
	switch {
	case l["Master_SSL_Allowed"] != "Yes":
		return observation.ProofNone
	case l["Master_SSL_Verify_Server_Cert"] == "Yes" && l["Master_SSL_CA_File"] == e.trustedFile():
		return observation.ProofAuthority
	}
	return observation.ProofOther
}

// insists returns the same for a connection of the agent's own; nil for one that is not
// encrypted.
func (e *Engine) insists(up verb.Peer) (*tls.Config, error) {
	switch up.Proof {
	case observation.ProofAuthority:
		b, err := os.ReadFile(e.trustedFile())
		if err != nil {
			return nil, err
		}
		roots := x509.NewCertPool()
		roots.AppendCertsFromPEM(b)
		return &tls.Config{RootCAs: roots, ServerName: up.Host, MinVersion: tls.VersionTLS12}, nil
	case observation.ProofOther:
		// Encrypted, and as much proven as the replica itself asks for.
		// #nosec G402 -- the administrator's certificate: nobody here knows its authority
		return &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}, nil
	}
	return nil, nil
}
