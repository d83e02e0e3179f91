package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/apitype"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
	"crosstwin/internal/freeport"
)

// twoAndReferee: of two servers and a referee, the agent without a database makes the
// majority that a failover needs, and with which the server that is left goes on when the
// service is started again.
func twoAndReferee(t *testing.T, w *world) {
	w.fenced()
	w.must(2, []string{"without heron bookings would have 2 agents of the 3 that it needs"}, "server", "remove",
		"bookings", "heron", "--yes")
	w.unfenced()
	w.must(0, nil, "server", "remove", "bookings", "heron", "--yes")
	w.must(2, []string{"fencing needs three servers, or two and a referee"}, "cluster", "set", "bookings", "--fencing",
		"on")
	referee := w.startReferee()
	w.must(2, []string{"nothing of it can be set"}, "server", "set", "bookings", "cairn", "--rank", "1")
	w.must(2, []string{"cairn is a referee of bookings and has no database"}, "server", "show", "bookings", "cairn")
	w.must(0, []string{"cairn", "referee", "answers"}, "server", "list", "bookings")
	w.must(0, nil, "cluster", "set", "bookings", "--fencing", "on", "--automatic", "on", "--quiet-seconds", "0",
		"--rejoin", "after saving the tail", "--loss-bytes", "100000000", "--loss-transactions", "1000000")
	w.fenced()
	w.says([]string{"cairn: referee,", "has noted term"}, "status", "bookings")

	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	lost := w.hostLost(load)
	w.fenced() // gull comes back by itself
	w.onlyOneLeft(load)
	w.refereeForgets(referee, load)
	load.Stop()
	w.settled()
	w.holdsAll(load, lost, "gull", "tern")
	w.must(0, nil, "cluster", "set", "bookings", "--automatic", "off")
	w.unfenced()
	w.must(0, []string{"server cairn removed from bookings"}, "server", "remove", "bookings", "cairn", "--yes")
}

// refereeProcess is a referee that may be killed and started again.
type refereeProcess struct {
	w   *world
	dir string
	p   *exec.Cmd
}

// startReferee adds a referee as a user does, and starts it.
func (w *world) startReferee() *refereeProcess {
	w.t.Helper()
	var code apitype.EnrolmentCode
	out := w.must(0, nil, "server", "add", "bookings", "cairn", "--referee", "-o", "json")
	if err := json.Unmarshal([]byte(out), &code); err != nil || !code.Referee {
		w.t.Fatalf("%v: %s", err, out)
	}
	r := &refereeProcess{w: w, dir: filepath.Join(w.Dir, "cairn")}
	address := "127.0.0.1:" + strconv.Itoa(freeport.Next())
	w.must(1, []string{"the code is for a referee of bookings"}, "agent", "enroll", "--code", code.Code, "--data-dir",
		filepath.Join(w.Dir, "none"), "--host", "127.0.0.1", "--dir", filepath.Join(w.Dir, "no-agent"))
	w.must(2, []string{"say with --host"}, "referee", "enroll", "--code", code.Code, "--dir", r.dir)
	w.must(0, []string{"referee of cluster bookings"}, "referee", "enroll", "--code", code.Code, "--dir", r.dir,
		"--listen", address, "--advertise", address)
	r.start()
	w.t.Cleanup(r.kill)
	w.await(func(v view.View) bool { return len(v.Referees) == 1 && v.Referees[0].Answers })
	return r
}

func (r *refereeProcess) start() {
	r.w.t.Helper()
	r.p = exec.Command(binary, "referee", "--dir", r.dir)
	log, err := os.OpenFile(r.dir+".log", os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		r.w.t.Fatal(err)
	}
	defer log.Close()
	r.p.Stdout, r.p.Stderr = log, log
	if err := r.p.Start(); err != nil {
		r.w.t.Fatal(err)
	}
}

func (r *refereeProcess) kill() {
	r.p.Process.Kill()
	r.p.Wait()
}

// hostLost: everything of the primary's host stands still, and never goes on: it is started
// anew. Its replica and the referee are the majority.
func (w *world) hostLost(load *demo.Workload) (lost []string) {
	gull := w.server("gull")
	still := append(processesIn(gull.DataDir), w.AgentPID(w.as("gull")), w.DeadmanPID(w.as("gull")))
	for _, pid := range still {
		syscall.Kill(pid, syscall.SIGSTOP)
	}
	w.await(func(v view.View) bool {
		s := w.find(v, "tern")
		return v.Primary == s.Name && s.Health == view.TakesWrites && v.Operation == nil
	})
	lost = w.lost(load)
	for _, pid := range still {
		syscall.Kill(pid, syscall.SIGKILL)
	}
	if err := w.KillAgent(w.as("gull")); err != nil {
		w.t.Fatal(err)
	}
	if err := w.StartAgent(w.ctx, w.as("gull")); err != nil {
		w.t.Fatal(err)
	}
	w.await(func(v view.View) bool {
		s := w.find(v, "gull")
		return s.Health != view.Unseen && s.Health != view.TakesWrites
	})
	if n := w.writable(); n != 1 {
		w.t.Fatalf("%d servers take writes", n)
	}
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
	return lost
}

// onlyOneLeft: while the other server's agent is away the service is started again. It knows
// the newest term by the primary and the referee, and writes go on.
func (w *world) onlyOneLeft(load *demo.Workload) {
	if err := w.KillAgent(w.as("gull")); err != nil {
		w.t.Fatal(err)
	}
	w.await(func(v view.View) bool { return w.find(v, "gull").Health == view.Unseen })
	syscall.Kill(w.ServicePID(), syscall.SIGKILL)
	if err := w.WaitServiceGone(w.ctx); err != nil {
		w.t.Fatal(err)
	}
	if err := w.StartService(w.ctx); err != nil {
		w.t.Fatal(err)
	}
	w.await(func(v view.View) bool {
		s := w.find(v, "tern")
		return s.Health == view.TakesWrites && permission(s).GrantSeconds > 0 && w.find(v, "gull").Health == view.Unseen
	})
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
	if err := w.StartAgent(w.ctx, w.as("gull")); err != nil {
		w.t.Fatal(err)
	}
	w.fenced()
}

// refereeForgets: one that can write nothing down holds nobody up, one that does not answer
// is a problem, and one that has lost what it noted
// counts again once the others have told the newest term.
func (w *world) refereeForgets(r *refereeProcess, load *demo.Workload) {
	// It answers, and cannot write down what it notes: both servers are a majority.
	full := filepath.Join(r.dir, w.Name, "state.json.new")
	if err := os.Mkdir(full, 0o700); err != nil {
		w.t.Fatal(err)
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: "gull"})
	if err := os.Remove(full); err != nil {
		w.t.Fatal(err)
	}
	w.fenced()
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: "tern"})
	w.fenced()
	r.kill()
	w.says([]string{"referee cairn does not answer"}, "status", "bookings")
	if err := os.Remove(filepath.Join(r.dir, w.Name, "state.json")); err != nil {
		w.t.Fatal(err)
	}
	r.start()
	w.await(func(v view.View) bool { return v.Referees[0].Answers && v.Referees[0].Noted == v.Term })
	for end := time.Now().Add(time.Minute); ; time.Sleep(100 * time.Millisecond) {
		b, err := os.ReadFile(filepath.Join(r.dir, w.Name, "state.json"))
		if err == nil && !strings.Contains(string(b), `"lost"`) {
			break
		}
		if time.Now().After(end) {
			w.t.Fatalf("the referee has no vote: %s %v", b, err)
		}
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: "gull"})
	w.fenced()
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
}
