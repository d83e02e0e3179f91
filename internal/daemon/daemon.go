// Package daemon runs the service as a process: records, authority, service and
// HTTP server, from the settings to a clean stop. It decides nothing.
package daemon

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"crosstwin/internal/api"
	"crosstwin/internal/core/access"
	"crosstwin/internal/core/history"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/pki"
	"crosstwin/internal/service"
	"crosstwin/internal/store"
)

// Options are the settings of a service.
type Options struct {
	Dir    string // of the records
	Listen string
	// TLS serves HTTPS with a certificate of the service's own authority, for
	// TLSHosts; Cert and Key are files of the user's own.
	TLS       bool
	TLSHosts  []string
	Cert, Key string
	// AlertCommand is run with each alert on its standard input.
	AlertCommand string
	// DeliverTo are networks that alert channels may lead to although they are of
	// this machine or its link.
	DeliverTo []netip.Prefix
	KeepAudit time.Duration
	// KeepRows is for how long operations keep what they hold of rows.
	KeepRows time.Duration
	// KeepTails is for how long saved tails stay; 0: for ever.
	KeepTails time.Duration
	Keep      history.Keep
	Version   string
	// Killpoint is told of every boundary that a crash could hit, in tests.
	Killpoint func(kind operation.Kind, step, where string)
}

// UsageError says that a setting cannot be used as it is.
type UsageError struct{ error }

func usage(format string, args ...any) error { return UsageError{fmt.Errorf(format, args...)} }

// RestoreRecords puts a copy of the records in their place while no service runs, and
// returns where those of before are kept.
func RestoreRecords(ctx context.Context, dir, from string) (kept string, err error) {
	return store.Restore(ctx, dir, from)
}

// Serve runs the service until ctx ends. All that it writes is for its own user alone.
func Serve(ctx context.Context, o Options, log *slog.Logger) error {
	syscall.Umask(0o077)
	st, err := store.Open(ctx, o.Dir)
	if err != nil {
		return err
	}
	defer st.Close()
	authority, err := pki.Open(o.Dir)
	if err != nil {
		return err
	}
	tlsConfig, err := serveTLS(o, authority)
	if err != nil {
		return err
	}
	if err := firstToken(ctx, st, o.Dir, log); err != nil {
		return err
	}
	if err := mayListen(ctx, st, o.Listen, tlsConfig != nil); err != nil {
		return err
	}
	s, err := service.New(st, authority, log, o.Killpoint)
	if err != nil {
		return err
	}
	s.Keep, s.DeliverTo = o.Keep, o.DeliverTo
	s.KeepAudit, s.KeepRows, s.KeepTails = o.KeepAudit, o.KeepRows, o.KeepTails
	s.FirstTokenFile = filepath.Join(o.Dir, TokenFile)
	if s.AlertCommand = o.AlertCommand; s.AlertCommand != "" {
		if _, err := exec.LookPath(s.AlertCommand); err != nil {
			return usage("the command for alerts cannot be run: %w", err)
		}
	}
	return listen(ctx, o, s, tlsConfig, log)
}

// listen serves HTTP beside the service's own work.
func listen(ctx context.Context, o Options, s *service.Service, tlsConfig *tls.Config, log *slog.Logger) error {
	ln, err := net.Listen("tcp", o.Listen)
	if err != nil {
		hint := "choose another with --listen"
		if errors.Is(err, syscall.EADDRINUSE) {
			hint = "something else listens there, another service perhaps; " + hint
		}
		return fmt.Errorf("could not listen on %s: %w; %s", o.Listen, err, hint)
	}
	base, cancel := context.WithCancel(ctx) // ends event streams before the shutdown waits for them
	defer cancel()
	h := &http.Server{Handler: api.New(s, o.Version, log), ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout: 2 * time.Minute, TLSConfig: tlsConfig,
		BaseContext: func(net.Listener) context.Context { return base },
		ErrorLog:    slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	failed := make(chan error, 1)
	go func() {
		if tlsConfig != nil {
			failed <- h.ServeTLS(ln, "", "")
		} else {
			failed <- h.Serve(ln)
		}
	}()
	log.Info("service listens", "address", ln.Addr().String(), "dir", o.Dir, "tls", tlsConfig != nil, "version", o.Version)
	run := make(chan error, 1)
	go func() { run <- s.Run(ctx) }()
	select {
	case err := <-failed:
		return err
	case err := <-run:
		if err != nil {
			return err
		}
	}
	stop, done := context.WithTimeout(context.Background(), 5*time.Second)
	defer done()
	if err := h.Shutdown(stop); err != nil {
		h.Close()
	}
	log.Info("service stopped; unfinished operations are resumed or undone at the next start")
	return nil
}

func serveTLS(o Options, authority *pki.Authority) (*tls.Config, error) {
	switch {
	case o.Cert != "" && o.Key != "":
		pair, err := tls.LoadX509KeyPair(o.Cert, o.Key)
		if err != nil {
			return nil, fmt.Errorf("the certificate for HTTPS: %w", err)
		}
		// Agents that enroll know the authority alone, and ask by the service's own name.
		own, err := authority.Shows(pki.ServiceName)
		if err != nil {
			return nil, err
		}
		return &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair},
			GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
				if hello.ServerName == pki.ServiceName {
					return own()
				}
				return &pair, nil
			}}, nil
	case o.Cert != "" || o.Key != "":
		return nil, usage("--tls-cert and --tls-key go together")
	case o.TLS:
		name, _ := os.Hostname()
		hosts := append(reachedAt(o.Listen), name, "localhost", "127.0.0.1")
		own, err := authority.Shows(pki.ServiceName, append(o.TLSHosts, hosts...)...)
		if err != nil {
			return nil, err
		}
		return &tls.Config{MinVersion: tls.VersionTLS12,
			GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return own() }}, nil
	}
	return nil, nil
}

// reachedAt returns the addresses at which what listens there is reached: where that is on
// all of them, those that this host has now.
func reachedAt(listen string) (out []string) {
	host, _, _ := net.SplitHostPort(listen)
	if ip := net.ParseIP(host); host != "" && (ip == nil || !ip.IsUnspecified()) {
		return []string{host}
	}
	own, _ := net.InterfaceAddrs()
	for _, a := range own {
		if n, ok := a.(*net.IPNet); ok {
			out = append(out, n.IP.String())
		}
	}
	return out
}

// mayListen refuses an address that others can reach without TLS and a token.
func mayListen(ctx context.Context, st *store.Store, listen string, hasTLS bool) error {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return usage("--listen %s: %w", listen, err)
	}
	ip := net.ParseIP(host)
	if host == "localhost" || ip != nil && ip.IsLoopback() {
		return nil
	}
	if !hasTLS {
		return usage("%s can be reached from other hosts: that needs TLS. Give --tls, or --tls-cert and --tls-key", listen)
	}
	tokens, err := st.Tokens(ctx)
	if err != nil {
		return err
	}
	if len(tokens) == 0 {
		return usage(
			"%s can be reached from other hosts: that needs an access token, and there is none. Start on 127.0.0.1 once "+
				"and make one", listen)
	}
	return nil
}

// TokenFile is where the first token is left for whoever started the service, until it
// is in use.
const TokenFile = "first-token"

// firstToken makes a token when the records are new.
func firstToken(ctx context.Context, st *store.Store, dir string, log *slog.Logger) error {
	path := filepath.Join(dir, TokenFile)
	tokens, err := st.Tokens(ctx)
	if err != nil || len(tokens) > 0 {
		return err
	}
	if ev, err := st.Events(ctx, 0, 1); err != nil || len(ev) > 0 {
		return err // all were removed on purpose
	}
	token := service.NewToken()
	if err := os.WriteFile(path, []byte(token+"\n"), 0o600); err != nil {
		return err
	}
	first := access.Token{Name: service.FirstToken, Scopes: []access.Scope{access.Admin}}
	if err := st.AddToken(ctx, first, service.Hash(token)); err != nil {
		return err
	}
	log.Info("an access token was made", "file", path, "use", "crosstwin login --token-file "+path)
	return st.AddEvent(ctx, access.Event{Who: "crosstwin", Action: "token added", Target: service.FirstToken})
}
