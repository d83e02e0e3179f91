package agent

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/pki"
)

// peerClient calls a peer's agent. The certificates of agents carry roles
// instead of addresses, so the name to expect is set for the call.
func (a *Agent) peerClient(server string) *http.Client {
	return &http.Client{CheckRedirect: refuseRedirect, Transport: &http.Transport{
		DisableKeepAlives: true, TLSClientConfig: &tls.Config{
			RootCAs: pki.Pool(a.authorities()), Certificates: []tls.Certificate{a.certificate()},
			ServerName: pki.AgentName(a.cfg.Cluster, server), VerifyConnection: a.knownServer,
			MinVersion: tls.VersionTLS13}}}
}

// endTrailer follows a shared stream: "ok", or why the stream ended too soon.
const endTrailer = "Crosstwin-End"

// serveShare streams what the engine shares with a peer.
func (a *Agent) serveShare(w http.ResponseWriter, r *http.Request) error {
	s, ok := a.engine.(engine.Sharer)
	if !ok {
		return agentapi.Problem{Title: "Nothing to share", Detail: a.cfg.Server + "'s engine shares nothing by its agent",
			Status: http.StatusNotFound, Code: agentapi.CodeNotFound}
	}
	a.log.Info("a peer asks", "what", r.PathValue("what"), "peer", r.TLS.PeerCertificates[0].Subject.CommonName)
	w.Header().Set("Trailer", endTrailer)
	w.Header().Set("Content-Type", "application/octet-stream")
	end := "ok"
	if err := s.Share(r.Context(), r.PathValue("what"), r.URL.Query(), w); err != nil {
		a.log.Warn("a peer could not be given what it asked for", "what", r.PathValue("what"), "error", err)
		end = err.Error()
	}
	// Percent signs keep a trailer's text on one line.
	w.Header().Set(endTrailer, url.QueryEscape(end))
	return nil
}

// peers implements engine.Peers.
type peers struct{ a *Agent }

// Fetch implements engine.Peers.
func (p peers) Fetch(ctx context.Context, from verb.Peer, what string, query url.Values) (io.ReadCloser, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet,
		"https://"+from.Agent+"/agent/v1/peer/share/"+what+"?"+query.Encode(), nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set(agentapi.PermitHeader, agentapi.PermitOf(ctx))
	res, err := p.a.peerClient(from.Name).Do(req)
	if err != nil {
		return nil, fmt.Errorf("ask %s's agent at %s for its %s: %w", from.Name, from.Agent, what, err)
	}
	if res.StatusCode != http.StatusOK {
		defer res.Body.Close()
		var problem agentapi.Problem
		json.NewDecoder(io.LimitReader(res.Body, mostAnswer)).Decode(&problem)
		return nil, fmt.Errorf("%s's agent did not give its %s: %s", from.Name, what, problem.Detail)
	}
	return &sharedStream{res, from.Name, what}, nil
}

// sharedStream turns a stream that ended badly into an error at its end.
type sharedStream struct {
	res        *http.Response
	from, what string
}

func (s *sharedStream) Read(b []byte) (int, error) {
	n, err := s.res.Body.Read(b)
	if err != io.EOF {
		return n, err
	}
	end, uerr := url.QueryUnescape(s.res.Trailer.Get(endTrailer))
	switch {
	case uerr == nil && end == "ok":
		return n, io.EOF
	case end == "":
		return n, fmt.Errorf("%s's agent was interrupted in the middle of its %s", s.from, s.what)
	}
	return n, errors.New(end)
}

func (s *sharedStream) Close() error { return s.res.Body.Close() }
