package synchronous

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
)

func TestFor(t *testing.T) {
	for _, c := range []struct {
		mode     Mode
		replicas []string
		any      bool
		want     string
		fails    bool
	}{
		{None, []string{"tern"}, true, "nobody", false},
		{One, []string{"tern", "heron"}, true, "1 of heron, tern", false},
		{One, nil, true, "", true},
		{Most, []string{"tern"}, true, "1 of tern", false},
		{Most, []string{"tern", "heron"}, false, "1 of heron, tern", false},
		{Most, []string{"a", "b", "c"}, true, "2 of a, b, c", false},
		{Most, []string{"a", "b", "c", "d"}, true, "2 of a, b, c, d", false},
		{Most, []string{"a", "b", "c"}, false, "", true},
	} {
		l, err := For(c.mode, c.replicas, c.any)
		if (err != nil) != c.fails || err == nil && l.String() != c.want {
			t.Errorf("%s of %v: %s, %v", c.mode, c.replicas, l, err)
		}
	}
}

func TestCheck(t *testing.T) {
	for s, ok := range map[Setting]bool{{}: true, {Mode: One}: true, {Mode: Most, AwaySeconds: 10}: true,
		{Mode: "two"}: false, {Mode: One, AwaySeconds: 1}: false, {AwaySeconds: 5}: false, {Mode: One,
			AwaySeconds: -3}: false} {
		if (s.Check() == nil) != ok {
			t.Errorf("%+v: %v", s, s.Check())
		}
	}
}

// Whoever is asked by the rule, the one that holds most holds every acknowledged write; with one
// answer fewer there are writes that it lacks.
func TestCovered(t *testing.T) {
	names := []string{"a", "b", "c", "d"}
	for need := 1; need <= len(names); need++ {
		l := List{Need: need, Names: names}
		for set := range 1 << len(names) { // who answers
			answers := func(n string) bool { return set>>slices.Index(names, n)&1 == 1 }
			ok, lacks := l.Covers(answers)
			if !ok && count(set)+lacks.Need != l.Answers() || len(lacks.Names) < lacks.Need {
				t.Errorf("%s, of whom %04b answer, lacks %s", l, set, lacks)
			}
			missing := false
			for acked := range 1 << len(names) { // who acknowledged a write
				if count(acked) >= need && acked&set == 0 {
					missing = true
				}
			}
			if ok == missing {
				t.Errorf("%s, of whom %04b answer: covered %t, a write can be missing %t", l, set, ok, missing)
			}
		}
	}
	for _, c := range []struct {
		lists []List
		lack  string
	}{
		{[]List{{1, []string{"a", "b"}}, {1, []string{"b", "c"}}}, "[1 of a 1 of c]"},
		{[]List{{2, []string{"a", "b", "c", "d"}}, {2, []string{"a", "b", "c"}}}, "[2 of a, c, d 1 of a, c]"},
		{[]List{{1, []string{"a", "b"}}, {1, []string{"b", "a"}}}, "[1 of a]"},
		{[]List{{1, []string{"b"}}}, "[]"}, {nil, "[]"},
	} {
		ok, lack := Covered(c.lists, func(n string) bool { return n == "b" })
		if ok != (c.lack == "[]") || fmt.Sprint(lack) != c.lack {
			t.Errorf("%v: %t, lack %v, want %s", c.lists, ok, lack, c.lack)
		}
	}
}

func count(set int) (n int) {
	for ; set > 0; set >>= 1 {
		n += set & 1
	}
	return n
}

func TestNext(t *testing.T) {
	w, old := List{1, []string{"heron", "tern"}}, List{1, []string{"tern"}}
	for name, c := range map[string]struct {
		s    State
		act  Act
		want []List
	}{
		"off":                         {State{}, Nothing, nil},
		"switched on":                 {State{Want: w, Ready: true}, Apply, nil},
		"went on, and nobody is back": {State{Want: w}, Wait, nil},
		"set, not proven":             {State{Want: w, Set: w}, Apply, nil},
		"proven, not held yet":        {State{Want: w, Set: w, Live: true}, Wait, nil},
		"held":                        {State{Want: w, Set: w, Live: true, Held: true}, Promise, []List{w}},
		"steady":                      {State{Want: w, Set: w, Live: true, Promised: []List{w}}, Nothing, nil},
		"switched over": {State{Want: w, Set: old, Live: true, Promised: []List{old}}, Promise, []List{old,
			w}},
		"both promised, not noted yet": {State{Want: w, Set: old, Live: true, Promised: []List{old, w}}, Wait, nil},
		"both promised": {State{Want: w, Set: old, Live: true, Noted: true, Promised: []List{old, w}},
			Apply, nil},
		"both promised, new one set": {State{Want: w, Set: w, Live: true, Promised: []List{old, w}}, Wait, nil},
		"both promised, new one held": {State{Want: w, Set: w, Live: true, Held: true, Promised: []List{old, w}},
			Promise, []List{w}},
		"switched off":                   {State{Set: w, Live: true, Promised: []List{w}}, Promise, nil},
		"switched off, nothing promised": {State{Set: w, Live: true}, Apply, nil},
		"by hand":                        {State{Want: w, Set: w, ByHand: true, Promised: []List{w}}, Promise, nil},
		"by hand, nothing promised":      {State{Want: w, Set: w, ByHand: true}, Wait, nil},
		"a false acknowledgement": {State{Want: w, Set: w, Live: true, Breach: true, Promised: []List{w}}, Promise,
			nil},
		"one, and nothing promised": {State{Want: w, Set: w, Live: true, Breach: true}, Wait, nil},
		"restarted":                 {State{Want: w, Set: w, Promised: []List{w}}, Apply, nil},
	} {
		act, lists := Next(c.s)
		if act != c.act || !slices.EqualFunc(lists, c.want, List.Equal) {
			t.Errorf("%s: %s %v, want %s %v", name, act, lists, c.act, c.want)
		}
	}
}

// A model of a primary and its replicas, played with random changes of the wish, steps of Next,
// writes, and losses of the primary: what is recorded holds for every acknowledged write.
func TestPromisesHold(t *testing.T) {
	for seed := range uint64(300) {
		m := newModel(seed)
		for range 400 {
			m.step()
			if why := m.broken(); why != "" {
				t.Fatalf("seed %d: %s", seed, why)
			}
		}
	}
}

// Without the rule of a list the model finds what is lost.
func TestPromisesNeedTheirOrder(t *testing.T) {
	for name, next := range map[string]func(State) (Act, []List){
		"recorded after it is set": func(s State) (Act, []List) {
			if !s.Set.Equal(s.Want) {
				return Apply, nil
			}
			return Next(s)
		},
		"taken away before enough hold it": func(s State) (Act, []List) {
			s.Held = true
			return Next(s)
		},
		"taken away before it is in force": func(s State) (Act, []List) {
			if len(s.Promised) == 2 {
				return Promise, []List{s.Want}
			}
			return Next(s)
		},
		"a breach that nobody minds": func(s State) (Act, []List) {
			s.Breach = false
			return Next(s)
		},
	} {
		found := false
		for seed := range uint64(300) {
			m := newModel(seed)
			m.next = next
			for i := 0; i < 400 && !found; i++ {
				m.step()
				found = m.broken() != ""
			}
		}
		if !found {
			t.Errorf("%s: nothing is lost by it", name)
		}
	}
}

// model is a primary p with four replicas. A write is a number; each replica holds all up to one.
type model struct {
	r        *rand.Rand
	next     func(State) (Act, []List)
	want     List
	promised []List
	set      List
	written  int
	provenAt int
	holds    map[string]int
	acked    []int
	breachAt int
}

var replicas = []string{"a", "b", "c", "d"}

func newModel(seed uint64) *model {
	return &model{r: rand.New(rand.NewPCG(seed, 7)), next: Next, holds: map[string]int{}, breachAt: -1, provenAt: -1}
}

func (m *model) held(l List, at int) bool {
	return l.Held(func(n string) bool { return m.holds[n] >= at })
}

func (m *model) state() State {
	s := State{Want: m.want, Promised: m.promised, Set: m.set, Live: m.provenAt >= 0, Ready: true, Noted: true}
	s.Held = s.Live && m.held(m.want, max(m.provenAt, m.breachAt))
	s.Breach = m.breachAt >= 0 && !s.Held
	return s
}

func (m *model) step() {
	switch m.r.IntN(10) {
	case 0: // an administrator wants something else
		names := slices.Clone(replicas)
		m.r.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
		names = names[:1+m.r.IntN(4)]
		slices.Sort(names)
		m.want = List{}
		if m.r.IntN(4) > 0 {
			m.want = List{1 + m.r.IntN(len(names)), names}
		}
	case 1, 2, 3: // the service acts
		switch act, lists := m.next(m.state()); act {
		case Promise:
			m.promised = lists
		case Apply:
			m.set, m.provenAt = m.want, m.written
		}
	case 4: // a session's wait is cancelled: the write counts as acknowledged
		if m.r.IntN(3) == 0 && !m.set.IsZero() && m.written > 0 {
			m.breachAt = m.written
			m.acked = append(m.acked, m.written)
			// The service learns of it at once; until then what it promised is not true, which
			// nobody can help.
			if act, lists := m.next(m.state()); act == Promise {
				m.promised = lists
			}
		}
	case 5, 6:
		m.written++
	default: // a replica receives
		n := replicas[m.r.IntN(len(replicas))]
		m.holds[n] = min(m.written, m.holds[n]+1+m.r.IntN(3))
	}
	for w := 1; w <= m.written; w++ { // what may be acknowledged, is
		if !slices.Contains(m.acked, w) && (m.set.IsZero() || m.held(m.set, w)) {
			m.acked = append(m.acked, w)
		}
	}
}

// broken looks at the loss of the primary at this moment, with every set of servers that covers
// what is recorded.
func (m *model) broken() string {
	if len(m.promised) == 0 {
		return ""
	}
	for set := range 1 << len(replicas) {
		answers := func(n string) bool { return set>>slices.Index(replicas, n)&1 == 1 }
		if ok, _ := Covered(m.promised, answers); !ok {
			continue
		}
		most := 0
		for _, n := range replicas {
			if answers(n) {
				most = max(most, m.holds[n])
			}
		}
		if len(m.acked) > 0 && slices.Max(m.acked) > most {
			return "a write that was acknowledged is on none of those that answer"
		}
	}
	return ""
}

// Records from an older backup name lists that writes rest on no more: those that cover them do
// not cover what was acknowledged since. So agents note the number of each change.
func TestOlderLists(t *testing.T) {
	older, newer := List{1, []string{"heron", "tern"}}, List{1, []string{"dunlin", "tern"}}
	answers := func(n string) bool { return n != "dunlin" }
	if ok, _ := Covered([]List{older}, answers); !ok {
		t.Error("heron and tern answer")
	}
	if ok, lack := Covered([]List{newer}, answers); ok || fmt.Sprint(lack) != "[1 of dunlin]" {
		t.Errorf("a write may be on dunlin alone, and there lack %v", lack)
	}
}

// A change counts as noted when whoever asks most of the agents hears of it.
func TestEnough(t *testing.T) {
	for _, c := range []struct {
		noted, agents int
		want          bool
	}{{0, 1, false}, {1, 1, true}, {0, 2, false}, {1, 2, true}, {1, 3, false}, {2, 3, true}, {2, 4, false}, {3, 4, true}} {
		if got := Enough(c.noted, c.agents); got != c.want {
			t.Errorf("%d of %d: %t", c.noted, c.agents, got)
		}
	}
}
