package postgres

import (
	"testing"

	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/verb"
)

// A primary that is told its list again keeps from where on its commits wait. A replica that is
// told the list of its last time as primary begins anew: what was acknowledged in between is no
// part of what was proven then.
func TestToldAgain(t *testing.T) {
	p := primary(t)
	list := verb.Synchronize{List: synchronous.List{Need: 1, Names: []string{"tern"}}, Standbys: []string{"tern"}}
	if err := p.Synchronize(p.ctx(), list); err != nil {
		t.Fatal(err)
	}
	first := p.told()
	if !first.Proven || first.At == "" {
		t.Fatalf("told once: %+v", first)
	}
	if err := p.Synchronize(p.ctx(), list); err != nil {
		t.Fatal(err)
	}
	if again := p.told(); again.At != first.At {
		t.Errorf("proven from %s on, and when told again from %s on", first.At, again.At)
	}
	off := verb.Synchronize{}
	if err := p.Synchronize(p.ctx(), off); err != nil {
		t.Fatal(err)
	}

	r := replicaOf(t, p)
	if err := r.keepTold(first); err != nil {
		t.Fatal(err)
	}
	if err := r.Synchronize(r.ctx(), list); err != nil {
		t.Fatal(err)
	}
	if got := r.told(); !got.Proven || got.At != "" {
		t.Errorf("a replica that was primary before: %+v", got)
	}
}
