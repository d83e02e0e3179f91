// Package pki is the service's own small certificate authority. It signs one
// certificate for the service, with which it calls agents, and one for each
// agent, which proves the agent to the service and to other agents. Names are
// roles, not addresses, so a host may change its address. A further one proves a
// database to the servers that follow it, by the address at which they reach it;
// it is good for nothing else.
package pki

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"strings"
	"time"
)

// ServiceName is the name in the service's certificate; reserved ends the names that
// the authority gives to its own.
const (
	ServiceName = "service.crosstwin"
	reserved    = ".crosstwin"
)

// AgentName is the name in an agent's certificate.
func AgentName(cluster, server string) string { return server + "." + cluster + agentSuffix }

// GateName is the name in a gate's certificate. It is no agent's: a gate pledges nothing and is
// given no data.
func GateName(cluster, gate string) string { return gate + "." + cluster + gateSuffix }

const (
	agentSuffix = ".agent.crosstwin"
	gateSuffix  = ".gate.crosstwin"
)

// EnrolledName reports whether a certificate's name is one that an enrolment gives: an agent's or
// a gate's.
func EnrolledName(name string) bool {
	return strings.HasSuffix(name, agentSuffix) || strings.HasSuffix(name, gateSuffix)
}

// AgentOf says whose agent a certificate's name is; false: no agent's.
func AgentOf(name string) (cluster, server string, agent bool) {
	if name, agent = strings.CutSuffix(name, agentSuffix); !agent {
		return "", "", false
	}
	server, cluster, agent = strings.Cut(name, ".")
	return cluster, server, agent
}

const (
	authorityLife = 20 * 365 * 24 * time.Hour
	// serviceLife is that of the service's own certificates, whose keys end with its
	// process.
	serviceLife = 5 * 365 * 24 * time.Hour
)

// AgentLife is for how long an agent's certificate is good, DatabaseLife a database's; the
// service renews both after half of that. Replication has to outlast a service that is
// away for long, and a cluster that left it.
const (
	AgentLife    = 90 * 24 * time.Hour
	DatabaseLife = 2 * 365 * 24 * time.Hour
)

func serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		panic(err) // the system has no randomness: nothing here is safe then
	}
	return n
}

// NewKey makes a private key and its file form.
func NewKey() (*ecdsa.PrivateKey, []byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, nil, err
	}
	return key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

// Serial is the number of a certificate, in hex.
func Serial(c *x509.Certificate) string { return c.SerialNumber.Text(16) }

// backdated is by how much a certificate is good before it was made: a host's clock may be slow.
const backdated = time.Hour

// MadeAt is when a certificate was made, to the second below, by the service's clock.
func MadeAt(c *x509.Certificate) time.Time { return c.NotBefore.Add(backdated) }

// Fingerprint of a certificate in DER form: the first 128 bits of its SHA-256.
func Fingerprint(der []byte) string {
	s := sha256.Sum256(der)
	return hex.EncodeToString(s[:16])
}

// Sign makes a certificate for a public key under a name.
func (a *Authority) Sign(name string, pub any, life time.Duration, hosts ...string) ([]byte, error) {
	return a.sign(&x509.Certificate{Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}, pub, life, hosts)
}

func (a *Authority) sign(t *x509.Certificate, pub any, life time.Duration, hosts []string) ([]byte, error) {
	t.SerialNumber, t.KeyUsage = serial(), x509.KeyUsageDigitalSignature
	t.NotBefore, t.NotAfter = time.Now().Add(-backdated), time.Now().Add(life)
	for _, h := range hosts {
		if ip := net.ParseIP(h); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else if h != "" {
			t.DNSNames = append(t.DNSNames, h)
		}
	}
	by := a.signing()
	der, err := x509.CreateCertificate(rand.Reader, t, by.cert, pub, by.key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), nil
}

// SignRequest signs a certificate request under a name of the authority's
// choosing; what the request says of its subject is ignored.
func (a *Authority) SignRequest(csrPEM []byte, name string) ([]byte, error) {
	key, err := requested(csrPEM)
	if err != nil {
		return nil, err
	}
	return a.Sign(name, key, AgentLife)
}

// SignDatabase signs a certificate for a database that others reach at a host. It
// serves for nothing else: no agent and no service is proven by it.
func (a *Authority) SignDatabase(csrPEM []byte, host string) ([]byte, error) {
	if host == "" || strings.HasSuffix(strings.ToLower(strings.TrimSuffix(host, ".")), reserved) {
		return nil, fmt.Errorf("%q is no host of a database: names that end in %s are the service's own", host, reserved)
	}
	key, err := requested(csrPEM)
	if err != nil {
		return nil, err
	}
	return a.sign(&x509.Certificate{Subject: pkix.Name{CommonName: "database", Organization: []string{"Cross Twin"}},
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}, key, DatabaseLife, []string{host})
}

// requested returns the public key of a certificate request.
func requested(csrPEM []byte) (any, error) {
	b, _ := pem.Decode(csrPEM)
	if b == nil || b.Type != "CERTIFICATE REQUEST" {
		return nil, errors.New("not a certificate request")
	}
	csr, err := x509.ParseCertificateRequest(b.Bytes)
	if err != nil {
		return nil, err
	}
	return csr.PublicKey, csr.CheckSignature()
}

// Pair makes a fresh key and certificate for the service itself. The
// authority goes along in the chain, so that a client which knows only its
// fingerprint can check it.
func (a *Authority) Pair(name string, hosts ...string) (tls.Certificate, error) {
	key, keyPEM, err := NewKey()
	if err != nil {
		return tls.Certificate{}, err
	}
	certPEM, err := a.Sign(name, &key.PublicKey, serviceLife, hosts...)
	if err != nil {
		return tls.Certificate{}, err
	}
	return tls.X509KeyPair(append(certPEM, encode(a.signing().cert)...), keyPEM)
}

// Request makes a certificate request for a key.
func Request(key *ecdsa.PrivateKey) ([]byte, error) {
	der, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: "agent"}}, key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}), nil
}
