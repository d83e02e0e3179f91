// Package simulate plays a fleet of agents to a real service: it enrolls them,
// serves the agents' own HTTPS interface with a certificate for each, and
// answers every observation with made-up facts. There is no database behind
// it: it shows how the service and the console bear many servers, and nothing
// about replication.
//
// All agents share one listener: the service asks for each by its name.
package simulate

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/apitype"
	"crosstwin/internal/client"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/position"
	"crosstwin/internal/pki"
)

// Fleet is a running fleet.
type Fleet struct {
	began    time.Time
	listener net.Listener
	server   *http.Server
	mu       sync.RWMutex
	byName   map[string]*member // by the name in the agent's certificate
	asked    atomic.Int64
}

type member struct {
	cert       tls.Certificate
	made       maker
	permission *permission // nil: a fleet without deadmen
}

// Options say how large the fleet is.
type Options struct {
	Servers, Clusters int
	// Fencing: there is a deadman beside each agent, and clusters of three come under fencing.
	Fencing bool
	// Log is called with the progress of the enrolment.
	Log func(format string, args ...any)
}

// Start enrolls a fleet at a service and serves its agents until Stop.
func Start(ctx context.Context, c *client.Client, opt Options) (*Fleet, error) {
	if opt.Clusters < 1 || opt.Servers < opt.Clusters {
		return nil, fmt.Errorf("a fleet has at least one cluster, and a server for each: %d servers in %d clusters is none",
			opt.Servers, opt.Clusters)
	}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	f := &Fleet{began: time.Now(), listener: ln, byName: map[string]*member{}}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /agent/v1/observe", f.observe)
	if opt.Fencing {
		f.permissions(mux)
	}
	mux.HandleFunc("POST /agent/v1/log-files", empty("[]"))
	mux.HandleFunc("POST /agent/v1/complaints", empty("[]"))
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusNotImplemented)
		json.NewEncoder(w).Encode(agentapi.Problem{Title: "Simulated",
			Detail: "this agent is simulated: no database stands behind it", Status: http.StatusNotImplemented,
			Code: agentapi.CodeFailed})
	})
	f.server = &http.Server{Handler: mux,
		TLSConfig: &tls.Config{MinVersion: tls.VersionTLS13, ClientAuth: tls.RequestClientCert,
			GetCertificate: f.certificate}}
	go f.server.ServeTLS(ln, "", "")
	if err := f.enroll(ctx, c, opt); err != nil {
		f.Stop()
		return nil, err
	}
	return f, nil
}

func empty(text string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, text) }
}

// Stop ends all agents.
func (f *Fleet) Stop() { f.server.Close() }

// Asked returns how many observations were answered.
func (f *Fleet) Asked() int64 { return f.asked.Load() }

func (f *Fleet) certificate(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	if m := f.member(hello.ServerName); m != nil {
		return &m.cert, nil
	}
	return nil, fmt.Errorf("no agent %s here", hello.ServerName)
}

func (f *Fleet) member(name string) *member {
	f.mu.RLock()
	defer f.mu.RUnlock()
	return f.byName[name]
}

func (f *Fleet) observe(w http.ResponseWriter, r *http.Request) {
	var req agentapi.ObserveRequest
	if err := json.NewDecoder(r.Body).Decode(&req); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	m := f.member(r.TLS.ServerName)
	f.asked.Add(1)
	o := m.made.observation(time.Since(f.began), req)
	if m.permission != nil {
		m.permission.show(o, req)
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(o)
}

// enroll makes the clusters and their servers, as a person would.
func (f *Fleet) enroll(ctx context.Context, c *client.Client, opt Options) error {
	if opt.Log == nil {
		opt.Log = func(string, ...any) {}
	}
	n := 0
	for i := range opt.Clusters {
		name := fmt.Sprintf("sim-%03d", i+1)
		engine := position.EnginePostgres
		if i%3 == 2 {
			engine = position.EngineMariaDB
		}
		if _, err := c.AddCluster(ctx, apitype.NewCluster{Name: name, Engine: engine}); err != nil {
			return err
		}
		size := (opt.Servers - n) / (opt.Clusters - i)
		for k := range size {
			m := maker{cluster: i, server: k, engine: engine, number: n}
			code, err := c.AddServer(ctx, name, apitype.NewServer{Name: m.name(),
				Placement: cluster.Placement{Rank: k + 1, Site: []string{"harbour", "island", "skerry"}[k%3]}, Primary: k == 0})
			if err != nil {
				return err
			}
			if err := f.enrollOne(ctx, c, code, m, opt.Fencing); err != nil {
				return err
			}
			n++
		}
		if (i+1)%50 == 0 {
			opt.Log("%d of %d clusters enrolled", i+1, opt.Clusters)
		}
	}
	return nil
}

func (f *Fleet) enrollOne(ctx context.Context, c *client.Client, code apitype.EnrolmentCode, m maker,
	fencing bool) error {
	key, keyPEM, err := pki.NewKey()
	if err != nil {
		return err
	}
	csr, err := pki.Request(key)
	if err != nil {
		return err
	}
	ans, err := c.Enroll(ctx, agentapi.EnrollRequest{Code: code.Code, Request: string(csr),
		Agent: f.listener.Addr().String(), Host: m.host(), Port: m.port()})
	if err != nil {
		return err
	}
	cert, err := tls.X509KeyPair([]byte(ans.Certificate), keyPEM)
	if err != nil {
		return err
	}
	agent := &member{cert: cert, made: m}
	if fencing {
		agent.permission = newPermission(m)
	}
	f.mu.Lock()
	f.byName[pki.AgentName(ans.Cluster, ans.Server)] = agent
	f.mu.Unlock()
	return nil
}
