package host

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosstwin/test/workdir"
)

// A server that a command starts is awaited as one of a unit is: until it answers, until it
// has ended again, until its command failed. Afterwards the host is told of its end.
func TestStartByCommand(t *testing.T) {
	t.Parallel()
	dir := workdir.New(t, "ctc")
	if os.Geteuid() == 0 {
		const nobody = 65534
		if err := os.Chown(dir, nobody, nobody); err != nil {
			t.Fatal(err)
		}
	}
	told := filepath.Join(dir, "told")
	status := "for p in /proc/[0-9]*; do [ \"$(readlink $p/cwd)\" = " + dir + " ] && exit 0; done; exit 3"
	data := func(start string) *Data {
		return &Data{Name: "tern", Dir: dir, Process: "sleep", Commands: Commands{Start: "cd " + dir + "; " + start,
			Stop: "echo stop >>" + told, Status: status}}
	}
	await := func(d *Data) (*Server, error) {
		s, err := d.StartByHost(t.Context(), filepath.Join(dir, "log"))
		if err != nil {
			t.Fatal(err)
		}
		return s, s.Await(t.Context(), func() bool { return len(d.Processes()) > 0 }, 5*time.Millisecond)
	}
	d := data("sleep 1000 & true")
	if err := d.Commands.Try(t.Context(), false); err != nil {
		t.Error(err)
	}
	if _, err := await(d); err != nil {
		t.Fatal(err)
	}
	if err := d.Commands.Try(t.Context(), true); err != nil {
		t.Error(err)
	}
	if err := d.Commands.Try(t.Context(), false); err == nil || !strings.Contains(err.Error(), "and it does not") {
		t.Errorf("a status that is not so: %v", err)
	}
	if left := d.KillNow(10 * time.Second); len(left) > 0 {
		t.Fatalf("%v do not end", left)
	}
	if err := d.EndByHost(t.Context()); err != nil {
		t.Error(err)
	}
	if b, _ := os.ReadFile(told); string(b) != "stop\n" {
		t.Errorf("the host was told %q", b)
	}
	if err := d.SettleHost(t.Context()); err != nil {
		t.Error(err)
	}
	if _, err := await(data("echo the mooring is taken; exit 7")); err == nil ||
		!strings.Contains(err.Error(), "exit status 7; its log says: the mooring is taken") {
		t.Errorf("a command that fails: %v", err)
	}
	if err := (Commands{Start: "true", Status: "exit 5"}).Try(t.Context(), false); err == nil ||
		!strings.Contains(err.Error(), "it has to end with 0") {
		t.Errorf("a status that says neither: %v", err)
	}
}

// A server is not fenced while whatever watches over it has started it again: it is told, and
// what came of it is killed too.
func TestKillAllEndsWhatWasStartedMeanwhile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	start := "cd " + dir + "; sleep 1000 </dev/null >/dev/null 2>&1 &"
	d := &Data{Name: "tern", Dir: dir, Process: "sleep", Commands: Commands{Start: start, Stop: start}}
	calls := []string{}
	closed := func() error { calls = append(calls, "closed"); return nil }
	tell := func(ctx context.Context) error {
		calls = append(calls, "told")
		err := d.EndByHost(ctx) // this one starts it
		for end := time.Now().Add(10 * time.Second); len(d.Processes()) == 0 && time.Now().Before(end); {
			time.Sleep(5 * time.Millisecond)
		}
		if len(d.Processes()) == 0 {
			t.Error("nothing was started: the test shows nothing")
		}
		return err
	}
	if err := d.KillAll(t.Context(), closed, tell); err != nil || len(d.Processes()) > 0 {
		t.Errorf("%v, %v are left", err, d.Processes())
	}
	if got := strings.Join(calls, " "); got != "closed told" {
		t.Errorf("%s", got)
	}
	refused := errors.New("not told")
	if err := d.KillAll(t.Context(), closed, func(context.Context) error { return refused }); !errors.Is(err, refused) {
		t.Errorf("nobody knows that it was meant, and: %v", err)
	}
}
