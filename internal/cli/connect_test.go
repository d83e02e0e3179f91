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
		out, err := connectionOf(v, dialect.URI, dialect.Target{Reader: c.reader}, false)
		if err != nil || strings.Join(out.Servers, " ") != c.want || out.Note != "" {
			t.Errorf("reader %t: %+v %v, want %s", c.reader, out, err, c.want)
		}
	}
	v.Engine = "mariadb"
	out, err := connectionOf(v, dialect.URI, dialect.Target{}, false)
	if err != nil || out.Text != "mariadb://tern:5432/" || !strings.Contains(out.Note, "which takes writes now") {
		t.Errorf("%+v %v", out, err)
	}
	v.Servers[1].Health = view.Stopped
	if out, _ := connectionOf(v, dialect.URI, dialect.Target{}, false); !strings.Contains(out.Note, "does not now") {
		t.Errorf("%s", out.Note)
	}
	v = view.View{Cluster: "bookings", Engine: "postgresql"}
	if _, err := connectionOf(v, dialect.URI, dialect.Target{}, false); err == nil {
		t.Error("somewhere to connect to without a server")
	}
}

// Where there are gates, applications are told of these; a gate that listens on every address of
// its host, by the one at which the service reaches it.
func TestConnectionThroughGates(t *testing.T) {
	gate := func(name string, writer, reader []string) view.Gate {
		return view.Gate{Name: name, Agent: "10.0.0.9:7750", Shows: &observation.Gate{Writer: writer, Reader: reader}}
	}
	v := view.View{Cluster: "bookings", Engine: "postgresql", Gates: []view.Gate{
		gate("quay", []string{"/run/gate/s", "10.0.0.8:6432"}, nil),
		gate("pier", []string{"0.0.0.0:6432"}, []string{"[::]:6433"}),
		{Name: "mole"}}}
	for _, c := range []struct {
		engine string
		format dialect.Format
		reader bool
		want   string
	}{
		{"postgresql", dialect.URI, false, "postgresql://10.0.0.8:6432,10.0.0.9:6432/"},
		{"postgresql", dialect.JDBC, false, "jdbc:postgresql://10.0.0.8:6432,10.0.0.9:6432/"},
		{"postgresql", dialect.Env, true, "PGHOST=10.0.0.9\nPGPORT=6433"},
		{"mariadb", dialect.JDBC, false, "jdbc:mariadb:sequential://10.0.0.8:6432,10.0.0.9:6432/"},
		{"mariadb", dialect.URI, false, "mariadb://10.0.0.8:6432/"},
	} {
		v.Engine = c.engine
		if out, err := connectionOf(v, c.format, dialect.Target{Reader: c.reader}, false); err != nil || out.Text != c.want {
			t.Errorf("%s %s: %+v %v, want %s", c.engine, c.format, out, err, c.want)
		}
	}
	if _, err := connectionOf(v, dialect.URI, dialect.Target{}, true); err == nil {
		t.Error("directly, without a server")
	}
}
