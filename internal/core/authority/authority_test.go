package authority

import (
	"testing"
	"time"

	"crosstwin/internal/core/observation"
)

func TestLackOf(t *testing.T) {
	see := func(by, database string, trusts ...string) *observation.Server {
		o := &observation.Server{CertificateBy: by, Trusts: trusts}
		if database != "" {
			o.Encryption = &observation.Encryption{CertificateEnds: time.Now(), CertificateBy: database}
		}
		return o
	}
	for _, c := range []struct {
		what    string
		seen    *observation.Server
		stage   Stage
		trusted []string
		want    Lack
	}{
		{"at rest", see("a", "a", "a"), "", []string{"a"}, ""},
		{"at rest, an agent of before that says nothing", see("", ""), "", []string{"a"}, ""},
		{"still trusts the former one", see("b", "b", "b", "a"), "", []string{"b"}, LacksTrust},
		{"an agent of before that says nothing", see("", ""), Introducing, []string{"a", "b"}, LacksTrust},
		{"told", see("a", "a", "a", "b"), Introducing, []string{"a", "b"}, ""},
		{"not told that the other signs", see("a", "a", "a", "b"), Renewing, []string{"b", "a"}, LacksTrust},
		{"agent not renewed", see("a", "a", "b", "a"), Renewing, []string{"b", "a"}, LacksCertificate},
		{"database not renewed", see("b", "a", "b", "a"), Renewing, []string{"b", "a"}, LacksDatabase},
		{"database of neither", see("b", "-", "b", "a"), Renewing, []string{"b", "a"}, LacksDatabase},
		{"database without one", see("b", "", "b", "a"), Renewing, []string{"b", "a"}, ""},
		{"all renewed", see("b", "b", "b", "a"), Renewing, []string{"b", "a"}, ""},
	} {
		if got := LackOf(c.seen, c.stage, c.trusted); got != c.want {
			t.Errorf("%s: lacks %q, not %q", c.what, got, c.want)
		}
	}
	for _, c := range []struct {
		servers []Server
		want    bool
	}{{nil, true}, {[]Server{{Server: "tern"}}, true}, {[]Server{{}, {Lacks: LacksTrust}}, false},
		{[]Server{{Unreachable: "silent"}, {}}, false}} {
		if got := (State{Servers: c.servers}).Complete(); got != c.want {
			t.Errorf("%+v: complete %v", c.servers, got)
		}
	}
}
