package host

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// That a server shows its new certificate is seen, or it is said what was seen: a connection
// that failed once proves nothing.
func TestAwaitShown(t *testing.T) {
	own, other := []byte("the one it was given"), []byte("the one of before")
	pair := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: own})
	torn := errors.New("connection reset")
	type look struct {
		shown []byte
		err   error
	}
	for name, c := range map[string]struct {
		looks []look // the last goes on
		want  string
	}{
		"shown":                      {[]look{{own, nil}}, ""},
		"shown, then not let in":     {[]look{{own, torn}}, ""},
		"shown after a while":        {[]look{{other, nil}, {nil, torn}, {own, nil}}, ""},
		"not reached":                {[]look{{nil, ErrNotReached}}, ""},
		"reset once, then as before": {[]look{{nil, torn}, {other, nil}}, "still shows another certificate"},
		"before, then cut off":       {[]look{{other, nil}, {nil, torn}}, "still shows another certificate"},
		"before, then unreachable":   {[]look{{other, nil}, {nil, ErrNotReached}}, "still shows another certificate"},
		"never seen":                 {[]look{{nil, torn}}, "could not be seen: connection reset"},
	} {
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		n := 0
		err := (&Encryption{}).AwaitShown(ctx, pair, func(_ context.Context, how *tls.Config) error {
			l := c.looks[min(n, len(c.looks)-1)]
			n++
			if l.shown != nil {
				how.VerifyConnection(tls.ConnectionState{PeerCertificates: []*x509.Certificate{{Raw: l.shown}}})
			}
			return l.err
		})
		cancel()
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Whom to trust is known also where the database has no certificate of its own yet: a
// server that is told to insist on proof and has nothing to check it by never connects.
func TestTrustedWithoutACertificate(t *testing.T) {
	dir := t.TempDir()
	d := &Data{Name: "tern", Dir: filepath.Join(dir, "data"), DefaultOwner: "nobody"}
	x := &Encryption{Dir: dir, SettingsName: "encryption.cnf", Settings: func(served string) string { return served }}
	if changed, err := x.Keep(d, nil, []byte("an authority")); !changed || err != nil || x.Certified() {
		t.Errorf("kept: %v, %v; certified: %v", changed, err, x.Certified())
	}
	if b, err := os.ReadFile(x.Trusted()); string(b) != "an authority" {
		t.Errorf("trusted: %q %v", b, err)
	}
	if _, err := os.Stat(x.Served()); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a file for a certificate that there is not: %v", err)
	}
	if changed, err := x.Keep(d, []byte("a pair"), []byte("an authority")); !changed || err != nil || !x.Certified() {
		t.Errorf("kept: %v, %v; certified: %v", changed, err, x.Certified())
	}
}
