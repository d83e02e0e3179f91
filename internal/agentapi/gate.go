package agentapi

import (
	"context"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/route"
	"crosstwin/internal/core/verb"
)

// Kept is what a database keeps of a user's password, for a gate that the user logs in at. It is
// asked for at each login and never stored by the gate.
type Kept struct {
	// Known: there is such a user, who may log in.
	Known bool `json:"known"`
	// Passwords are what is kept, in the database's own form; several where a user has an account
	// for each host. Methods are those of other kinds that are in the way, for an error.
	Passwords []string `json:"passwords,omitempty"`
	Methods   []string `json:"methods,omitempty"`
}

// KeptRequest asks for it.
type KeptRequest struct {
	User string `json:"user"`
}

// GateStanding asks a server's agent, as a gate, how the server stands.
func (c *Caller) GateStanding(ctx context.Context, t Target) (s route.Standing, err error) {
	return s, c.post(ctx, t, "/agent/v1/gate/standing", struct{}{}, &s)
}

// GateKept asks a server's agent, as a gate, what is kept of a user's password.
func (c *Caller) GateKept(ctx context.Context, t Target, user string) (k Kept, err error) {
	return k, c.post(ctx, t, "/agent/v1/gate/kept", KeptRequest{user}, &k)
}

// HoldRequest has a gate hold its sessions.
type HoldRequest struct {
	Operation int64   `json:"operation"`
	Limit     float64 `json:"limit_seconds"`
}

// ReleaseRequest has a gate lead its sessions by newer orders.
type ReleaseRequest struct {
	Orders *route.Orders `json:"orders"`
	Waited bool          `json:"waited,omitempty"`
}

// RestGate has a gate ask its sessions for their state.
func (c *Caller) RestGate(ctx context.Context, t Target) (f verb.GateFigures, err error) {
	return f, c.post(ctx, t, "/gate/v1/rest", struct{}{}, &f)
}

// HoldGate has a gate hold its sessions.
func (c *Caller) HoldGate(ctx context.Context, t Target, r HoldRequest) (f verb.GateFigures, err error) {
	return f, c.post(ctx, t, "/gate/v1/hold", r, &f)
}

// ReleaseGate has a gate lead its sessions on.
func (c *Caller) ReleaseGate(ctx context.Context, t Target, r ReleaseRequest) (f verb.GateFigures, err error) {
	return f, c.post(ctx, t, "/gate/v1/release", r, &f)
}

// GateSessions lists the sessions of a gate.
func (c *Caller) GateSessions(ctx context.Context, t Target) (list []observation.GateSession, err error) {
	return list, c.post(ctx, t, "/gate/v1/sessions", struct{}{}, &list)
}

// GateAccounts asks a server's agent, as a gate, which accounts there are.
func (c *Caller) GateAccounts(ctx context.Context, t Target) (list []route.Account, err error) {
	return list, c.post(ctx, t, "/agent/v1/gate/accounts", struct{}{}, &list)
}

// GateTries has a gate try how applications would fare.
func (c *Caller) GateTries(ctx context.Context, t Target) (list []route.Try, err error) {
	return list, c.post(ctx, t, "/gate/v1/try", struct{}{}, &list)
}
