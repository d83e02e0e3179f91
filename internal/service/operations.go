package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/store"
)

// RefusedError says that a check of a plan failed: nothing was changed.
type RefusedError struct {
	Plan      *operation.Plan
	Reason    string
	Operation int64
}

func (e RefusedError) Error() string { return e.Reason }

// ConfirmError says that a plan destroys data and the name was not given.
type ConfirmError struct{ Plan *operation.Plan }

func (e ConfirmError) Error() string {
	return fmt.Sprintf("this discards %s: to confirm, give the name %q", e.Plan.Destroys, e.Plan.ConfirmName)
}

// ChangedError says that the plan made at the start differs from the one that
// was shown, in more than times and positions that moved on. Nothing was
// changed.
type ChangedError struct{ Plan *operation.Plan }

func (e ChangedError) Error() string {
	return "the plan has changed since it was shown: read the new one and start again; nothing was changed"
}

// Preview makes the plan for a request and changes nothing.
func (s *Service) Preview(ctx context.Context, cluster string, req operation.Request) (*operation.Plan, error) {
	return s.preview(ctx, cluster, req, false)
}

// preview is Preview; with writes waiting it does without what only makes a warning.
func (s *Service) preview(ctx context.Context, cluster string, req operation.Request, urgent bool) (*operation.Plan,
	error) {
	in, err := s.gather(ctx, cluster, req, urgent)
	if err != nil {
		return nil, err
	}
	p, err := plan.Make(in)
	if err != nil {
		return nil, InputError{err}
	}
	return p, nil
}

// Check returns the checks for a purpose.
func (s *Service) Check(ctx context.Context, cluster string, req operation.Request) (*operation.Plan, error) {
	if req.Kind == plan.ForGate {
		return s.checkGates(ctx, cluster)
	}
	in, err := s.gather(ctx, cluster, req, false)
	if err != nil {
		return nil, err
	}
	p, err := plan.Checks(in)
	if err != nil {
		return nil, InputError{err}
	}
	return p, nil
}

// Begin makes the plan, records the operation and starts it. What runs is what
// was shown: digest is that of the plan that whoever asks has seen.
func (s *Service) Begin(ctx context.Context, cluster string, req operation.Request, digest, who,
	from string) (operation.Operation, error) {
	p, err := s.Preview(ctx, cluster, req)
	if err != nil {
		return operation.Operation{}, err
	}
	if reason, refused := p.Refused(); refused {
		id, err := s.Store.AddRefused(ctx, p, who, from, reason)
		if err != nil {
			return operation.Operation{}, err
		}
		s.audit(ctx, who, from, string(p.Kind)+" refused", cluster, reason)
		return operation.Operation{}, RefusedError{p, reason, id}
	}
	if digest == "" {
		return operation.Operation{}, badInput("to begin an operation, name the digest of its plan: ask for the plan first")
	}
	if p.Digest() != digest {
		return operation.Operation{}, ChangedError{p}
	}
	if p.ConfirmName != "" && req.ConfirmName != p.ConfirmName {
		return operation.Operation{}, ConfirmError{p}
	}
	return s.start(ctx, p, who, from)
}

// start records an operation and has it carried out.
func (s *Service) start(ctx context.Context, p *operation.Plan, who, from string) (operation.Operation, error) {
	cluster := p.Cluster
	id, err := s.Store.AddOperation(ctx, p, who, from)
	if errors.Is(err, store.ErrMoved) {
		return operation.Operation{}, ChangedError{p}
	}
	if errors.Is(err, store.ErrTaken) {
		return operation.Operation{}, RefusedError{p, err.Error(), 0}
	}
	if err != nil {
		return operation.Operation{}, err
	}
	s.audit(ctx, who, from, string(p.Kind), cluster, p.Summary)
	op, err := s.Store.Operation(ctx, id)
	if err != nil {
		return op, err
	}
	s.carryOut(id, cluster, p.Kind, false)
	return op, nil
}

// carryOut runs an operation beside everything else. When the service stops,
// the journal keeps the place.
func (s *Service) carryOut(id int64, cluster string, kind operation.Kind, resumed bool) {
	s.setRunning(cluster, &view.Running{ID: id, Kind: kind})
	s.running.Add(1)
	go func() {
		defer s.running.Done()
		if c, err := s.cluster(cluster); err == nil && kind == operation.Synchronize {
			c.awaitKept(s.ctx)
		}
		err := s.runner.Run(s.ctx, id, resumed)
		if s.ctx.Err() != nil {
			return
		}
		if err != nil {
			s.log.Error("operation stopped", "operation", id, "error", err)
			s.Store.EndOperation(context.WithoutCancel(s.ctx), id, operation.OutcomeNeedsYou,
				"the service could not go on: "+err.Error(), 0)
			s.operationChanged(id)
		}
		s.setRunning(cluster, nil)
		if err := s.reload(s.ctx, cluster); err != nil {
			s.log.Error("cannot read the records", "error", err)
		}
	}()
}

func (s *Service) setRunning(cluster string, op *view.Running) {
	c, err := s.cluster(cluster)
	if err != nil {
		return
	}
	c.mu.Lock()
	c.op = op
	a := c.assess(time.Now())
	c.mu.Unlock()
	s.publishView(c, a)
}

// operationChanged publishes how far an operation is; readers fetch the rest.
func (s *Service) operationChanged(id int64) {
	s.Hub.publish(EventOperation, fmt.Sprint(id), Changed{ID: id})
}

// Cancel asks a running operation to stop before its point of no return.
func (s *Service) Cancel(ctx context.Context, id int64, who, from string) error {
	op, err := s.Store.Operation(ctx, id)
	if err != nil {
		return orNotFound(err, "operation", fmt.Sprint(id))
	}
	if op.State == operation.Ended {
		return badInput("operation %d has ended already: %s", id, op.Outcome)
	}
	err = s.Store.Cancel(ctx, id)
	if errors.Is(err, store.ErrPastReturn) {
		n := op.Plan.NoReturnStep()
		return badInput("operation %d is past its point of no return (step %d, %s): it can only go forward", id, n+1,
			op.Plan.Steps[n].Title)
	}
	if err == nil {
		s.audit(ctx, who, from, "cancel", op.Cluster, fmt.Sprintf("operation %d", id))
	}
	return err
}

// gather collects everything a plan is made from, freshly: thorough
// observations of all servers, tries of the replication account in every
// direction, and an examination where data has to be judged. A plan rests on one moment:
// where the term was renewed meanwhile, as it is for a primary that goes on writing, the
// answers of before it count for nothing, and everything is collected anew.
func (s *Service) gather(ctx context.Context, name string, req operation.Request, urgent bool) (in plan.Input,
	err error) {
	c, err := s.cluster(name)
	if err != nil {
		return in, err
	}
	for range gatherTries {
		if req.Kind != operation.Failover { // what hangs there may be what has to be left
			c.awaitUpheld(ctx)
		}
		if in, err = s.gatherOnce(ctx, c, name, req, urgent); err != nil || !c.renewedSince(&in.View) {
			break
		}
	}
	return in, err
}

// gatherTries bounds how often a plan's facts are collected anew.
const gatherTries = 3

func (s *Service) gatherOnce(ctx context.Context, c *watched, name string, req operation.Request,
	urgent bool) (plan.Input, error) {
	v, err := s.View(name)
	if err != nil {
		return plan.Input{}, err
	}
	if req.Kind == operation.Switchover {
		s.awaitProofs(ctx, c)
	}
	a := s.lookAtAll(ctx, c, &v, urgent)
	if req.Kind == operation.Seed || req.Kind == operation.Encrypt {
		s.awaitCertificates(ctx, c)
		a = c.assessNow()
	}
	in := plan.Input{View: a.View, Members: a.Members, Request: req, NextTerm: a.View.Term + 1, Busy: a.View.Operation}
	c.mu.Lock()
	in.Fencing = c.rec.Policy.Fencing
	c.mu.Unlock()
	for _, m := range in.Members {
		if m.Last != nil && guard.Believable(m.Last.Guard.Noted, a.View.Term) {
			in.NextTerm = max(in.NextTerm, m.Last.Guard.Noted+1)
		}
	}
	if in.Busy != nil {
		return in, nil // refused in any case: do not touch the servers meanwhile
	}
	if !urgent {
		in.Probes = s.probe(ctx, &in)
	}
	in.Reached = reach(ctx, &in)
	switch req.Kind {
	case operation.Seed, operation.Rejoin, operation.Restart:
		s.fit(ctx, &in)
	}
	switch {
	case req.Kind == operation.Trim && in.View.Primary != "":
		if in.LogFiles, err = s.logFiles(ctx, name, in.View.Primary); err != nil {
			return in, err
		}
	case req.Kind == operation.Rejoin || req.Kind == operation.Salvage:
		if in.Examination, err = s.examine(ctx, &in, req.Server, true); err != nil {
			return in, err
		}
	case req.Kind == operation.Failover && seen(&in.View, in.View.Primary) && !diskHangs(in.View.Find(in.View.Primary)):
		in.Examination, _ = s.examine(ctx, &in, in.View.Primary, !urgent)
	}
	return in, nil
}

// diskHangs reports whether a server is one whose files nobody reads now: that could hang too.
func diskHangs(s *view.Server) bool {
	return s.Cause.Code == cause.DiskHangs || s.Cause.Code == cause.Doomed
}

func seen(v *view.View, server string) bool {
	s := v.Find(server)
	return s != nil && s.Health != view.Unseen
}

// unseenLimit is how long a server may take that has not answered lately: the others wait
// for it, and in a failover writes do.
const unseenLimit = time.Second

// patience bounds the time for one server by what it was like before.
func (s *Service) patience(ctx context.Context, h view.Health) (context.Context, context.CancelFunc) {
	if h == view.Unseen {
		return context.WithTimeout(ctx, unseenLimit)
	}
	return context.WithCancel(ctx)
}

// lookAtAll has a thorough look at all servers now, and assesses them. Where that is
// urgent the settings that are known are not read again.
func (s *Service) lookAtAll(ctx context.Context, c *watched, v *view.View, urgent bool) *Assessment {
	var wg sync.WaitGroup
	for _, m := range v.Servers {
		wg.Go(func() {
			ctx, cancel := s.patience(ctx, m.Health)
			defer cancel()
			if o := m.Observation; urgent && o != nil && (m.Health == view.Unseen || !o.Process.Accepting || diskHangs(&m)) {
				// It was decided upon by what is known of it, and the others wait.
				short, cancel := context.WithTimeout(ctx, unseenLimit/2)
				defer cancel()
				ctx = short
			}
			known := urgent && m.Observation != nil && m.Observation.Config.Settings != nil
			s.observe(ctx, v.Cluster, m.Name, !known)
		})
	}
	wg.Wait()
	return c.assessNow()
}

// probe tries the replication account between all servers that answer. A
// server that is leaving the cluster's work (the old primary of a failover, a
// target of a seed) is not part of it.
func (s *Service) probe(ctx context.Context, in *plan.Input) []plan.Probe {
	switch in.Request.Kind {
	case operation.Seed, operation.Compare, operation.Trim, operation.Set, operation.Follow,
		operation.Restart, operation.Adopt:
		return nil
	}
	tries := 2
	if in.Request.Kind == operation.Failover {
		tries = 1 // a server that does not answer costs its own limit once
	}
	ctx, cancel := context.WithTimeout(ctx, probesLimit)
	defer cancel()
	up := func(m view.Member) bool {
		away := in.Request.Kind == operation.Failover && m.Name == in.View.Primary
		if away {
			// A server that is said to be off is tried: evidence beats a person's word.
			return m.Last != nil && slices.Contains(in.Request.ConfirmStopped, m.Name)
		}
		return m.Last != nil && m.Problem == "" && m.Last.Process.Accepting
	}
	var wg sync.WaitGroup
	var mu sync.Mutex
	var out []plan.Probe
	for _, from := range in.Members {
		reach := from.Last != nil && from.Problem == "" &&
			(up(from) || in.Request.Kind == operation.Rejoin && from.Name == in.Request.Server)
		for _, to := range in.Members {
			if from.Name == to.Name || !reach || !up(to) {
				continue
			}
			if in.Request.Kind == operation.Rejoin && (from.Name != in.Request.Server || to.Name != in.View.Primary) {
				continue
			}
			wg.Go(func() {
				r := patiently(tries, func() verb.Probed { return s.probeOne(ctx, in, from.Name, to) })
				mu.Lock()
				out = append(out, plan.Probe{From: from.Name, To: to.Name, Result: r})
				mu.Unlock()
			})
		}
	}
	wg.Wait()
	sortProbes(out)
	return out
}

// probesLimit bounds all tries of the replication account: two, each of which has its own limit.
const probesLimit = 12 * time.Second

// slowProbe is from how long on a try that got no answer says that somebody is busy, rather
// than that nobody is there.
const slowProbe = 2 * time.Second

// patiently tries again what was too slow: one slow answer is no reason to refuse a plan.
func patiently(tries int, try func() verb.Probed) (r verb.Probed) {
	for range tries {
		began := time.Now()
		if r = try(); r.OK || r.Answered || time.Since(began) < slowProbe {
			break
		}
	}
	return r
}

// reachLimit is how long a server's address for clients may take to answer.
const reachLimit = 2 * time.Second

// reach tries the addresses for clients of the servers that run, for a planned role change:
// an unplanned one waits for nothing that it can do without.
func reach(ctx context.Context, in *plan.Input) []plan.Reached {
	if in.Request.Kind != operation.Switchover {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, reachLimit)
	defer cancel()
	var wg sync.WaitGroup
	var out []plan.Reached
	for _, m := range in.Members {
		if m.Clients != "" && m.Last != nil && m.Last.Process.Accepting {
			out = append(out, plan.Reached{Server: m.Name, Address: m.Clients})
		}
	}
	for i := range out {
		wg.Go(func() {
			var d net.Dialer
			c, err := d.DialContext(ctx, "tcp", out[i].Address)
			if err != nil {
				out[i].Problem = err.Error()
				return
			}
			c.Close()
		})
	}
	wg.Wait()
	return out
}

// fit asks whether a copy of the primary would have its place on the server and could
// be started there; for a restart, whether the server itself could.
func (s *Service) fit(ctx context.Context, in *plan.Input) {
	target, owner := in.Member(in.Request.Server), in.Member(in.View.Primary)
	if target == nil || target.Last == nil || owner == nil || owner.Last == nil {
		return // the plan says that they are missing
	}
	ask := func(m *view.Member, c verb.Fit) verb.Fitted {
		if !slices.Contains(m.Last.Abilities, string(c.Verb())) {
			in.FitProblem = "the agent of " + m.Name + " cannot tell: it is of an older version"
			return verb.Fitted{}
		}
		f, err := agentapi.Ask(ctx, s.doer(in.View.Cluster, m.Name), agentapi.Request{Term: in.NextTerm - 1}, c)
		if err != nil {
			in.FitProblem = err.Error()
		}
		return f
	}
	if in.Request.Kind == operation.Restart {
		f := ask(target, verb.Fit{Itself: true})
		in.Fit = &f
		return
	}
	f := ask(target, verb.Fit{Spaces: owner.Last.Data.Spaces, Others: in.OthersSpaces(target.Name),
		Limits: in.Limits(), Apart: owner.Last.Config.Apart})
	if in.CopiesConfig(target.Name) && target != owner {
		f.Misfits = append(f.Misfits, ask(owner, verb.Fit{Itself: true}).Misfits...)
	}
	in.Fit = &f
}

func (s *Service) probeOne(ctx context.Context, in *plan.Input, from string, to view.Member) verb.Probed {
	peer := verb.Peer{Name: to.Name, Host: to.Last.Host.Address.Host, Port: to.Last.Host.Address.Port}
	if to.Last.Encryption != nil {
		peer.Proof = to.Last.Encryption.State
	}
	r, err := agentapi.Ask(ctx, servers{s}.at(in.View.Cluster, from), agentapi.Request{Term: in.NextTerm - 1},
		verb.Probe{Peer: peer})
	if err != nil {
		return verb.Probed{Problem: err.Error()}
	}
	if r.OK && to.Last.Data.System != "" && r.System != to.Last.Data.System {
		return verb.Probed{Problem: fmt.Sprintf("another server answers there: system identifier %s, not %s", r.System,
			to.Last.Data.System)}
	}
	return r
}

// examine has a server's data held against the primary's history. With rows, the
// primary is asked for what a tail's log leaves open.
func (s *Service) examine(ctx context.Context, in *plan.Input, server string, rows bool) (*verb.Examination, error) {
	t, _, err := s.target(in.View.Cluster, server)
	primary := in.Member(in.View.Primary)
	if err != nil || primary == nil || primary.Last == nil {
		return nil, err
	}
	log, at := primary.Last.Log, primary.Last.Host.Address
	x, err := s.agents.Examine(s.permitted(ctx, t), t, verb.Examine{Line: log.Line, Past: log.Past, Written: log.Written,
		Primary: verb.Peer{Name: primary.Name, Agent: primary.Agent, Host: at.Host, Port: at.Port}})
	if err != nil {
		s.log.Warn("examination failed", "cluster", in.View.Cluster, "server", server, "error", err)
		return nil, nil // the plan says that it could not be examined
	}
	if x.Tail != nil && rows {
		s.completeTail(ctx, in.View.Cluster, in.View.Primary, x.Tail)
	}
	return x, nil
}

// completeTail asks the primary for what a log without names and values leaves
// open: the tables behind file numbers (up to the fork both servers used the
// same files; a table made in the tail has no name there), and the rows as they
// were at the fork.
func (s *Service) completeTail(ctx context.Context, cluster, primary string, t *tail.Tail) {
	target, _, err := s.target(cluster, primary)
	if err != nil {
		return
	}
	ask := t.Places()
	if t.Unnamed {
		if names, err := s.agents.Names(ctx, target, t.Files()); err == nil {
			t.Name(names)
		}
	}
	var found tail.RowsAt
	why := "no log of before the fork is left on the server with the tail, which tells old versions from new ones"
	if len(ask.Places) > 0 && ask.Next != 0 {
		if found, err = s.agents.RowsAt(ctx, target, ask); err != nil {
			s.log.Warn("rows of before the fork could not be read", "cluster", cluster, "server", primary, "error", err)
			found, why = nil, primary+" could not be asked"
		}
	}
	t.FillBefore(primary, found, why)
}

// Tail examines a server and gives what only it has.
func (s *Service) Tail(ctx context.Context, cluster, server string) (*verb.Examination, error) {
	in, err := s.gather(ctx, cluster, operation.Request{Kind: operation.Salvage, Server: server}, false)
	if err != nil {
		return nil, err
	}
	if server == in.View.Primary {
		return nil, badInput("%s is the primary of %s: its writes are the cluster's own", server, cluster)
	}
	if in.Examination == nil {
		return nil, fmt.Errorf("%s's data could not be examined: check that its agent runs, and read the agent's log", server)
	}
	return in.Examination, nil
}

// SalvageFile copies a saved tail from the agent that holds it.
func (s *Service) SalvageFile(ctx context.Context, cluster, server, file string,
	w interface{ Write([]byte) (int, error) }) error {
	t, _, err := s.target(cluster, server)
	if err != nil {
		return err
	}
	if strings.ContainsAny(file, "/\\") {
		return badInput("%q is not the name of a salvage", file)
	}
	return s.agents.Salvage(ctx, t, file, w)
}

func sortProbes(p []plan.Probe) {
	slices.SortFunc(p, func(a, b plan.Probe) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) })
}
