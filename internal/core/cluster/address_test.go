package cluster

import (
	"strings"
	"testing"
)

func TestCheckHost(t *testing.T) {
	for _, good := range []string{"harbour", "db-1.skerry.example", "10.0.0.1", "2001:db8::1", "A", "1a.example", "db_1",
		strings.Repeat("a", 63) + ".example"} {
		if err := CheckHost(good); err != nil {
			t.Error(err)
		}
	}
	for _, bad := range []string{"", "all", "ALL", "samenet", "samehost", ".example", "a b", "a\nhost all all all trust",
		"a,b", "10.0.0.0/8", "0.0.0.0", "::", "fe80::1%eth0", "1.2.3", "300.1.1.1", "-a", "a-", "a..b", `a"b`, "a#b", "höfn",
		"224.0.0.1", strings.Repeat("a", 64), strings.Repeat("a.", 127) + "ab"} {
		if CheckHost(bad) == nil {
			t.Errorf("%q passes", bad)
		}
	}
	for address, ok := range map[string]bool{"harbour:7720": true, "[2001:db8::1]:1": true,
		"harbour": false, "harbour:0": false,
		"harbour:65536": false, "harbour:x": false, "all:1": false, "h:1:2": false} {
		if (CheckHostPort(address) == nil) != ok {
			t.Errorf("%q", address)
		}
	}
}

func FuzzCheckHost(f *testing.F) {
	f.Add("harbour")
	f.Add("10.0.0.1\n")
	f.Fuzz(func(t *testing.T, host string) {
		if CheckHost(host) == nil && strings.ContainsAny(host, " \t\r\n\v\f\"',#/*\\\x00;%") {
			t.Errorf("%q passes", host)
		}
	})
}

// A placement changes in what is said and stays in the rest; what cannot be meant is refused.
func TestPlacementChange(t *testing.T) {
	p := Placement{Rank: 2, Site: "island"}
	clients, never, none := "db.example:6432", 0, ""
	q := p.With(Change{Clients: &clients})
	if q != (Placement{Rank: 2, Site: "island", Clients: clients}) || q.Check() != nil {
		t.Errorf("%+v %v", q, q.Check())
	}
	if q := p.With(Change{Rank: &never, Site: &none}); q != (Placement{}) || q.Check() != nil {
		t.Errorf("%+v", q)
	}
	for _, wrong := range []Placement{{Rank: -1}, {Clients: "db"}, {Clients: "db:0"}, {Clients: "a b:1"},
		{Clients: ":1"}} {
		if wrong.Check() == nil {
			t.Errorf("taken: %+v", wrong)
		}
	}
}
