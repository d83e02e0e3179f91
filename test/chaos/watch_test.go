package chaos

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"crosstwin/internal/demo"
)

// watch tries all the time to write to every server, as an application would that
// does not know which one is the primary.
type watch struct {
	mu      sync.Mutex
	took    []took
	cancel  context.CancelFunc
	writers sync.WaitGroup
}

// took is a write that a server took between two moments.
type took struct {
	server     string
	from, till time.Time
}

func watchWrites(servers []*demo.Server) *watch {
	ctx, cancel := context.WithCancel(context.Background())
	w := &watch{cancel: cancel}
	for _, s := range servers {
		w.writers.Go(func() {
			for ctx.Err() == nil {
				try, done := context.WithTimeout(ctx, 2*time.Second)
				from := time.Now()
				err := s.Writable(try)
				done()
				if err == nil {
					w.mu.Lock()
					w.took = append(w.took, took{s.Name, from, time.Now()})
					w.mu.Unlock()
				}
				time.Sleep(40 * time.Millisecond)
			}
		})
	}
	return w
}

func (w *watch) stop() {
	w.cancel()
	w.writers.Wait()
}

// alternations counts how often writes moved from one server to another: each time a
// server took one that began after another's had ended.
func (w *watch) alternations() (n int) {
	return len(w.moves())
}

func (w *watch) moves() (out []took) {
	w.mu.Lock()
	defer w.mu.Unlock()
	slices.SortFunc(w.took, func(a, b took) int { return a.till.Compare(b.till) })
	var last took
	for _, x := range w.took {
		if last.server != "" && x.server != last.server && x.from.After(last.till) {
			out = append(out, x)
		}
		if last.server == "" || x.server == last.server || x.from.After(last.till) {
			last = x
		}
	}
	return out
}

// String lists the moves.
func (w *watch) String() string {
	var out []string
	for _, x := range w.moves() {
		out = append(out, fmt.Sprintf("%s at %s", x.server, x.till.Format("15:04:05.000")))
	}
	return strings.Join(out, ", ")
}

// Two servers that both take writes are seen: a check that counts has to count.
func TestMovesAreCounted(t *testing.T) {
	at := func(ms int) time.Time { return time.UnixMilli(int64(1e6 + ms)) }
	write := func(server string, from, till int) took { return took{server, at(from), at(till)} }
	for name, c := range map[string]struct {
		took []took
		want int
	}{
		"one primary":  {[]took{write("gull", 0, 10), write("gull", 50, 60)}, 0},
		"a switchover": {[]took{write("gull", 0, 10), write("tern", 50, 60), write("tern", 90, 95)}, 1},
		"both take writes": {[]took{write("gull", 0, 10), write("tern", 20, 30), write("gull", 40, 50), write("tern", 60,
			70)}, 3},
		"told out of order": {[]took{write("tern", 50, 60), write("gull", 0, 10)}, 1},
		// One that began before the other's ended says nothing about which came first.
		"at one time": {[]took{write("gull", 0, 40), write("tern", 20, 60)}, 0},
	} {
		if got := (&watch{took: c.took}).alternations(); got != c.want {
			t.Errorf("%s: %d, want %d", name, got, c.want)
		}
	}
}
