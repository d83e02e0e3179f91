package hosts

import (
	"cmp"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// reboot has a host end, by an orderly shutdown or as if its power were cut, and boots it
// again with what is on its disk.
func (w *world) reboot(name string, orderly bool) {
	w.t.Helper()
	host := w.host(name)
	dir := filepath.Join(cmp.Or(os.Getenv("DEBIAN_HOSTS"), "/tmp/debian-hosts"), host)
	text, err := os.ReadFile(filepath.Join(dir, "pid"))
	if err != nil {
		w.t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		w.t.Fatal(err)
	}
	if orderly {
		w.do("run", host, "systemctl", "poweroff")
	} else {
		syscall.Kill(pid, syscall.SIGKILL)
	}
	for end := time.Now().Add(90 * time.Second); syscall.Kill(pid, 0) == nil; time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			w.t.Fatalf("%s does not end", name)
		}
	}
	outer := exec.Command("setsid", "ip", "netns", "exec", w.net+"-"+host, "unshare", "-m", "-p", "-u", "-i", "-C", "-f",
		"bash", "-c", "hostname "+host+"; . "+filepath.Join(dir, "init"))
	if err := outer.Start(); err != nil {
		w.t.Fatal(err)
	}
	go outer.Wait()
	var first string
	w.until(name+" boots", func() bool {
		out, _ := exec.Command("pgrep", "-P", strconv.Itoa(outer.Process.Pid)).Output()
		first = strings.TrimSpace(string(out))
		return first != ""
	})
	if err := os.WriteFile(filepath.Join(dir, "pid"), []byte(first+"\n"), 0o600); err != nil {
		w.t.Fatal(err)
	}
	w.until(name+" is up", func() bool {
		out, _ := w.do("run", host, "systemctl", "is-system-running")
		return strings.HasPrefix(out, "running") || strings.HasPrefix(out, "degraded")
	})
}

// rebooted tries reboots of both hosts, announced and not: each ends with the roles as before.
func (w *world) rebooted(e engineOf) {
	w.t.Helper()
	defer func() {
		if w.t.Failed() && e.name == "mariadb" {
			const newest = "cd /var/lib/mysql; for f in $(ls -t *bin.0* | head -n 2); do mariadb-binlog $f | tail -n 40; done"
			out, _ := w.do("run", w.host("tern"), "sh", "-c", newest)
			w.t.Log(out)
		}
	}()
	for _, name := range []string{"tern", "gull"} {
		for _, orderly := range []bool{true, false} {
			began := time.Now()
			w.reboot(name, orderly)
			w.settled("orders", "gull")
			w.t.Logf("%s rebooted (orderly: %t), roles as before after %s", name, orderly, time.Since(began).Round(time.Second))
			if out := w.run(name, "systemctl", "is-active", e.unit); !strings.HasPrefix(out, "active") {
				w.t.Errorf("the unit on %s is %s", name, out)
			}
			e.atHost(w, name)
		}
	}
}
