package agent

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/pki"
)

// pledgeLimit is how long another agent may take to pledge.
const pledgeLimit = time.Second

// askPledge asks another agent for its pledge. Without one nothing happens: the machine
// asks again.
func (p *permission) askPledge(to string, q guard.PledgeAsk) {
	a := p.a
	s := a.memory.get()
	ctx, cancel := context.WithTimeout(context.Background(), pledgeLimit)
	defer cancel()
	pledge, err := a.askPeer(ctx, to, s.Peers[to], agentapi.PledgeQuestion{Ask: q, Decision: s.Decision})
	if err != nil {
		a.log.Debug("no pledge came", "of", to, "error", err)
		return
	}
	p.step(pledge)
}

func (a *Agent) askPeer(ctx context.Context, to, address string, q agentapi.PledgeQuestion) (out guard.Pledge,
	err error) {
	b, err := json.Marshal(q)
	if err != nil {
		return out, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+address+"/agent/v1/peer/pledge",
		bytes.NewReader(b))
	if err != nil {
		return out, err
	}
	res, err := a.peerClient(to).Do(req)
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return out, fmt.Errorf("it answers %s", res.Status)
	}
	err = json.NewDecoder(io.LimitReader(res.Body, 1<<16)).Decode(&out)
	if err == nil && out.From != to {
		err = fmt.Errorf("it pledges as %q", out.From)
	}
	return out, err
}

// servePledge answers the owner of a term. Its word for owning it is the service's
// signed decision, of this term or of a newer one that it was given in place and has not
// accepted yet (invariant: an agent that somebody took over can neither raise a term
// nor hold up a failover in the name of another). No permit is asked for: pledges are
// what counts when the service is away.
func (a *Agent) servePledge(w http.ResponseWriter, r *http.Request) error {
	var q agentapi.PledgeQuestion
	if err := decode(r.Body, &q); err != nil {
		return err
	}
	_, asker, _ := pki.AgentOf(r.TLS.PeerCertificates[0].Subject.CommonName)
	d := q.Decision
	refuse := func(status int, format string, args ...any) error {
		return agentapi.Problem{Title: "No pledge", Status: status, Code: agentapi.CodeForbidden,
			Detail: a.cfg.Server + "'s agent does not pledge: " + fmt.Sprintf(format, args...)}
	}
	forbidden := http.StatusForbidden // raises an alert: nobody asks so by mistake
	switch {
	case q.Ask.From != asker || d.Owner != asker || d.Cluster != a.cfg.Cluster || d.Term < q.Ask.Term:
		return refuse(forbidden, "%s shows no decision that it owns term %d", asker, q.Ask.Term)
	case d.Made != cmp.Or(a.memory.get().Decision.Made, d.Made):
		return refuse(forbidden, "the decision that %s shows is of another cluster that had this name", asker)
	case !pki.SaidBy(a.authorities(), d.Statement(), d.Signature):
		return refuse(forbidden, "the decision that %s shows is not signed by the service", asker)
	}
	if err := a.underFencing(); err != nil {
		return err
	}
	for _, x := range a.permission.step(q.Ask) {
		if p, is := x.Message.(guard.Pledge); is && x.To == asker {
			return answer(w, p)
		}
	}
	return refuse(http.StatusConflict, "it knows a newer term, or may take writes itself")
}
