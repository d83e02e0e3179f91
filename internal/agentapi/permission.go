package agentapi

import (
	"context"

	"crosstwin/internal/core/guard"
)

// GuardAsk tells an agent of a cluster with fencing the newest term, brings a grant, and
// asks how it stands.
type GuardAsk struct {
	guard.Ask
	// Off: fencing is off. The rest is empty then.
	Off bool `json:"off,omitempty"`
	// Peers are the addresses of the cluster's other agents, by server.
	Peers map[string]string `json:"peers,omitempty"`
}

// GuardPromote makes an agent's server the owner of a term.
type GuardPromote struct {
	guard.Promote
	Decision *guard.Signed `json:"decision"`
}

// StoodDown is how an agent answers that was told to stand down: with the proof, when its
// database was seen to have stopped in time.
type StoodDown struct {
	Answer guard.Answer `json:"answer"`
	Proof  *guard.Proof `json:"proof,omitempty"`
}

// PledgeQuestion is what the owner of a term asks of its peers, with the service's
// decision that it owns it.
type PledgeQuestion struct {
	Ask      guard.PledgeAsk `json:"ask"`
	Decision guard.Signed    `json:"decision"`
}

// AskPermission asks how an agent stands, and brings a grant.
func (c *Caller) AskPermission(ctx context.Context, t Target, q GuardAsk) (*guard.Answer, error) {
	var a *guard.Answer
	return a, c.post(ctx, t, "/agent/v1/permission/ask", q, &a)
}

// PromotePermission makes a server the owner of a term, if its agent obeys.
func (c *Caller) PromotePermission(ctx context.Context, t Target, q GuardPromote) (a guard.Answer, err error) {
	return a, c.post(ctx, t, "/agent/v1/permission/promote", q, &a)
}

// AwaitExit waits for the end of the process that takes writes; false: it has not ended
// yet.
func (c *Caller) AwaitExit(ctx context.Context, t Target) (ended bool, err error) {
	return ended, c.post(ctx, t, "/agent/v1/exit", struct{}{}, &ended)
}

// StandDown has a server stop taking writes, and prove it.
func (c *Caller) StandDown(ctx context.Context, t Target, q guard.StandDown) (s StoodDown, err error) {
	return s, c.post(ctx, t, "/agent/v1/permission/stand-down", q, &s)
}

// SetRank has an agent keep its server's rank.
func (c *Caller) SetRank(ctx context.Context, t Target, q guard.SetRank) (a guard.Answer, err error) {
	return a, c.post(ctx, t, "/agent/v1/permission/rank", q, &a)
}
