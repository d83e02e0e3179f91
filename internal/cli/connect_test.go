package cli

import (
	"strings"
	"testing"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/view"
)

// Who writes is told of the primary first and of those that may take its place; who reads of
// those that are kept for readers, and of the primary last.
func TestConnectionOf(t *testing.T) {
	server := func(name string, h view.Health, rank int, hidden bool) view.Server {
		return view.Server{Name: name, Health: h, Placement: cluster.Placement{Rank: rank, Hidden: hidden},
			Observation: &observation.Server{Host: observation.Host{Address: observation.Address{Host: name, Port: 5432}}}}
	}
	v := view.View{Cluster: "bookings", Engine: "postgresql", Primary: "tern", Servers: []view.Server{
		server("gull", view.Stalled, 1, false), server("tern", view.TakesWrites, 2, false),
		server("heron", view.InStep, 0, true), server("petrel", view.InStep, 3, false), server("skua", view.InStep, 0, false),
		{Name: "dunlin", Health: view.Unseen, Placement: cluster.Placement{Rank: 4}}}}
	delayed := server("fulmar", view.InStep, 0, false)
	delayed.DelaySeconds = 3600
	v.Servers = append(v.Servers, delayed)
	for _, c := range []struct {
		reader bool
		want   string
	}{{false, "tern petrel gull"}, {true, "skua petrel gull tern"}} {
		out, err := connectionOf(v, dialect.URI, dialect.Target{Reader: c.reader})
		if err != nil || strings.Join(out.Servers, " ") != c.want || out.Note != "" {
			t.Errorf("reader %t: %+v %v, want %s", c.reader, out, err, c.want)
		}
	}
	v.Engine = "mariadb"
	out, err := connectionOf(v, dialect.URI, dialect.Target{})
	if err != nil || out.Text != "mariadb://tern:5432/" || !strings.Contains(out.Note, "which takes writes now") {
		t.Errorf("%+v %v", out, err)
	}
	v.Servers[1].Health = view.Stopped
	if out, _ := connectionOf(v, dialect.URI, dialect.Target{}); !strings.Contains(out.Note, "does not now") {
		t.Errorf("%s", out.Note)
	}
	v = view.View{Cluster: "bookings", Engine: "postgresql"}
	if _, err := connectionOf(v, dialect.URI, dialect.Target{}); err == nil {
		t.Error("somewhere to connect to without a server")
	}
}
