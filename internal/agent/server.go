package agent

import (
	"cmp"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/pki"
)

func (a *Agent) handler() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("POST /agent/v1/observe", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		came := time.Now()
		var req agentapi.ObserveRequest
		if err := decode(r.Body, &req); err != nil {
			return err
		}
		if err := a.noteSystem(req.System); err != nil {
			return err
		}
		if err := a.keepDecision(req.Decision); err != nil {
			return err
		}
		a.noteCertificates(req.Certificates)
		if req.Term > 0 {
			if err := a.learn(req.Term, req.Owner); err != nil {
				return err
			}
		}
		if err := a.notePromise(req.Promise); err != nil {
			return err
		}
		if err := r.Context().Err(); err != nil {
			return err // it waited so long that nobody wants the answer any more
		}
		a.health.hear(req.Readers)
		o := a.observe(r.Context(), req.Thorough)
		said, err := a.asked(req.Guard) // last: a permission counts from here
		if err != nil {
			return err
		}
		o.Permission.Answer = said
		if s := a.memory.get(); req.Reopen && mayReopen(s.Guard, s.Opened, req.Term, req.Owner, o) {
			go a.reopen(req.Term)
		}
		a.forgetTails(time.Now(), time.Duration(req.KeepTails*float64(time.Second)))
		if l := &o.Looked; !l.Ended.IsZero() {
			l.WaitedSeconds, l.AgeSeconds = l.Began.Sub(came).Seconds(), time.Since(l.Ended).Seconds()
		}
		return answer(w, o)
	}))
	m.HandleFunc("POST /agent/v1/examine", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		var req verb.Examine
		if err := decode(r.Body, &req); err != nil {
			return err
		}
		x, err := a.engine.Examine(r.Context(), req)
		if err != nil {
			return err
		}
		if err := a.examined(x); err != nil {
			return err
		}
		a.recallTail(x.Tail)
		return answer(w, x)
	}))
	if x, ok := a.engine.(engine.TailReader); ok {
		a.handleTail(m, x)
	}
	a.handleSalvage(m)
	if x, ok := a.engine.(engine.LogKeeper); ok {
		a.handleLog(m, x)
	}
	a.handleTerms(m)
	m.HandleFunc("POST /agent/v1/exit", a.fromService(a.serveExit))
	m.HandleFunc("POST /agent/v1/permission/promote", a.fromService(a.servePromotion))
	m.HandleFunc("POST /agent/v1/permission/stand-down", a.fromService(a.serveStandDown))
	m.HandleFunc("POST /agent/v1/peer/pledge", a.fromCluster(a.servePledge))
	m.HandleFunc("POST /agent/v1/stop-job", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		var key string
		if err := decode(r.Body, &key); err != nil {
			return err
		}
		return answer(w, a.jobs.stop(key))
	}))
	m.HandleFunc("POST /agent/v1/gate/standing", a.fromGate(a.serveStandingToGate))
	m.HandleFunc("POST /agent/v1/gate/kept", a.fromGate(a.serveKept))
	m.HandleFunc("POST /agent/v1/gate/accounts", a.fromGate(a.serveAccounts))
	m.HandleFunc("GET /agent/v1/peer/share/{what}", a.fromPeer(a.serveShare))
	m.HandleFunc("POST /agent/v1/peer/account", a.fromPeer(a.serveAccount))
	return m
}

// handleLog serves what is read of the server's logs.
func (a *Agent) handleLog(m *http.ServeMux, x engine.LogKeeper) {
	m.HandleFunc("POST /agent/v1/log-files", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		files, err := x.LogFiles(r.Context())
		if err != nil {
			return err
		}
		return answer(w, files)
	}))
	m.HandleFunc("POST /agent/v1/read-log", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		var req tail.ReadLogArgs
		if err := decode(r.Body, &req); err != nil {
			return err
		}
		page, err := x.ReadLog(r.Context(), req)
		if err != nil {
			return err
		}
		return answer(w, page)
	}))
	m.HandleFunc("POST /agent/v1/complaints", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		const most = 50
		list, err := x.Complaints(most)
		if err != nil {
			return err
		}
		return answer(w, list)
	}))
}

// handleTerms adds what every agent answers, whether or not there is a database.
func (a *Agent) handleTerms(m *http.ServeMux) {
	m.HandleFunc("POST /agent/v1/verbs/{verb}", a.fromService(a.serveVerb))
	m.HandleFunc("POST /agent/v1/permission/ask", a.fromService(a.serveAsked))
	m.HandleFunc("POST /agent/v1/permission/rank", a.fromService(a.serveRank))
	m.HandleFunc("POST /agent/v1/authorities", a.fromService(a.takeAuthorities))
	m.HandleFunc("POST /agent/v1/renewal/ask", a.fromService(a.askRenewal))
	m.HandleFunc("POST /agent/v1/renewal/take", a.fromService(a.takeRenewal))
}

func (a *Agent) fromService(h func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return a.from(func(name string) bool { return name == pki.ServiceName },
		func(w http.ResponseWriter, r *http.Request) error {
			return h(w, r.WithContext(agentapi.WithPermit(r.Context(), r.Header.Get(agentapi.PermitHeader))))
		})
}

// fromPeer lets in the agents of the same cluster only, with the service's permit.
func (a *Agent) fromPeer(h func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return a.fromCluster(func(w http.ResponseWriter, r *http.Request) error {
		if err := a.permitted(r); err != nil {
			return err
		}
		return h(w, r)
	})
}

// fromCluster lets in the agents of the same cluster, whether or not the service is there.
func (a *Agent) fromCluster(h func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return a.from(func(name string) bool { return strings.HasSuffix(name, pki.AgentName(a.cfg.Cluster, "")) }, h)
}

func (a *Agent) from(allowed func(string) bool, h func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		name := r.TLS.PeerCertificates[0].Subject.CommonName
		var err error
		if !allowed(name) {
			err = agentapi.Problem{Title: "Not allowed", Detail: name + " may not ask this of " + a.cfg.Server + "'s agent",
				Status: http.StatusForbidden, Code: agentapi.CodeForbidden}
		} else if err = cmp.Or(a.knownAgent(r.TLS.PeerCertificates[0]), a.hasLeft(r)); err == nil {
			err = h(w, r)
		}
		if err == nil {
			return
		}
		p := problemOf(err)
		level := slog.LevelDebug
		if p.Status == http.StatusForbidden && a.refused.note(name, r, time.Now()) {
			level = slog.LevelWarn // nobody asks so by mistake
		}
		a.log.Log(r.Context(), level, "refused", "path", r.URL.Path, "asked_by", name, "error", err)
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(p.Status)
		json.NewEncoder(w).Encode(p)
	}
}

func problemOf(err error) agentapi.Problem {
	var p agentapi.Problem
	var stale guard.StaleTermError
	var input engine.InputError
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &input):
		return agentapi.Problem{Title: "Invalid request", Detail: err.Error(), Status: http.StatusBadRequest,
			Code: agentapi.CodeBadInput}
	case errors.As(err, &stale):
		return agentapi.Problem{Title: "An older term", Detail: err.Error(), Status: http.StatusConflict,
			Code: agentapi.CodeStaleTerm}
	}
	return agentapi.Problem{Title: "Action failed", Detail: err.Error(), Status: http.StatusInternalServerError,
		Code: agentapi.CodeFailed}
}

func decode(r io.Reader, into any) error {
	d := json.NewDecoder(io.LimitReader(r, 8<<20))
	if err := d.Decode(into); err != nil {
		return agentapi.Problem{Title: "Unreadable", Detail: "the request cannot be read: " + err.Error(),
			Status: http.StatusBadRequest, Code: agentapi.CodeBadInput}
	}
	return nil
}

func answer(w http.ResponseWriter, v any) error {
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(v)
}
