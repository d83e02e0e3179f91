package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// A server that a person's own commands start and stop is started by those from then on:
// through a switchover, a crash with a failover, and a rejoin.
func TestStartedByCommands(t *testing.T) { anEngine(t, true, startedByCommands) }

func startedByCommands(t *testing.T, w *world) {
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	w.settled()
	for _, name := range []string{"gull", "tern"} {
		w.givenCommands(w.server(name))
	}
	w.settled()
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover})
	if !w.mariadb() { // whose roles turn without a restart
		w.called("gull", "start")
	}
	w.settled()
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Restart, Server: w.as("tern")})
	w.called("tern", "start")
	w.settled()
	demo.KillDatabase(w.server("tern"))
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Failover})
	w.called("tern", "stop") // whatever watches over it starts it no more
	load.Stop()
	lost := w.named(load)
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "tern"})
	w.called("tern", "start")
	w.settled()
	w.holdsAll(load, lost, "gull", "tern")

	// One that does not start says what its command said.
	refuses := "#!/bin/sh\necho the mooring is taken >&2\nexit 1\n"
	if err := os.WriteFile(w.commandOf("tern", "start"), []byte(refuses), 0o700); err != nil {
		t.Fatal(err)
	}
	demo.StopDatabase(w.server("tern"))
	w.must(4, []string{"the mooring is taken"}, "rejoin", "bookings", "tern", "--yes", "--accept-loss", "tern")
}

func (w *world) commandOf(server, action string) string {
	return filepath.Join(w.Dir, w.as(server)+"-"+action)
}

// givenCommands enrols a server's agent again, with commands that note that they were called.
func (w *world) givenCommands(s *demo.Server) {
	w.t.Helper()
	lines := map[string]string{
		"start":  fmt.Sprintf("setsid mariadbd --defaults-file=%s >>%s 2>&1 &", s.ConfigFile, s.LogFile),
		"stop":   "true",
		"status": fmt.Sprintf("for p in /proc/[0-9]*; do [ \"$(readlink $p/cwd)\" = %s ] && exit 0; done; exit 3", s.DataDir),
	}
	if !w.mariadb() {
		ctl := "/usr/lib/postgresql/15/bin/pg_ctl -D " + s.DataDir
		lines = map[string]string{"start": ctl + " -l " + s.LogFile + " -w start", "stop": ctl + " stop || true",
			"status": ctl + " status"}
	}
	for action, line := range lines {
		text := "#!/bin/sh\necho " + action + " >>" + w.commandOf(s.Name, "called") + "\n" +
			asOwner(s) + "/bin/sh -c '" + line + "'\n"
		if err := os.WriteFile(w.commandOf(s.Name, action), []byte(text), 0o700); err != nil {
			w.t.Fatal(err)
		}
	}
	if err := w.KillAgent(s.Name); err != nil {
		w.t.Fatal(err)
	}
	var code struct{ Code string }
	out, _, _ := w.run("server", "code", "bookings", s.Name, "-o", "json")
	if err := json.Unmarshal([]byte(out), &code); err != nil {
		w.t.Fatal(err)
	}
	again := []string{"agent", "enroll", "--dir", s.AgentDir, "--code", code.Code, "--start-command",
		w.commandOf(s.Name, "start"), "--stop-command", w.commandOf(s.Name, "stop"), "--status-command"}
	w.must(1, []string{"it has to end with 0 while the server runs"}, append(again, "exit 5")...)
	w.must(0, []string{"started by " + w.commandOf(s.Name, "start"), "enrolled as " + s.Name},
		append(again, w.commandOf(s.Name, "status"))...)
	started := time.Now()
	if err := w.StartAgent(w.ctx, s.Name); err != nil {
		w.t.Fatal(err)
	}
	if err := w.Await(w.ctx, func(v view.View) bool {
		o := v.Find(s.Name)
		contact := v.At.Add(-time.Duration(o.LastContactSeconds * float64(time.Second)))
		return o.LastContactSeconds >= 0 && contact.After(started) && // with the agent as it is now
			(o.Health == view.TakesWrites || o.Health == view.InStep)
	}); err != nil {
		w.t.Fatal(err)
	}
}

// asOwner has a command run as the user of a server's data, whoever runs the agent.
func asOwner(s *demo.Server) string {
	fi, err := os.Stat(s.DataDir)
	if err != nil || os.Geteuid() != 0 {
		return ""
	}
	id := fi.Sys().(*syscall.Stat_t)
	return fmt.Sprintf("setpriv --reuid %d --regid %d --clear-groups -- ", id.Uid, id.Gid)
}

// called makes sure that a server's command was called since the last time.
func (w *world) called(server, action string) {
	w.t.Helper()
	file := w.commandOf(server, "called")
	if b, err := os.ReadFile(file); err != nil || !strings.Contains(string(b), action+"\n") {
		w.t.Errorf("%s's command for a %s was not called: %s %v", server, action, b, err)
	}
	if err := os.Truncate(file, 0); err != nil {
		w.t.Error(err)
	}
}
