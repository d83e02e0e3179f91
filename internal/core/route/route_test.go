package route

import (
	"testing"
	"time"
)

func confirmed(term int64, writes, reads bool, age time.Duration) Confirmed {
	return Confirmed{Standing{Term: term, Writes: writes, Reads: reads}, age}
}

func TestWrite(t *testing.T) {
	o := &Orders{Term: 7, Owner: "gull", Servers: []Server{{Name: "gull"}, {Name: "tern"}}}
	for name, c := range map[string]struct {
		orders *Orders
		said   map[string]Confirmed
		want   string
	}{
		"confirmed":                  {o, map[string]Confirmed{"gull": confirmed(7, true, false, 0)}, "gull"},
		"in a newer term":            {o, map[string]Confirmed{"gull": confirmed(8, true, false, 0)}, "gull"},
		"nobody asked":               {o, nil, ""},
		"its permission has ended":   {o, map[string]Confirmed{"gull": confirmed(7, false, false, 0)}, ""},
		"said too long ago":          {o, map[string]Confirmed{"gull": confirmed(7, true, false, 3*time.Second)}, ""},
		"it has not accepted yet":    {o, map[string]Confirmed{"gull": confirmed(6, true, false, 0)}, ""},
		"another one says it writes": {o, map[string]Confirmed{"tern": confirmed(8, true, false, 0)}, ""},
		"no orders":                  {&Orders{}, map[string]Confirmed{"gull": confirmed(7, true, false, 0)}, ""},
	} {
		got := ""
		s, why := c.orders.Write(c.said)
		if s != nil {
			got = s.Name
		}
		if got != c.want || (why == "") != (got != "") {
			t.Errorf("%s: %q, %q", name, got, why)
		}
	}
}

func TestRead(t *testing.T) {
	servers := []Server{{Name: "gull"}, {Name: "tern"}, {Name: "heron"}}
	o := &Orders{Term: 7, Owner: "gull", Servers: servers}
	both := map[string]Confirmed{"gull": confirmed(7, true, false, 0), "tern": confirmed(7, false, true, 0),
		"heron": confirmed(7, false, true, 0)}
	with := &Orders{Term: 7, Owner: "gull", Servers: servers, PrimaryReads: true}
	none := map[string]Confirmed{"gull": confirmed(7, true, false, 0), "tern": confirmed(7, false, false, 0)}
	for name, c := range map[string]struct {
		orders   *Orders
		said     map[string]Confirmed
		sessions map[string]int
		want     string
	}{
		"fewest sessions":          {o, both, map[string]int{"heron": 2, "tern": 1}, "tern"},
		"not the primary":          {o, none, nil, ""},
		"the primary by policy":    {with, none, nil, "gull"},
		"replicas before it":       {with, both, map[string]int{"heron": 9, "tern": 9}, "heron"},
		"a primary without a term": {with, map[string]Confirmed{"gull": confirmed(6, true, false, 0)}, nil, ""},
	} {
		got := ""
		if s, _ := c.orders.Read(c.said, c.sessions); s != nil {
			got = s.Name
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}
