package agent

import (
	"net/http"
	"strings"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/pki"
)

// permitted refuses a peer that shows no permit of the service's for itself.
func (a *Agent) permitted(r *http.Request) error {
	name := r.TLS.PeerCertificates[0].Subject.CommonName
	holder := strings.TrimSuffix(name, pki.AgentName(a.cfg.Cluster, ""))
	p, signature, err := guard.ReadPermit(r.Header.Get(agentapi.PermitHeader))
	if err == nil {
		err = p.Allows(a.cfg.Cluster, holder, time.Now())
	}
	if err == nil && (!pki.SaidBy(a.authorities(), p.Statement(), signature)) {
		err = errUnsigned
	}
	if err == nil {
		return nil
	}
	a.log.Warn("a peer asks without the service's permit", "peer", name, "what", r.URL.Path, "error", err)
	return agentapi.Problem{Title: "Not permitted", Status: http.StatusForbidden, Code: agentapi.CodeForbidden,
		Detail: a.cfg.Server + "'s agent gives " + holder + "'s nothing: " + err.Error()}
}
