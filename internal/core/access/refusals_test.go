package access

import (
	"fmt"
	"testing"
	"time"
)

func TestRefusals(t *testing.T) {
	var r Refusals
	now := time.Date(2027, 1, 1, 3, 0, 0, 0, time.UTC)
	for i, c := range []struct {
		who, what string
		after     time.Duration
		want      bool
	}{{"graphs", "listTokens", 0, true}, {"graphs", "listTokens", time.Second, false},
		{"graphs", "listClusters", time.Second, true}, {"ada", "listTokens", time.Second, true},
		{"graphs", "listTokens", time.Minute, true}, {"graphs", "listTokens", 90 * time.Second, false}} {
		if got := r.Write(c.who, c.what, now.Add(c.after)); got != c.want {
			t.Errorf("%d: %t", i, got)
		}
	}
	for i := range 3 * mostRefusals {
		r.Write(fmt.Sprint(i), "x", now)
	}
	if len(r.at) > mostRefusals {
		t.Errorf("%d are remembered", len(r.at))
	}
}
