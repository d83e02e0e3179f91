package tail

import (
	"strings"
	"testing"
)

func TestComment(t *testing.T) {
	for c := range rune(0x2030) {
		if got := Comment("a" + string(c) + `\! sh`); strings.ContainsAny(got, "\x00\n\r\v\f\u0085\u2028\u2029") {
			t.Errorf("%q becomes %q", c, got)
		}
	}
	if got := Comment("insert into öl values ('x\\')"); got != "insert into öl values ('x\\')" {
		t.Error(got)
	}
	if a, b := Into(), Into(); a == b || len(a) != len("crosstwin_salvage_")+10 {
		t.Error(a, b)
	}
}
