package host

import "testing"

// A unit that starts or stops, or is about to, is neither up nor down.
func TestParseUnitState(t *testing.T) {
	for said, want := range map[string]string{"ActiveState=failed": "failed", "ActiveState=active\nJob=": "active",
		"Job=0\nActiveState=inactive": "inactive", "ActiveState=inactive\nJob=412": "changing",
		"ActiveState=deactivating\nJob=": "changing", "ActiveState=activating": "changing", "": ""} {
		if got := parseUnitState(said); got != want {
			t.Errorf("%q is %q, not %q", said, got, want)
		}
		if isDown(want) != (want == "failed" || want == "inactive") {
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
