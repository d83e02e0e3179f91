package plan

import (
	"strings"
	"testing"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

// encrypts says of each member what connections to it prove, and what it insists on.
func encrypts(m []view.Member, states ...observation.Proof) {
	for i, s := range states {
		m[i].Last.Encryption = &observation.Encryption{State: s, CertificateEnds: now.AddDate(0, 3, 0)}
	}
}

// What is changed is what is not encrypted: by a reload where that does, else by a
// restart of replicas, never of the primary; what is encrypted is left alone.
func TestEncrypt(t *testing.T) {
	const off, ours, other = observation.ProofNone, observation.ProofAuthority, observation.ProofOther
	request := operation.Request{Kind: operation.Encrypt}
	for name, c := range map[string]struct {
		in              Input
		refused, effect string
		steps           string
	}{
		"nothing is encrypted": {in: input(request, func(_ *Input, m []view.Member) { encrypts(m, off, off, off) }),
			steps: "prepare prepare-tern prepare-heron follow-tern follow-heron mark mark-on-tern mark-on-heron"},
		"one link is": {in: input(request, func(_ *Input, m []view.Member) {
			encrypts(m, ours, ours, ours)
			m[1].Last.Links.Upstream.Proof = ours
		}), steps: "prepare prepare-tern prepare-heron follow-heron mark mark-on-heron"},
		"all is": {in: input(request, func(_ *Input, m []view.Member) {
			encrypts(m, ours, ours, ours)
			m[1].Last.Links.Upstream.Proof, m[2].Last.Links.Upstream.Proof = ours, ours
		}), refused: "encrypted already"},
		"the administrator's own certificates": {in: input(request, func(_ *Input, m []view.Member) {
			encrypts(m, other, other, other)
		}), steps: "prepare prepare-tern prepare-heron follow-tern follow-heron mark mark-on-tern mark-on-heron"},
		"no certificate yet": {in: input(request, func(_ *Input, m []view.Member) {
			encrypts(m, off, off, off)
			m[2].Last.Encryption.CertificateEnds = now.AddDate(-3000, 0, 0)
			m[2].Last.Encryption = &observation.Encryption{State: off}
		}), refused: "heron has no certificate; the service signs one for the address"},
		"an agent of an older version": {in: input(request, func(_ *Input, m []view.Member) { encrypts(m, off, off) }),
			refused: "encrypts nothing"},
		"MariaDB, nothing is": {in: cargo(request, func(_ *Input, m []view.Member) { encrypts(m, off, off, off) }),
			steps: "prepare prepare-plover prepare-dunlin stop-plover start-plover follow-plover stop-dunlin start-dunlin " +
				"follow-dunlin mark mark-on-plover mark-on-dunlin", effect: "crosstwin switchover cargo"},
		"MariaDB, all but an old primary": {in: cargo(request, func(_ *Input, m []view.Member) {
			encrypts(m, ours, off, ours)
			m[1].Last.Links.Upstream.Proof, m[2].Last.Links.Upstream.Proof = ours, ours
		}), steps: "prepare prepare-plover prepare-dunlin stop-plover start-plover follow-plover only-encrypted mark " +
			"mark-on-plover"},
	} {
		p, err := Make(c.in)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		why, refused := p.Refused()
		if refused != (c.refused != "") || !strings.Contains(why, c.refused) {
			t.Errorf("%s: refused %t: %s", name, refused, why)
		}
		if got := names(p); !refused && got != c.steps {
			t.Errorf("%s:\n%s, want\n%s", name, got, c.steps)
		}
		if !strings.Contains(strings.Join(p.Effects, "\n"), c.effect) {
			t.Errorf("%s: %v", name, p.Effects)
		}
	}
}

func names(p *operation.Plan) string {
	var out []string
	for _, s := range p.Steps {
		out = append(out, s.Name)
	}
	return strings.Join(out, " ")
}

// Who is told to follow is told what the upstream proves then: what it does now, or
// after a step of the same plan that sets it up.
func TestFollowersAreToldTheProof(t *testing.T) {
	const off, ours, other = observation.ProofNone, observation.ProofAuthority, observation.ProofOther
	seed := operation.Request{Kind: operation.Seed, Server: "heron"}
	empty := func(o *observation.Server) {
		*o = observation.Server{Data: observation.Data{Empty: true}, Host: o.Host, Process: observation.Process{
			Version: o.Process.Version, MajorVersion: o.Process.MajorVersion}}
	}
	for state, want := range map[observation.Proof]observation.Proof{off: ours, ours: ours, other: other, "": ""} {
		p, err := Make(input(seed, func(_ *Input, m []view.Member) {
			empty(m[2].Last)
			encrypts(m, state, state)
		}))
		if err != nil {
			t.Fatal(err)
		}
		told := observation.Proof("no step")
		for _, s := range p.Steps {
			if c, ok := s.Call.Call.(verb.Seed); ok {
				told = c.Source.Proof
			}
		}
		if told != want {
			t.Errorf("the primary's state is %q, and the copy is told %q, not %q", state, told, want)
		}
	}
	// The account needs no other way in once everybody uses this one.
	for _, c := range []struct {
		what string
		link observation.Proof
		only bool
	}{{"encrypted links", ours, true}, {"a link in the clear", off, false}, {"an unknown link", "", false}} {
		p, err := Make(input(seed, func(_ *Input, m []view.Member) {
			empty(m[2].Last)
			encrypts(m, ours, ours)
			m[1].Last.Links.Upstream.Proof = c.link
		}))
		if err != nil {
			t.Fatal(err)
		}
		if got := p.Steps[0].Call.Call.(verb.Prepare).Encrypted; got != c.only {
			t.Errorf("%s: only encrypted: %t", c.what, got)
		}
	}
}
