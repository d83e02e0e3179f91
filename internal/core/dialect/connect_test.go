package dialect

import (
	"strings"
	"testing"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
)

func TestConnection(t *testing.T) {
	gull, tern := observation.Address{Host: "10.0.0.1", Port: 5432}, observation.Address{Host: "fd00::2", Port: 5433}
	two := []observation.Address{gull, tern}
	for _, c := range []struct {
		engine string
		f      Format
		t      Target
		want   string
	}{
		{position.EnginePostgres, URI, Target{Servers: two},
			"postgresql://10.0.0.1:5432,[fd00::2]:5433/?target_session_attrs=read-write"},
		{position.EnginePostgres, URI, Target{Servers: two, Reader: true, User: "ferry boat", Database: "a/b"},
			"postgresql://ferry%20boat@10.0.0.1:5432,[fd00::2]:5433/a%2Fb?target_session_attrs=prefer-standby"},
		{position.EnginePostgres, Env, Target{Servers: two, User: "it's", Database: "bookings"}, "PGHOST=10.0.0.1,fd00::2\n" +
			`PGPORT=5432,5433` + "\n" + `PGUSER='it'\''s'` + "\nPGDATABASE=bookings\nPGTARGETSESSIONATTRS=read-write"},
		{position.EnginePostgres, JDBC, Target{Servers: two, User: "skerry", Database: "bookings"},
			"jdbc:postgresql://10.0.0.1:5432,[fd00::2]:5433/bookings?targetServerType=primary&user=skerry"},
		{position.EnginePostgres, DSN, Target{Servers: two, Reader: true, User: `o'b \x`},
			`host=10.0.0.1,fd00::2 port=5432,5433 user='o\'b \\x' target_session_attrs=prefer-standby`},
		{position.EngineMariaDB, URI, Target{Servers: two, User: "skerry", Database: "cargo"},
			"mariadb://skerry@10.0.0.1:5432/cargo"},
		{position.EngineMariaDB, Env, Target{Servers: two[1:]}, "MYSQL_HOST=fd00::2\nMYSQL_TCP_PORT=5433"},
		{position.EngineMariaDB, JDBC, Target{Servers: two, User: "skerry", Database: "cargo"},
			"jdbc:mariadb://10.0.0.1:5432/cargo?user=skerry"},
		{position.EngineMariaDB, DSN, Target{Servers: two[1:], User: "skerry", Database: "cargo"},
			"skerry@tcp([fd00::2]:5433)/cargo"},
	} {
		if got, err := Of(c.engine).Connection(c.f, c.t); err != nil || got != c.want {
			t.Errorf("%s, %s: %v\n%s\n%s", c.engine, c.f, err, got, c.want)
		}
	}
	for _, c := range []struct {
		f    Format
		t    Target
		says string
	}{{URI, Target{}, "no server is known"}, {"odbc", Target{Servers: two}, "uri, env, jdbc or dsn"}} {
		if _, err := Of(position.EnginePostgres).Connection(c.f, c.t); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.f, err)
		}
	}
}
