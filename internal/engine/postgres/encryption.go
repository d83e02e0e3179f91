package postgres

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

// Encryption is set in a file of the agent's own, which the server's configuration
// includes where it is there: data that is restored on another host starts without it.
// What an administrator has set up instead is left alone.

const (
	encryptionBegin = "# crosstwin begin: encrypted connections, written by the agent"
	encryptionEnd   = "# crosstwin end"
)

// newEncryption names the files of a server.
func newEncryption(dir string) *host.Encryption {
	return &host.Encryption{Dir: dir, SettingsName: "encryption.conf", Settings: func(served string) string {
		return fmt.Sprintf("ssl = on\nssl_cert_file = '%s'\nssl_key_file = '%[1]s'\n", strings.ReplaceAll(served, "'", "''"))
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
	var on, cert string
	err = e.pool.QueryRow(ctx, "select current_setting('ssl'), current_setting('ssl_cert_file') "+
		"from pg_reload_conf()").Scan(&on, &cert)
	if err != nil || e.encryption.Proof(on == "on", cert) != observation.ProofAuthority {
		return e.explain(err)
	}
	return e.encryption.AwaitShown(ctx, c.Pair, e.handshake)
}

// encryptionBlock returns a configuration with our block at its end.
func (e *Engine) encryptionBlock(content string) string {
	content = host.WithoutBlock(content, encryptionBegin, encryptionEnd)
	return strings.TrimRight(content, "\n") + "\n" + encryptionBegin + "\ninclude_if_exists = '" +
		strings.ReplaceAll(e.encryption.SettingsFile(), "'", "''") + "'\n" + encryptionEnd + "\n"
}

// claimEncryption has a configuration that came with a copy name this server's own
// file. One without our block stays so.
func (e *Engine) claimEncryption() error {
	file := e.configFile()
	b, err := e.ReadFile(file)
	if err != nil || !strings.Contains(string(b), encryptionBegin) {
		return nil // whether there is one at all, the server says
	}
	if text := e.encryptionBlock(string(b)); text != string(b) {
		return e.RewriteTrusted(file, []byte(text))
	}
	return nil
}

// packageCertificate is what Debian's packages set up: made on each host for itself, it
// proves nothing to anybody, and is nobody's choice.
const packageCertificate = "/etc/ssl/certs/ssl-cert-snakeoil.pem"

// encrypt has the running server take encrypted connections, unless it does so by an
// administrator's own certificate, and tells what they prove then.
func (e *Engine) encrypt(ctx context.Context) (observation.Proof, error) {
	var on, cert, file string
	ask := func() error {
		return e.explain(e.pool.QueryRow(ctx, "select current_setting('ssl'), current_setting('ssl_cert_file'), "+
			"current_setting('config_file')").Scan(&on, &cert, &file))
	}
	if err := ask(); err != nil {
		return "", err
	}
	if now := e.encryption.Proof(on == "on", cert); !e.encryption.Certified() || now == observation.ProofAuthority ||
		now == observation.ProofOther && cert != packageCertificate {
		return now, nil
	}
	b, err := e.ReadFile(file)
	if err != nil {
		return "", err
	}
	if err := e.RewriteTrusted(file, []byte(e.encryptionBlock(string(b)))); err != nil {
		return "", err
	}
	if err := e.exec(ctx, "select pg_reload_conf()"); err != nil {
		return "", err
	}
	for end := time.Now().Add(reloadLimit); ; time.Sleep(5 * time.Millisecond) {
		if err := ask(); err != nil {
			return "", err
		}
		now := e.encryption.Proof(on == "on", cert)
		if now == observation.ProofAuthority {
			return now, e.shows(ctx)
		}
		if time.Now().After(end) {
			return now, fmt.Errorf("%s does not take up the settings in %s: ssl is %s, its certificate %s", e.cfg.Name,
				e.encryption.SettingsFile(), on, cert)
		}
	}
}

// reloadLimit is how long a server is given to read its settings again.
const reloadLimit = 5 * time.Second

// shows makes sure that the server shows its certificate at the address at which
// others reach it. An address that leads here only from outside proves nothing.
func (e *Engine) shows(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	b, err := os.ReadFile(e.encryption.Trusted())
	if err != nil {
		return err
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(b)
	err = e.handshake(ctx, &tls.Config{RootCAs: roots, ServerName: e.cfg.Host, MinVersion: tls.VersionTLS12})
	if errors.Is(err, host.ErrNotReached) {
		return nil
	}
	if err != nil {
		err = fmt.Errorf("what %s shows at %s is not its own certificate: %w", e.cfg.Name, e.cfg.Host, err)
	}
	return err
}

// handshake begins an encrypted connection to the address at which others reach the server.
func (e *Engine) handshake(ctx context.Context, how *tls.Config) error {
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp", net.JoinHostPort(e.cfg.Host, strconv.Itoa(e.cfg.Port)))
	if err != nil {
		return fmt.Errorf("%w: %w", host.ErrNotReached, err)
	}
	defer c.Close()
	if end, ok := ctx.Deadline(); ok {
		c.SetDeadline(end)
	}
	// SSLRequest (documentation, "Message Formats"); the answer is S or N.
	request := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, 8), 80877103)
	answer := make([]byte, 1)
	if _, err := c.Write(request); err != nil {
		return err
	}
	if _, err := io.ReadFull(c, answer); err != nil {
		return fmt.Errorf("%s did not answer whether it takes encrypted connections: %w", e.cfg.Name, err)
	}
	if answer[0] != 'S' {
		return fmt.Errorf("%s takes no encrypted connections: what its log %s says of SSL", e.cfg.Name, e.cfg.LogFile)
	}
	return tls.Client(c, how).HandshakeContext(ctx)
}

// insists returns the connection options by which a peer has to prove itself.
func (e *Engine) insists(p verb.Peer) []string {
	switch p.Proof {
	case observation.ProofAuthority:
		return []string{"sslmode", "verify-full", "sslrootcert", e.encryption.Trusted()}
	case observation.ProofOther:
		return []string{"sslmode", "require"}
	}
	return []string{"sslmode", "prefer"}
}

// insisted tells what a connection string insists on.
func (e *Engine) insisted(conninfo map[string]string) observation.Proof {
	switch mode := conninfo["sslmode"]; {
	case mode == "verify-full" && conninfo["sslrootcert"] == e.encryption.Trusted():
		return observation.ProofAuthority
	case mode == "require" || mode == "verify-ca" || mode == "verify-full":
		return observation.ProofOther
	}
	return observation.ProofNone
}
