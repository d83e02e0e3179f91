package pgtool

import (
	"strings"
	"testing"
)

// A reason comes from the processes of replication, never from an application.
func TestLinkProblem(t *testing.T) {
	const (
		connect = "2026-11-28 21:00:00.000 UTC [7] FATAL:  could not connect to the primary server: " +
			`connection to server at "127.0.0.1", port 5432 failed: Connection refused`
		detail = "\tIs the server running on that host and accepting TCP/IP connections?"
		app    = "2026-11-28 21:00:01.000 UTC [8] ERROR:  cannot execute INSERT in a read-only transaction"
		login  = `2026-11-28 21:00:02.000 UTC [9] FATAL:  password authentication failed for user "harbour"`
		told   = "2026-11-28 21:00:03.000 UTC [9] STATEMENT:  select 'ERROR:  could not receive data'"
		fork   = "2026-11-28 21:00:04.000 UTC [5] LOG:  new timeline 3 forked off current database system timeline 2 " +
			"before current recovery point 0/5000000"
		waiting = "2026-11-28 21:00:05.000 UTC [5] LOG:  waiting for WAL to become available at 0/5000018"
	)
	for _, c := range []struct {
		lines []string
		want  string
	}{
		{nil, ""},
		{[]string{app, login}, ""},
		{[]string{connect, detail, app, login}, "could not connect to the primary server: connection to server at"},
		{[]string{connect, detail, fork, waiting, app}, "new timeline 3 forked off"},
		{[]string{app, waiting}, ""},
		{[]string{connect, told}, "could not connect to the primary server"},
	} {
		got := LinkProblem(strings.Join(c.lines, "\n"))
		if !strings.HasPrefix(got, c.want) || (c.want == "") != (got == "") {
			t.Errorf("%q: %q, want %q", c.lines, got, c.want)
		}
	}
}
