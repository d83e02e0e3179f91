package host

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"
)

// A server that a service manager's unit runs is started by that unit, so that the host's
// own tools show it, stop it, and start it after a reboot or an upgrade; and so that it
// does not end with the agent's own unit (measured: it lives in the cgroup of whoever
// started it). It is stopped directly, as fast as without a unit; the unit notices, and
// runs its own commands for a stop afterwards, which would stop whatever was started
// meanwhile (measured): settleUnit waits for that.

// Units reports whether a service manager runs this host.
func Units() bool {
	_, err := os.Stat("/run/systemd/system")
	return err == nil
}

// unitName is what a unit's name looks like (systemd.unit(5)); it never looks like an option.
var unitName = regexp.MustCompile(`^[A-Za-z0-9:_.@\\][A-Za-z0-9:_.@\\-]*\.service$`)

// CheckUnit refuses what is no name of a unit that runs a server.
func CheckUnit(name string) error {
	if !unitName.MatchString(name) {
		return fmt.Errorf("%q is no name of a unit: it is like postgresql@15-main.service", name)
	}
	return nil
}

// UnitOf returns the unit of a service manager in which a process runs; empty when it is
// none: a session, or the agent's own.
func UnitOf(pid int) string {
	unit := unitIn(fmt.Sprintf("/proc/%d/cgroup", pid))
	if unit == unitIn("/proc/self/cgroup") {
		return ""
	}
	return unit
}

func unitIn(file string) string {
	b, err := os.ReadFile(file)
	if err != nil {
		return ""
	}
	return parseUnit(string(b))
}

// parseUnit reads the unit's name from a process's control groups (cgroups(7),
// "/proc/[pid]/cgroup"): version 2 says 0::, version 1 name=systemd.
func parseUnit(text string) string {
	for _, line := range strings.Split(text, "\n") {
		parts := strings.SplitN(line, ":", 3)
		if len(parts) != 3 || parts[0] != "0" && parts[1] != "name=systemd" {
			continue
		}
		name := filepath.Base(parts[2])
		if CheckUnit(name) == nil && !strings.Contains(parts[2], "/user@") { // a user's own manager is another one
			return name
		}
	}
	return ""
}

// systemctl runs the service manager's command. An agent without root asks by sudo for
// what changes something, word for word as deploy/agent-without-root/sudoers lists it.
func systemctl(ctx context.Context, change bool, args ...string) (string, error) {
	words := append([]string{"/usr/bin/systemctl"}, args...)
	if change && os.Geteuid() != 0 {
		words = append([]string{"/usr/bin/sudo", "-n"}, words...)
	}
	c := exec.CommandContext(ctx, words[0], words[1:]...) // #nosec G204 -- fixed words and a unit's checked name
	c.Env = []string{"PATH=/usr/bin:/bin:/usr/sbin:/sbin", "LC_ALL=C.UTF-8"}
	out, err := c.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%s: %w: %s", strings.Join(words, " "), err, LastLines(string(out), 3))
	}
	return strings.TrimSpace(string(out)), nil
}

// What a unit is doing. One that is stuck is being started, and nothing does that any more:
// the service manager waits for a server that has ended (seen, with no limit of time, where
// a server was stopped before its start command had noticed that it ran).
const (
	unitActive   = "active"
	unitInactive = "inactive"
	unitFailed   = "failed"
	unitStarting = "starting" // or about to
	unitStuck    = "stuck"
	unitStopping = "stopping" // or about to
)

func unitState(ctx context.Context, unit string) (string, error) {
	said, err := systemctl(ctx, false, "show", "--property=ActiveState", "--property=SubState", "--property=Job",
		"--property=MainPID", "--property=ControlPID", unit)
	if err != nil {
		return "", err
	}
	return parseUnitState(said), nil
}

// parseUnitState reads what systemctl show says. A unit without a job has an empty one, or
// none at all.
func parseUnitState(said string) string {
	is := map[string]string{}
	for _, line := range strings.Split(said, "\n") {
		name, value, _ := strings.Cut(line, "=")
		is[name] = value
	}
	none := func(name string) bool { return is[name] == "" || is[name] == "0" }
	switch state := is["ActiveState"]; {
	case state == "activating" && is["SubState"] == "start" && none("MainPID") && none("ControlPID"):
		return unitStuck
	case state == "activating" || isDown(state) && !none("Job"):
		return unitStarting
	case state == "deactivating" || !none("Job"):
		return unitStopping
	default:
		return state
	}
}

// isDown reports whether a unit in a state runs nothing, and is about to do nothing.
func isDown(state string) bool { return state == unitInactive || state == unitFailed }

// settleLimit is how long a unit is given: a server that waits to be started again takes no
// writes meanwhile.
const settleLimit = 30 * time.Second

// settleUnit waits until the unit of a server that has ended is down. The service manager may
// not have noticed yet: it says active for a moment, a start would then do nothing, and the
// commands of the stop still come (seen: the server stayed down). A start of before, for a
// server that has ended since, is ended: it would be waited for in vain. Where the service
// manager has started the server anew by itself, or there is no unit, nothing is to be done.
func (d *Data) settleUnit(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, settleLimit)
	defer cancel()
	for d.Unit != "" {
		state, err := unitState(ctx, d.Unit)
		if err != nil {
			return fmt.Errorf("%s: %w", d.Name, err)
		}
		switch runs := len(d.Processes()) > 0; {
		case isDown(state), state == unitActive && runs:
			return nil
		case !runs && (state == unitStarting || state == unitStuck):
			if err := d.endUnit(ctx); err != nil {
				return fmt.Errorf("%s: %w", d.Name, err)
			}
			continue
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s: its unit %s is still %s", d.Name, d.Unit, state)
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

// startUnit has the service manager start the server's unit, and does not wait until it says that it
// has: what a server writes and answers is known earlier and is worth more (measured: 2.3 s
// against 0.3 s, and active while it rejected connections).
func (d *Data) startUnit(ctx context.Context, logFile string, from int64) (*Server, error) {
	if _, err := systemctl(ctx, true, "--no-block", "start", d.Unit); err != nil {
		return nil, fmt.Errorf("start %s: %w", d.Name, err)
	}
	exited := make(chan struct{})
	ctx, awaited := context.WithCancel(ctx)
	go func() {
		for stuck := 0; ctx.Err() == nil; {
			time.Sleep(100 * time.Millisecond)
			state, err := unitState(ctx, d.Unit)
			if stuck++; err != nil || state != unitStuck {
				stuck = 0
			}
			if err == nil && isDown(state) || stuck > 1 {
				close(exited)
				return
			}
		}
	}()
	return &Server{Exited: exited, from: from, data: d, log: logFile, awaited: awaited}, nil
}

// journal returns the last telling lines of a unit.
func journal(unit string, telling ...string) string {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	// #nosec G204 -- fixed words and a unit's name
	out, err := exec.CommandContext(ctx, "/usr/bin/journalctl", "--no-pager", "--output=cat", "--lines=50",
		"--unit="+unit).Output()
	if err != nil {
		return fmt.Sprintf("nothing that could be read: journalctl --unit=%s: %v", unit, err)
	}
	return Telling(string(out), telling...)
}

// endUnit tells the service manager that a server was ended on purpose.
func (d *Data) endUnit(ctx context.Context) error {
	if d.Unit == "" {
		return nil
	}
	_, err := systemctl(ctx, true, "stop", d.Unit)
	return err
}

// SocketOf returns the unit by which the service manager itself listens for a server's unit,
// and starts that whenever somebody connects; empty when it does not.
func SocketOf(ctx context.Context, unit string) string {
	if unit == "" || !Units() {
		return ""
	}
	socket := strings.TrimSuffix(unit, ".service") + ".socket"
	said, err := systemctl(ctx, false, "show", "--property=ActiveState", "--property=UnitFileState", socket)
	if err != nil || !strings.Contains(said, "ActiveState=active") && !strings.Contains(said, "UnitFileState=enabled") {
		return ""
	}
	return socket
}

// RestartUnit has the service manager start a unit of this name anew, now and at boot;
// false where there is none.
func RestartUnit(ctx context.Context, unit string) (bool, error) {
	if !Units() {
		return false, nil
	}
	if _, err := systemctl(ctx, false, "cat", unit); err != nil {
		return false, nil
	}
	if _, err := systemctl(ctx, true, "enable", unit); err != nil {
		return true, err
	}
	_, err := systemctl(ctx, true, "restart", unit)
	return true, err
}
