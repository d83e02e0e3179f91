package mariadb

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
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

// newEncryption names the files of a server.
func newEncryption(dir string) *host.Encryption {
	return &host.Encryption{Dir: dir, SettingsName: "encryption.cnf", Settings: func(served string) string {
		return "[mariadbd]\nssl_cert = " + served + "\nssl_key = " + served + "\n"
	}}
}

// Certify implements engine.Encrypter.
func (e *Engine) Certify(c engine.Certificate) error {
	changed, err := e.encryption.Keep(e.Data, c.Pair, c.Authority)
	if _, running := e.running(); err != nil || !changed || !running || len(c.Pair) == 0 {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	// A server that uses other files reads nothing new by it. One that does not answer may
	// go on showing what it showed: that is for the caller to try again.
	if err := e.exec(ctx, "flush no_write_to_binlog ssl"); err != nil {
		return err
	}
	cert, err := e.text(ctx, "select coalesce(@@ssl_cert, '')")
	if err != nil || e.encryption.Proof(true, cert) != observation.ProofAuthority {
		return err
	}
	return e.encryption.AwaitShown(ctx, c.Pair, e.handshake)
}

// handshake begins an encrypted connection to the address at which others reach the server.
// Nobody is logged in by it.
func (e *Engine) handshake(ctx context.Context, how *tls.Config) error {
	c := mysql.NewConfig()
	c.User, c.Net, c.Addr = verb.ReplicationUser(e.cfg.Name), "tcp", net.JoinHostPort(e.cfg.Host, strconv.Itoa(e.cfg.Port))
	c.TLS, c.Timeout, c.Logger = how, 3*time.Second, &mysql.NopLogger{}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return err
	}
	conn, err := connector.Connect(ctx)
	if err == nil {
		return conn.Close()
	}
	if op := (*net.OpError)(nil); errors.As(err, &op) && op.Op == "dial" {
		return fmt.Errorf("%w: %w", host.ErrNotReached, err)
	}
	return err
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
	if !e.encryption.Certified() {
		return nil
	}
	text, err := e.readConfig()
	if err != nil || strings.Contains(text, "\n!include "+e.encryption.SettingsFile()+"\n") ||
		e.ownCertificate(text) {
		return err
	}
	return e.rewriteConfig(strings.TrimRight(text, "\n") + "\n" + encryptionBegin + "\n!include " +
		e.encryption.SettingsFile() + "\n" + encryptionEnd + "\n")
}

// ownCertificate reports whether the administrator's configuration names a certificate.
func (e *Engine) ownCertificate(text string) bool {
	if !e.apart() {
		return namesCertificate(text)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	given, err := e.given(ctx)
	return err != nil || given["ssl_cert"] != ""
}

// namesCertificate reports whether a configuration's text does.
func namesCertificate(text string) bool {
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
		return "master_ssl = 1, master_ssl_verify_server_cert = 1, master_ssl_ca = " + literal(e.encryption.Trusted())
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
	case l["Master_SSL_Verify_Server_Cert"] == "Yes" && l["Master_SSL_CA_File"] == e.encryption.Trusted():
		return observation.ProofAuthority
	}
	return observation.ProofOther
}

// insists returns the same for a connection of the agent's own; nil for one that is not
// encrypted.
func (e *Engine) insists(up verb.Peer) (*tls.Config, error) {
	switch up.Proof {
	case observation.ProofAuthority:
		b, err := os.ReadFile(e.encryption.Trusted())
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
