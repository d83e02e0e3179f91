// Package plan makes the plans of all operations. A plan is data: checks with
// their evidence, then ordered steps, each naming the server, the verb, what
// must be true afterwards, how to undo it and what happens if it fails. The
// same value is printed by a preview, stored in the journal and carried out by
// the runner, so what runs is what was shown.
//
// One step may be the point of no return. Before it, a failure undoes the
// steps that were done, in reverse order, and the old primary is primary
// again. From it on, an operation goes forward only.
package plan

import (
	"fmt"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// Probe is one try of the replication account from one host to another server.
type Probe struct {
	From, To string
	Result   verb.Probed
}

// Reached is one try to connect to a server's address for clients, from the service's host.
type Reached struct {
	Server, Address string
	Problem         string // empty: something listens there
}

// Input is what plans are made from.
type Input struct {
	View    view.View
	Members []view.Member
	Probes  []Probe
	// Reached are the tries of the addresses for clients.
	Reached []Reached
	// Examination of the server that is to rejoin.
	Examination *verb.Examination
	// Fit is whether a copy would have its place on the server; FitProblem is why
	// that could not be tried. Nil without a problem: the engine has no such question.
	Fit        *verb.Fitted
	FitProblem string
	// LogFiles are the primary's, for a trim.
	LogFiles []tail.LogFile
	// NextTerm is the term that a role change would open.
	NextTerm int64
	Request  operation.Request
	// Fencing is on: who may write has a permission that runs out.
	Fencing bool
	// Busy is the operation that already runs on this cluster.
	Busy *view.Running

	// encrypted are the servers that steps of this plan have take encrypted connections.
	encrypted map[string]bool
	// restarted is the primary that steps of this plan restart.
	restarted string
}

// Make makes the plan for a request. An error is a request that makes no
// sense (an unknown name, a wrong role); what is merely not possible now is a
// failed check in the plan.
func Make(in Input) (*operation.Plan, error) {
	for _, n := range append([]string{in.Request.To, in.Request.Server}, in.Request.ConfirmStopped...) {
		if n != "" && in.Member(n) == nil {
			return nil, fmt.Errorf("cluster %s has no server %q: its servers are %s", in.View.Cluster, n, in.names())
		}
	}
	p := &operation.Plan{Kind: in.Request.Kind, Cluster: in.View.Cluster, Engine: in.View.Engine, Term: in.View.Term,
		OwnerTerm: in.View.OwnerTerm,
		Primary:   in.View.Primary, Request: in.Request, Checks: []operation.Check{}, Steps: []operation.Step{},
		Effects: []string{}}
	if in.Busy != nil {
		p.AddCheck(operation.Check{Name: "One operation at a time", Result: operation.Fail,
			Evidence: fmt.Sprintf("operation %d (%s) is under way on %s", in.Busy.ID, in.Busy.Kind, in.View.Cluster),
			Why:      "two operations on one cluster would undo each other's steps",
			Mend: fmt.Sprintf("wait for it: crosstwin operation follow %d; or cancel it: crosstwin operation cancel %d",
				in.Busy.ID, in.Busy.ID)})
		p.Summary = "Not possible now."
		return p, nil // what else is seen now is half done
	}
	var err error
	switch in.Request.Kind {
	case operation.Seed:
		err = in.seed(p)
	case operation.Switchover:
		err = in.switchover(p)
	case operation.Failover:
		err = in.failover(p)
	case operation.Rejoin:
		err = in.rejoin(p)
	case operation.Compare:
		err = in.compare(p)
	case operation.Salvage:
		err = in.salvage(p)
	case operation.Trim:
		err = in.trim(p)
	case operation.Set:
		err = in.set(p)
	case operation.Follow:
		err = in.repoint(p)
	case operation.Restart:
		err = in.restart(p)
	case operation.Encrypt:
		err = in.encrypt(p)
	case operation.Adopt:
		err = in.adopt(p)
	case operation.Synchronize:
		err = in.synchronize(p)
	default:
		err = fmt.Errorf("there is no operation %q: the kinds are %s", in.Request.Kind, kindList())
	}
	if err != nil {
		return nil, err
	}
	if p.Closing == "" {
		p.Closing = "done"
	}
	in.checkAbilities(p)
	return p, p.Validate()
}

func kindList() string {
	var names []string
	for _, k := range operation.Kinds() {
		names = append(names, string(k))
	}
	return words.List(names)
}

// Member finds a server of the cluster by name.
func (in *Input) Member(name string) *view.Member {
	for i := range in.Members {
		if in.Members[i].Name == name {
			return &in.Members[i]
		}
	}
	return nil
}

func (in *Input) names() string {
	s := ""
	for i, m := range in.Members {
		if i > 0 {
			s += ", "
		}
		s += m.Name
	}
	return s
}

// peer returns what other agents need to know of a server.
func (in *Input) peer(name string) verb.Peer {
	m := in.Member(name)
	if m == nil {
		return verb.Peer{Name: name}
	}
	p := verb.Peer{Name: name, Agent: m.Agent, Proof: in.proofOf(name)}
	if m.Last != nil {
		p.Host, p.Port = m.Last.Host.Address.Host, m.Last.Host.Address.Port
	}
	return p
}

// seen reports whether a server's agent answered for this plan.
func (in *Input) seen(name string) bool {
	s := in.View.Find(name)
	m := in.Member(name)
	return s != nil && m != nil && m.Last != nil && m.Problem == "" && s.Health != view.Unseen
}

// replicas returns the names of all servers but one that answer as replicas.
func (in *Input) replicas(but ...string) []string {
	var out []string
next:
	for _, m := range in.Members {
		for _, b := range but {
			if m.Name == b {
				continue next
			}
		}
		if in.seen(m.Name) && !m.Last.Data.Foreign && m.Last.Process.Accepting && m.Last.Process.Role == observation.Replica {
			out = append(out, m.Name)
		}
	}
	return out
}
