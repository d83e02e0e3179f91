package view

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/observation"
)

// Who may write, until when and by whom, is told, and where losing the service would stop
// writes; who would get no permission may not take over.
func TestPermission(t *testing.T) {
	fenced := func(change func(in *Input)) Input {
		return bookings(func(in *Input) {
			in.Policy.Fencing = true
			for i := range in.Members {
				in.Members[i].Last.Permission = &observation.Permission{Fencing: true, Deadman: true}
			}
			in.Members[0].Last.Permission.GrantSeconds, in.Members[0].Last.Permission.Set = 3, []string{"tern"}
			change(in)
		})
	}
	for name, c := range map[string]struct {
		change  func(in *Input)
		says    string
		seconds float64
		lose    int
	}{
		"by the service": {func(*Input) {}, "gull may write for 3.0 s more, and the service renews that", 3, 1},
		"by pledges": {func(in *Input) { in.Members[0].Last.Permission.PledgeSeconds = 3.5 },
			"gull may write for 3.5 s more, because the agents of tern renew their pledges", 3.5, 1},
		"by itself": {func(in *Input) {
			p := in.Members[0].Last.Permission
			p.PledgeSeconds, p.Set = 3.5, nil
		}, "by itself: no other server may become primary", 3.5, 1},
		"none": {func(in *Input) { in.Members[0].Last.Permission.GrantSeconds = 0 }, "gull has no permission", 0, 1},
		"none, for want of a deadman": {func(in *Input) {
			in.Members[0].Last.Permission.GrantSeconds, in.Members[0].Last.Permission.Deadman = 0, false
		}, "The deadman of gull (crosstwin deadman) does not run or does not answer", 0, 1},
		"just begins": {func(in *Input) { in.Members[0].Last.Permission.Fencing = false }, "Fencing begins: gull", 0, 1},
		"unseen": {func(in *Input) { in.Members[0].SeenAt = now.Add(-time.Minute) },
			"gull writes only while its permission runs", 3, 0},
		"one that pledges is silent": {func(in *Input) { in.Members[1].SeenAt = now.Add(-time.Minute) },
			"Losing the service now stops writes: tern, which would have to pledge, does not answer", 3, 0},
		"no deadman": {func(in *Input) { in.Members[1].Last.Permission.Deadman = false },
			"gull may write for 3.0 s more", 3, 0},
	} {
		v := Assess(fenced(c.change))
		p := v.Permission
		if p == nil || p.Server != "gull" || p.Seconds != c.seconds || !strings.Contains(p.Text, c.says) ||
			v.CanLose != c.lose {
			t.Errorf("%s: %+v, can lose %d", name, p, v.CanLose)
		}
	}
	v := Assess(fenced(func(in *Input) { in.Members[1].Last.Permission.Deadman = false }))
	if notes := strings.Join(v.Find("tern").Notes, "; "); !strings.Contains(notes, "its deadman does not run") {
		t.Errorf("why tern may not take over is not said: %q", notes)
	}
	if v := Assess(bookings(nil)); v.Permission != nil {
		t.Errorf("without fencing: %+v", v.Permission)
	}
}
