package operation

import "testing"

func TestSameSetting(t *testing.T) {
	for _, c := range []struct {
		have, want string
		same       bool
	}{{"5min", "300s", true}, {"1GB", "1024MB", true}, {"30s", "30000", true}, {"on", "on", true}, {"on", "off", false},
		{"-1", "-1", true}, {"5s", "5min", false}, {"", "0", false}, {"256MB", "256", false}} {
		if sameSetting(c.have, c.want) != c.same {
			t.Errorf("%q and %q: %t", c.have, c.want, !c.same)
		}
	}
}
