package pki

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"crosstwin/internal/core/authority"
)

// Authority signs certificates. It can be exchanged for a new one without an outage, in
// three steps, each of which rests on the one before being complete everywhere: the new
// one is made and trusted beside the old one (Introduce); it signs, and the old one is
// only trusted (Switch); the old one is forgotten (Forget). What step it is at stands in
// the files of its directory, and nowhere else.
type Authority struct {
	dir string

	mu     sync.RWMutex
	now    signer
	next   *signer
	former *x509.Certificate
}

// signer is an authority's certificate with its key.
type signer struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

// The files of an authority, without their endings.
const (
	nowFile    = "authority"
	nextFile   = "authority.next"
	formerFile = "authority.former"
)

// CertificateIn names the file of the certificate of the authority that is kept in a directory.
func CertificateIn(dir string) string { return filepath.Join(dir, nowFile+".crt") }

// Open loads the authority from a directory, or makes it there on first use.
func Open(dir string) (*Authority, error) {
	a := &Authority{dir: dir}
	now, err := load(dir, nowFile)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		now, err = create(dir, nowFile)
	case errors.Is(err, errOtherKey):
		// A switch was interrupted between its two files.
		if err = a.rename(nextFile+".crt", nowFile+".crt"); err == nil {
			now, err = load(dir, nowFile)
		}
	}
	if err != nil {
		return nil, err
	}
	a.now = *now
	if a.next, err = load(dir, nextFile); errors.Is(err, fs.ErrNotExist) {
		a.next, err = nil, nil
	}
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(filepath.Join(dir, formerFile+".crt"))
	if errors.Is(err, fs.ErrNotExist) {
		return a, nil
	}
	if err != nil {
		return nil, err
	}
	former, err := ReadCertificates(text)
	if err != nil {
		return nil, fmt.Errorf("%s.crt in %s: %w", formerFile, dir, err)
	}
	if !former[0].Equal(a.now.cert) { // a switch that was interrupted right at its beginning
		a.former = former[0]
	}
	return a, nil
}

// errOtherKey says that certificate and key are not one pair.
var errOtherKey = errors.New("the authority's key is not the one of its certificate")

// load reads a pair. One whose certificate is missing is none.
func load(dir, name string) (*signer, error) {
	file := filepath.Join(dir, name)
	certPEM, err := os.ReadFile(file + ".crt")
	if err != nil {
		return nil, err
	}
	keyPEM, err := os.ReadFile(file + ".key")
	if errors.Is(err, fs.ErrNotExist) && name == nextFile {
		return nil, err // the remains of a switch
	}
	if err != nil {
		return nil, fmt.Errorf("the authority's key is missing beside %s.crt: %v", file, err)
	}
	certs, err := ReadCertificates(certPEM)
	if err != nil {
		return nil, fmt.Errorf("%s.crt: %w", file, err)
	}
	block, _ := pem.Decode(keyPEM)
	if block == nil {
		return nil, fmt.Errorf("%s.key holds no key", file)
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%s.key: %w", file, err)
	}
	key, ok := parsed.(*ecdsa.PrivateKey)
	if !ok {
		return nil, fmt.Errorf("the authority's key in %s is of another kind", dir)
	}
	if !key.PublicKey.Equal(certs[0].PublicKey) {
		return nil, fmt.Errorf("%s.crt: %w", file, errOtherKey)
	}
	return &signer{certs[0], key}, nil
}

// create makes a new pair.
func create(dir, name string) (*signer, error) {
	key, keyPEM, err := NewKey()
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial(),
		Subject:   pkix.Name{CommonName: "Cross Twin authority " + time.Now().UTC().Format("2006-01-02 15:04:05")},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(authorityLife), IsCA: true,
		BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	file := filepath.Join(dir, name)
	if err := writeSynced(file+".key", keyPEM, 0o600); err != nil {
		return nil, err
	}
	// Last: a pair without it is none.
	return &signer{cert, key}, writeSynced(file+".crt", encode(cert), 0o644)
}

// writeSynced writes a file that survives a power cut: an authority that is lost takes every
// agent with it.
func writeSynced(path string, b []byte, mode fs.FileMode) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	return errors.Join(err, f.Sync(), f.Close(), syncDir(filepath.Dir(path)))
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

func (a *Authority) rename(from, to string) error {
	if err := os.Rename(filepath.Join(a.dir, from), filepath.Join(a.dir, to)); err != nil {
		return err
	}
	return syncDir(a.dir)
}

// Introduce makes the next authority, which is trusted from now on and signs nothing yet.
func (a *Authority) Introduce() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.next != nil || a.former != nil {
		return errors.New("the authority is being exchanged already")
	}
	next, err := create(a.dir, nextFile)
	if err == nil {
		a.next = next
	}
	return err
}

// Switch has the next authority sign. Whoever does not trust it by now is lost:
// the caller makes sure.
func (a *Authority) Switch() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.next == nil {
		return errors.New("there is no other authority to switch to")
	}
	err := writeSynced(filepath.Join(a.dir, formerFile+".crt"), encode(a.now.cert), 0o644)
	if err == nil {
		err = a.rename(nextFile+".key", nowFile+".key")
	}
	if err == nil {
		err = a.rename(nextFile+".crt", nowFile+".crt") // Open does it if this one is not reached
	}
	if err != nil {
		return fmt.Errorf("switch to the next authority: %w", err)
	}
	a.former, a.now, a.next = a.now.cert, *a.next, nil
	return nil
}

// Forget ends the trust in the former authority.
func (a *Authority) Forget() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	err := os.Remove(filepath.Join(a.dir, formerFile+".crt"))
	if err == nil {
		a.former = nil
	}
	return err
}

// Stage returns how far an exchange has come.
func (a *Authority) Stage() authority.Stage {
	a.mu.RLock()
	defer a.mu.RUnlock()
	switch {
	case a.next != nil:
		return authority.Introducing
	case a.former != nil:
		return authority.Renewing
	}
	return ""
}

func (a *Authority) signing() signer {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return a.now
}

// Trusted returns the certificates of the authorities that count: first the one that
// signs.
func (a *Authority) Trusted() []*x509.Certificate {
	a.mu.RLock()
	defer a.mu.RUnlock()
	out := []*x509.Certificate{a.now.cert}
	if a.next != nil {
		out = append(out, a.next.cert)
	}
	if a.former != nil {
		out = append(out, a.former)
	}
	return out
}

// PEM returns them as a file.
func (a *Authority) PEM() []byte { return EncodeCertificates(a.Trusted()) }

// Pool returns them as the only trusted roots.
func (a *Authority) Pool() *x509.CertPool { return Pool(a.Trusted()) }

// Fingerprint identifies the authority that signs, in an enrolment code too, so that an
// agent knows whom it talks to before it trusts any certificate.
func (a *Authority) Fingerprint() string { return Fingerprint(a.signing().cert.Raw) }

// Shows returns a function that gives the service's certificate for its HTTPS server,
// always by the authority that signs.
func (a *Authority) Shows(name string, hosts ...string) (func() (*tls.Certificate, error), error) {
	var mu sync.Mutex
	var pair tls.Certificate
	by := ""
	show := func() (*tls.Certificate, error) {
		mu.Lock()
		defer mu.Unlock()
		if now := a.Fingerprint(); now != by {
			made, err := a.Pair(name, hosts...)
			if err != nil {
				return nil, err
			}
			pair, by = made, now
		}
		shown := pair
		return &shown, nil
	}
	_, err := show()
	return show, err
}

// ReadCertificates reads the certificates of a file; there is at least one.
func ReadCertificates(text []byte) (out []*x509.Certificate, err error) {
	for {
		var block *pem.Block
		if block, text = pem.Decode(text); block == nil {
			break
		}
		if block.Type != "CERTIFICATE" {
			return nil, fmt.Errorf("it holds a %s where a certificate belongs", block.Type)
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	if len(out) == 0 {
		return nil, errors.New("it holds no certificate")
	}
	return out, nil
}

// EncodeCertificates is the opposite of ReadCertificates.
func EncodeCertificates(certs []*x509.Certificate) []byte {
	var b bytes.Buffer
	for _, c := range certs {
		b.Write(encode(c))
	}
	return b.Bytes()
}

func encode(c *x509.Certificate) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
}

// Pool returns certificates as trusted roots.
func Pool(certs []*x509.Certificate) *x509.CertPool {
	p := x509.NewCertPool()
	for _, c := range certs {
		p.AddCert(c)
	}
	return p
}

// Fingerprints of certificates.
func Fingerprints(certs []*x509.Certificate) (out []string) {
	for _, c := range certs {
		out = append(out, Fingerprint(c.Raw))
	}
	return out
}

// SignedBy returns the fingerprint of the authority that signed a certificate; empty
// where it is none of these.
func SignedBy(c *x509.Certificate, authorities []*x509.Certificate) string {
	for _, a := range authorities {
		if c.CheckSignatureFrom(a) == nil {
			return Fingerprint(a.Raw)
		}
	}
	return ""
}
