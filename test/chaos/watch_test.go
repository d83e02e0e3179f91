package chaos

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
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
