package agent

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/pki"
)

// Enroll trades a one-time code for a certificate and writes the agent's
// directory. The code ends in the fingerprint of the service's authority: what
// answers with another one is not the service that gave the code.
func Enroll(ctx context.Context, dir, service, code string, cfg Config) (Config, error) {
	_, fingerprint, ok := strings.Cut(code, ".")
	if !ok {
		return cfg, errors.New("this is not an enrolment code: crosstwin server add prints one")
	}
	var old Config
	_, err := os.Stat(filepath.Join(dir, ConfigFile))
	again := err == nil
	left, err := forgetLeft(dir)
	if err != nil {
		return cfg, err
	}
	if again = again && !left; again {
		if old, err = LoadConfig(dir); err != nil {
			return cfg, err
		}
	}
	err = os.MkdirAll(dir, 0o711) // #nosec G301 -- the database's owner opens its files in it by name
	if err != nil {
		return cfg, err
	}
	own, csr, err := newRequest()
	if err != nil {
		return cfg, err
	}
	ans, err := askEnrolment(ctx, service, fingerprint, agentapi.EnrollRequest{Code: code, Request: string(csr),
		Referee: cfg.Referee, Gate: cfg.Gate != nil, Engine: cfg.Engine, Server: old.Server, Cluster: old.Cluster,
		Agent: cfg.Advertise,
		Host:  cfg.Host, Port: cfg.Port})
	if err != nil {
		return cfg, err
	}
	block, _ := pem.Decode([]byte(ans.Authority))
	if block == nil || pki.Fingerprint(block.Bytes) != fingerprint {
		return cfg, fmt.Errorf("%s is not the service that gave this code: its authority has another fingerprint", service)
	}
	if again {
		// A new certificate for the same server; what the agent knows of it, the
		// terms above all, stays.
		if old.Cluster != ans.Cluster || old.Server != ans.Server {
			return cfg,
				fmt.Errorf(
					"the agent of %s of %s is enrolled in %s, and this code was for %s of %s: give another --dir, with a new "+
						"code, because this one is used up: crosstwin server code %s %s", old.Server, old.Cluster, dir, ans.Server,
					ans.Cluster, ans.Cluster, ans.Server)
		}
	}
	cfg.Cluster, cfg.Server, cfg.Engine = ans.Cluster, ans.Server, ans.Engine
	for name, content := range map[string]string{pairFile: ans.Certificate + "\n" + string(own.pem),
		authorityFile: ans.Authority} {
		if err := writeSynced(filepath.Join(dir, name), []byte(content), 0o600); err != nil {
			return cfg, err
		}
	}
	return cfg, cfg.save(dir)
}

func askEnrolment(ctx context.Context, service, fingerprint string, req agentapi.EnrollRequest) (agentapi.EnrollAnswer,
	error) {
	var ans agentapi.EnrollAnswer
	b, err := json.Marshal(req)
	if err != nil {
		return ans, err
	}
	if err := mayEnrollAt(service); err != nil {
		return ans, err
	}
	// The authority is not trusted yet: the chain must hold the certificate
	// whose fingerprint the code names, and the leaf must be signed by it, under the
	// service's name: agents have certificates of the same authority. The name that is
	// asked for has a service answer so that uses another certificate for people.
	tr := &http.Transport{TLSClientConfig: &tls.Config{
		InsecureSkipVerify: true, // #nosec G402 -- VerifyConnection holds the chain against the code
		MinVersion:         tls.VersionTLS13, ServerName: pki.ServiceName,
		VerifyConnection: func(cs tls.ConnectionState) error {
			for _, c := range cs.PeerCertificates {
				if pki.Fingerprint(c.Raw) == fingerprint {
					pool := x509.NewCertPool()
					pool.AddCert(c)
					_, err := cs.PeerCertificates[0].Verify(x509.VerifyOptions{Roots: pool, DNSName: pki.ServiceName})
					return err
				}
			}
			return errors.New("its certificate is not of the authority that this code names")
		}}}
	c := &http.Client{Timeout: 30 * time.Second, Transport: tr, CheckRedirect: refuseRedirect}
	hr, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(service, "/")+"/api/v1/enroll",
		bytes.NewReader(b))
	if err != nil {
		return ans, err
	}
	hr.Header.Set("Content-Type", "application/json")
	res, err := c.Do(hr)
	if err != nil {
		return ans, fmt.Errorf("the service at %s cannot be reached: %w", service, err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		var p agentapi.Problem
		json.NewDecoder(io.LimitReader(res.Body, mostAnswer)).Decode(&p)
		return ans, fmt.Errorf("the service refused the enrolment: %s", p.Detail)
	}
	return ans, json.NewDecoder(io.LimitReader(res.Body, mostAnswer)).Decode(&ans)
}

// mostAnswer is how much of the service's answer is read.
const mostAnswer = 1 << 20

func refuseRedirect(*http.Request, []*http.Request) error {
	return errors.New("the answer comes from somewhere else, which is not followed")
}

// mayEnrollAt refuses to send a one-time code in the clear to another host.
func mayEnrollAt(service string) error {
	u, err := url.Parse(service)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return fmt.Errorf("%q is no address of a service: it is like https://HOST:PORT", service)
	}
	ip := net.ParseIP(u.Hostname())
	if u.Scheme == "http" && u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("%s is not encrypted, and the code in it would let others enroll: use https://", service)
	}
	return nil
}
