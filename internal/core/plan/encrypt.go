package plan

import (
	"cmp"
	"fmt"
	"strings"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// encrypt plans that every replica follows encrypted and has its upstream prove itself,
// without an outage: a replica may be restarted for it, the primary is not.
func (in *Input) encrypt(p *operation.Plan) error {
	primary := in.View.Primary
	p.Summary = "Have the replicas of " + in.View.Cluster + " follow encrypted, and their upstreams prove themselves."
	up := in.checkPrimary(p)
	var names []string
	for _, m := range in.Members {
		names = append(names, m.Name)
	}
	in.checkAgents(p, names...)
	if _, refused := p.Refused(); !up || refused {
		return nil
	}
	for i := range in.Members {
		in.checkEncryptable(p, &in.Members[i])
	}
	var replicas []string
	for _, m := range in.Members {
		if s := in.View.Find(m.Name); m.Name != primary && s != nil {
			ok := s.Health == view.InStep || s.Health == view.Behind
			p.AddCheck(operation.Check{Name: "Healthy server", Server: m.Name, Result: verdict(ok, operation.Fail),
				Evidence: m.Name + " " + words.Said(string(s.Health), 1), Mend: mendIf(!ok, "crosstwin status "+in.View.Cluster)})
			replicas = append(replicas, m.Name)
		}
	}
	in.stepsPrepare(p, "")
	restarted := in.stepsRestartToEncrypt(p, replicas)
	touched := in.stepsFollowEncrypted(p, replicas, restarted)
	in.roundOff(p, replicas, touched)
	return nil
}

// checkEncryptable makes sure that a server has something to encrypt with.
func (in *Input) checkEncryptable(p *operation.Plan, m *view.Member) {
	c := operation.Check{Name: "Certificate for the database", Server: m.Name, Result: operation.Pass}
	switch e := m.Last.Encryption; {
	case e == nil:
		c.Result, c.Evidence = operation.Fail, "the agent of "+m.Name+" is of a version that encrypts nothing"
		c.Mend = "install this version of crosstwin there, and restart the agent"
	case e.State == observation.ProofOther:
		c.Evidence = m.Name + " takes encrypted connections by a certificate of its own, which stays"
	case e.CertificateEnds.IsZero():
		c.Result, c.Evidence = operation.Fail, m.Name+" has no certificate"
		c.Mend = "the service signs one for the address at which it reaches the agent, " + m.Agent + ": enroll the agent " +
			"with that as --host; or set up a certificate of your own in the server"
	default:
		c.Evidence = m.Name + " has a certificate of the service, until " + e.CertificateEnds.Format("2006-01-02")
	}
	p.AddCheck(c)
}

// stepsRestartToEncrypt restart those replicas whose server reads the settings of its
// encryption at its start only.
func (in *Input) stepsRestartToEncrypt(p *operation.Plan, replicas []string) map[string]bool {
	restarted := map[string]bool{}
	if in.dialect().EncryptsRunning {
		return restarted
	}
	for _, n := range replicas {
		if in.proofOf(n) != observation.ProofNone {
			continue
		}
		restarted[n] = true
		in.willEncrypt(n)
		start := startReplica(n, "read the server's log; it is closed for writes")
		start.Name = "start-" + n
		start.After = append(start.After, operation.Condition{Kind: operation.TakesEncrypted, Server: n,
			Values: []string{string(observation.ProofAuthority)}})
		p.AddStep(operation.Step{Name: "stop-" + n,
			Action: operation.Action{Title: "Stop " + n + " cleanly", Server: n, Call: verb.Seal(verb.Fence{Gently: true})},
			After:  []operation.Condition{{Kind: operation.IsStopped, Server: n}}, Seconds: 0.3, Limit: 120,
			Undo: putBack(operation.Action{Title: "Start " + n + " as replica", Server: n,
				Call: verb.Seal(verb.Start{As: observation.Replica})}),
			IfFails: n + " is started again"})
		p.AddStep(start)
		p.Effects = append(p.Effects, "all connections to "+n+" end once; writes are not touched")
		in.stepFollowEncrypted(p, n)
	}
	return restarted
}

// stepsFollowEncrypted have the replicas insist on what their upstreams can prove now.
func (in *Input) stepsFollowEncrypted(p *operation.Plan, replicas []string, done map[string]bool) (touched []string) {
	for _, n := range replicas {
		up := in.View.Find(n).Follows
		switch {
		case done[n]:
			touched = append(touched, n)
		case in.Member(up) == nil || in.proofOf(up) == "" || in.insists(n) == in.proofOf(up):
		default:
			in.stepFollowEncrypted(p, n)
			touched = append(touched, n)
		}
	}
	return touched
}

func (in *Input) stepFollowEncrypted(p *operation.Plan, name string) {
	up := in.View.Find(name).Follows
	how := map[observation.Proof]string{observation.ProofAuthority: "encrypted, and have it prove itself",
		observation.ProofOther: "encrypted"}[in.proofOf(up)]
	p.AddStep(operation.Step{Name: "follow-" + name,
		Action: operation.Action{Title: strings.TrimSpace("Have " + name + " follow " + up + " " + how), Server: name,
			Call: verb.Seal(verb.Follow{Upstream: in.peer(up), Slot: in.slotFor(name)})}, Seconds: 0.3,
		Limit: 60 + in.delayOf(name), Tries: followTries, PatienceSeconds: followPatience, OnFail: operation.NeedsYou,
		After: []operation.Condition{in.follows(name, up), {Kind: operation.FollowsEncrypted, Server: name,
			Values: []string{string(cmp.Or(in.proofOf(up), observation.ProofNone))}}},
		IfFails: name + " does not follow: crosstwin rejoin " + in.View.Cluster + " " + name})
}

// roundOff lets the account in by encrypted connections only, once nobody uses another,
// and says what is left to do.
func (in *Input) roundOff(p *operation.Plan, replicas, touched []string) {
	primary := in.View.Primary
	var clear []string
	for _, n := range replicas {
		if up := in.View.Find(n).Follows; in.proofOf(up) == observation.ProofNone {
			clear = append(clear, n)
		}
	}
	if len(touched) == 0 && len(clear) == 0 {
		p.AddCheck(operation.Check{Name: "Something to change", Result: operation.Fail,
			Evidence: "every replica follows encrypted already"})
	}
	if len(clear) > 0 {
		p.Effects = append(p.Effects, fmt.Sprintf("%s takes encrypted connections from its next start on; until then "+
			"the log goes to %s in the clear. To change that without an outage: crosstwin switchover %s, then "+
			"crosstwin encrypt %s again; or with a pause in writes: crosstwin restart %s %s, "+
			"then crosstwin encrypt %s again", primary,
			words.List(clear), in.View.Cluster, in.View.Cluster, in.View.Cluster, primary, in.View.Cluster))
	} else if !in.dialect().EncryptsRunning {
		p.AddStep(operation.Step{Name: "only-encrypted",
			Action: operation.Action{Title: "Let the replication accounts in by encrypted connections only", Server: primary,
				Call: verb.Seal(verb.Prepare{Peers: in.peers(), Account: true, From: in.peer(primary), Encrypted: true})},
			Seconds: 0.1, IfFails: "the accounts are let in either way"})
	}
	p.Closing = "the replicas of " + in.View.Cluster + " follow encrypted"
	if len(clear) > 0 {
		p.Closing = primary + " takes encrypted connections after its next start; then crosstwin encrypt " +
			in.View.Cluster + " again"
	}
	before := len(p.Steps)
	if len(touched) > 0 {
		in.stepsOfMark(p, primary, touched, "the replicas follow; the proof is missing", notProven)
	}
	p.NeedsYouFrom(before)
}

// willEncrypt notes that a step of this plan has a server take encrypted connections.
func (in *Input) willEncrypt(name string) {
	m := in.Member(name)
	if m == nil || m.Last == nil || m.Last.Encryption == nil || m.Last.Encryption.CertificateEnds.IsZero() {
		return
	}
	if in.encrypted == nil {
		in.encrypted = map[string]bool{}
	}
	in.encrypted[name] = true
}

// proofOf returns what a connection to a server proves, after the steps so far; empty
// when that is not known.
func (in *Input) proofOf(name string) observation.Proof {
	m := in.Member(name)
	if m == nil || m.Last == nil || m.Last.Encryption == nil {
		return ""
	}
	x := m.Last.Encryption
	if in.encrypted[name] && (x.State == observation.ProofNone || x.Placeholder) {
		return observation.ProofAuthority
	}
	return x.State
}

// insists returns what a replica has its upstream prove.
func (in *Input) insists(name string) observation.Proof {
	if m := in.Member(name); m != nil && m.Last != nil && m.Last.Links.Upstream != nil {
		return cmp.Or(m.Last.Links.Upstream.Proof, observation.ProofNone)
	}
	return ""
}

// onlyEncrypted reports whether every server but a target that is set up anew takes
// encrypted connections, and every replica uses one: then the account needs no other.
func (in *Input) onlyEncrypted(target string) bool {
	for _, m := range in.Members {
		switch proof := in.proofOf(m.Name); {
		case m.Name == target || m.Last == nil || !m.Last.Process.Accepting: // its link stays as it was
		case proof == "" || proof == observation.ProofNone:
			return false
		case m.Name != in.View.Primary && (in.insists(m.Name) == "" || in.insists(m.Name) == observation.ProofNone):
			return false
		}
	}
	return true
}

// checkEncryption says how a replica follows.
func (in *Input) checkEncryption(p *operation.Plan, name string) {
	s := in.View.Find(name)
	m := in.Member(name)
	if s == nil || m == nil || m.Last == nil || m.Last.Links.Upstream == nil || m.Last.Encryption == nil {
		return
	}
	up := cmp.Or(s.Follows, "its upstream")
	c := operation.Check{Name: "Encrypted replication", Server: name, Result: operation.Pass,
		Evidence: name + " follows " + up + " encrypted, and has it prove itself by a certificate"}
	switch in.insists(name) {
	case observation.ProofOther:
		c.Evidence = name + " follows " + up + " encrypted, by " + up + "'s own certificate"
	case observation.ProofNone:
		c.Result, c.Evidence = operation.Warn, name+" follows "+up+" without insisting on encryption"
		c.Why = "who reads or changes what goes between them reads or changes the data"
		c.Mend = "crosstwin encrypt " + in.View.Cluster
	}
	p.AddCheck(c)
}
