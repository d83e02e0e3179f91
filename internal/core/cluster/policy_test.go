package cluster

import (
	"strings"
	"testing"
	"time"
)

func TestMaintenance(t *testing.T) {
	now := time.Date(2026, 11, 30, 3, 0, 0, 0, time.UTC)
	in := func(d time.Duration, why string) Maintenance { return Maintenance{Until: now.Add(d), Why: why} }
	for name, c := range map[string]struct {
		m      Maintenance
		ok, on bool
		atOnce time.Duration
	}{
		"none":            {Maintenance{}, true, false, 0},
		"an hour":         {in(time.Hour, "new disks"), true, true, 0},
		"an hour, later":  {in(time.Hour, "new disks"), false, false, time.Hour},
		"over":            {in(-time.Minute, "new disks"), false, false, 0},
		"for ever":        {in(9000*time.Hour, "new disks"), false, true, 0},
		"nobody says why": {in(time.Hour, "  "), false, true, 0},
		"a novel":         {in(time.Hour, strings.Repeat("x", 201)), false, true, 0},
		"two lines":       {in(time.Hour, "new\ndisks"), false, true, 0},
	} {
		at := now.Add(c.atOnce)
		if err := c.m.Check(at); (err == nil) != c.ok || c.m.On(at) != c.on {
			t.Errorf("%s: %v, on %t", name, err, c.m.On(at))
		}
	}
}
