package host

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"crosstwin/internal/core/observation"
)

// Encryption are the files by which a server takes encrypted connections. They lie in
// the agent's own directory and are the database owner's to read.
type Encryption struct {
	Dir string
	// SettingsName is the name of the file with the settings, Settings its text for the
	// file that holds certificate and key.
	SettingsName string
	Settings     func(served string) string

	certified atomic.Bool
}

// Served holds the server's certificate and key, Trusted the authority of the servers
// that it follows, and SettingsFile what its configuration includes.
func (x *Encryption) Served() string       { return filepath.Join(x.Dir, "served.pem") }
func (x *Encryption) Trusted() string      { return filepath.Join(x.Dir, "trusted.pem") }
func (x *Encryption) SettingsFile() string { return filepath.Join(x.Dir, x.SettingsName) }

// Certified reports whether there is a certificate by which to encrypt.
func (x *Encryption) Certified() bool { return x.certified.Load() }

// Keep writes the files, and reports whether anything in them is new. Without a pair it
// writes only whom to trust.
func (x *Encryption) Keep(d *Data, pair, authority []byte) (changed bool, err error) {
	for _, f := range []struct {
		path    string
		content []byte
	}{{x.Trusted(), authority}, {x.Served(), pair}, {x.SettingsFile(), []byte(x.Settings(x.Served()))}} {
		if len(pair) == 0 && f.path != x.Trusted() {
			continue
		}
		if b, err := os.ReadFile(f.path); err == nil && string(b) == string(f.content) {
			continue
		}
		if err := d.GiveFile(f.path, f.content); err != nil {
			return changed, err
		}
		changed = true
	}
	if len(pair) > 0 {
		x.certified.Store(true)
	}
	return changed, nil
}

// ErrNotReached says that a server's address leads nowhere from its own host.
var ErrNotReached = errors.New("the server's address is not reached from here")

// AwaitShown waits until a server that uses these files shows the certificate of a pair:
// that it was told to read it again proves nothing. Connect begins an encrypted connection
// to the address at which others reach the server. Where that leads nowhere from this host
// (ErrNotReached, and never anything else), nothing contradicts; a connection that fails otherwise is tried again.
func (x *Encryption) AwaitShown(ctx context.Context, pair []byte,
	connect func(context.Context, *tls.Config) error) error {
	block, _ := pem.Decode(pair)
	if block == nil {
		return errors.New("the pair holds no certificate")
	}
	var shown []byte // at the last look that came to an end
	for {
		err := connect(ctx, &tls.Config{MinVersion: tls.VersionTLS12,
			InsecureSkipVerify: true, // #nosec G402 -- the certificate itself is compared
			VerifyConnection: func(cs tls.ConnectionState) error {
				shown = cs.PeerCertificates[0].Raw
				return nil
			}})
		nowhere := errors.Is(err, ErrNotReached) && ctx.Err() == nil && shown == nil
		if nowhere || bytes.Equal(shown, block.Bytes) {
			return nil
		}
		select {
		case <-ctx.Done():
			if shown == nil { // at none
				return fmt.Errorf("what certificate the server shows could not be seen: %w", err)
			}
			return errors.Join(errors.New("the server still shows another certificate than the one it was given"), err)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Proof tells what a server proves to those who connect, from what it says of itself.
func (x *Encryption) Proof(encrypts bool, certFile string) observation.Proof {
	switch {
	case !encrypts:
		return observation.ProofNone
	case certFile == x.Served():
		return observation.ProofAuthority
	}
	return observation.ProofOther
}
