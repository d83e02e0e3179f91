package host

import "testing"

func TestListens(t *testing.T) {
	for _, c := range []struct {
		now, wanted string
		want        bool
	}{{"localhost", "10.0.0.2", false}, {"localhost, 10.0.0.2", "10.0.0.2", true}, {"*", "10.0.0.2", true},
		{"0.0.0.0", "10.0.0.2", true}, {"0.0.0.0", "fd00::2", false}, {"::", "fd00::2", true}, {"::", "10.0.0.2", false},
		{"", "10.0.0.2", false}, {"10.0.0.20", "10.0.0.2", false}, {"10.0.0.2,fd00::2", "fd00::2, 10.0.0.2", true}} {
		if got := Listens(c.now, c.wanted, "*"); got != c.want {
			t.Errorf("%q at %q: %t", c.now, c.wanted, got)
		}
	}
	if !Listens("::", "10.0.0.2", "*", "::") {
		t.Error(":: stands for everything, and does not")
	}
}

func TestHasAddress(t *testing.T) {
	for address, want := range map[string]bool{"127.0.0.1": true, "127.0.0.9": true, "192.0.2.77": false, "": false,
		"harbour.skerry.example": true} {
		if got := HasAddress(address); got != want {
			t.Errorf("%q: %t", address, got)
		}
	}
}
