package host

import "testing"

// A unit that starts or stops, or is about to, is neither up nor down; one whose start nobody
// carries out any more is stuck.
func TestParseUnitState(t *testing.T) {
	for said, want := range map[string]string{"ActiveState=failed": unitFailed, "ActiveState=active\nJob=": unitActive,
		"Job=0\nActiveState=inactive": unitInactive, "ActiveState=inactive\nJob=412": unitStarting,
		"ActiveState=active\nJob=7": unitStopping, "ActiveState=deactivating\nJob=": unitStopping, "": "",
		"ActiveState=activating\nSubState=auto-restart\nMainPID=0\nControlPID=0":         unitStarting,
		"ActiveState=activating\nSubState=start\nJob=444\nMainPID=0\nControlPID=589":     unitStarting,
		"ActiveState=activating\nSubState=start\nJob=9\nMainPID=84\nControlPID=0":        unitStarting,
		"MainPID=0\nControlPID=0\nActiveState=activating\nSubState=start\nJob=444":       unitStuck,
		"ActiveState=activating\nSubState=start-pre\nJob=44\nMainPID=0\nControlPID=1234": unitStarting} {
		if got := parseUnitState(said); got != want {
			t.Errorf("%q is %q, not %q", said, got, want)
		}
		if isDown(want) != (want == unitFailed || want == unitInactive) {
			t.Errorf("%q counts as down: %t", want, isDown(want))
		}
	}
}

// The unit is found in both versions of control groups; sessions are no units.
func TestParseUnit(t *testing.T) {
	for text, want := range map[string]string{
		"0::/system.slice/system-postgresql.slice/postgresql@15-main.service\n":         "postgresql@15-main.service",
		"0::/system.slice/mariadb.service\n":                                            "mariadb.service",
		"12:pids:/x.service\n1:name=systemd:/system.slice/mariadb.service\n0::/\n":      "mariadb.service",
		"0::/user.slice/user-0.slice/session-4.scope\n":                                 "",
		"0::/user.slice/user-1000.slice/user@1000.service/app.slice/app-term.scope\n":   "",
		"0::/user.slice/user-1000.slice/user@1000.service\n":                            "",
		"0::/user.slice/user-1000.slice/user@1000.service/app.slice/postgres.service\n": "",
		"0::/system.slice/-x.service\n":                                                 "",
		"0::/\n":                                                                        "", "": "", "0::": "", "garbage": "",
		"0::/system.slice/crosstwin-agent.service/postgres\n": "",
	} {
		if got := parseUnit(text); got != want {
			t.Errorf("%q is of unit %q, not %q", text, got, want)
		}
	}
}
