package chaos

import (
	"context"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// faults are how a primary is lost, each with what puts it right.
var faults = []struct {
	name   string
	befall func(s *schedule, primary *demo.Server)
}{
	{"kill -9 of the database", func(_ *schedule, x *demo.Server) { demo.KillDatabase(x) }},
	{"loss of the host", func(s *schedule, x *demo.Server) { s.cutHost(x, 20*time.Second) }},
	{"a database that hangs", func(s *schedule, x *demo.Server) { s.freezeDatabase(x, 20*time.Second) }},
}

// How long it takes, with fencing and automatic failover on, from the loss of a primary
// until another server takes a write. CROSSTWIN_TAKEOVER is the number of times for each
// fault and engine; without it only the loss of a host is tried, once, on one engine: the
// tests of the whole try the kill. It measures and does not judge: a machine may be slow.
func TestTakeover(t *testing.T) {
	times := number("CROSSTWIN_TAKEOVER", 0)
	if goneInside(t, 20*time.Minute*time.Duration(1+times)) {
		return
	}
	for _, cluster := range []string{demo.Bookings, demo.Cargo} {
		if times == 0 && cluster != demo.Bookings {
			continue
		}
		t.Run(cluster, func(t *testing.T) {
			t.Parallel()
			s := newSchedule(t, cluster, 0, true)
			if err := s.SeedAll(s.ctx, func(operation.Operation) {}); err != nil {
				t.Fatal(err)
			}
			s.fence(true)
			s.load = s.Load(1, 10*time.Millisecond)
			defer s.load.Stop()
			for i, f := range faults {
				if times == 0 && i != 1 {
					continue
				}
				var took []time.Duration
				for range max(times, 1) {
					took = append(took, s.takeover(f.befall))
				}
				slices.Sort(took)
				t.Logf("%s, %s: first write on another server after %.2f s at the median of %d, %.2f s at most", s.Engine, f.name,
					took[len(took)/2].Seconds(), len(took), took[len(took)-1].Seconds())
			}
			if t.Failed() {
				t.Log(strings.Join(s.told(), "\n"))
			}
		})
	}
}

// takeover loses the primary, waits for another one, and has the cluster whole again.
func (s *schedule) takeover(befall func(*schedule, *demo.Server)) time.Duration {
	s.t.Helper()
	if err := s.Await(s.ctx, func(v view.View) bool {
		return s.settled(v) && v.Permission != nil && v.CanLose > 0 && v.Operation == nil
	}); err != nil {
		s.t.Fatal(err)
	}
	if err := s.load.AwaitAcks(s.ctx, 20); err != nil {
		s.t.Fatal(err)
	}
	v, err := s.Client.Cluster(s.ctx, s.Name)
	if err != nil {
		s.t.Fatal(err)
	}
	old := s.Server(v.Primary)
	began := time.Now()
	var fault sync.WaitGroup
	fault.Go(func() { befall(s, old) })
	took := s.firstWrite(old).Sub(began)
	s.tell("%s was lost; another server took a write after %s", old.Name, took)
	fault.Wait()
	s.heal()
	s.catchUp()
	return took
}

// firstWrite returns when a server other than one takes its first write.
func (s *schedule) firstWrite(but *demo.Server) time.Time {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(s.ctx, 2*time.Minute)
	defer cancel()
	first := make(chan time.Time, len(s.Servers))
	for _, x := range s.Servers {
		if x != but {
			go func() {
				for ctx.Err() == nil {
					if x.Writable(ctx) == nil {
						first <- time.Now()
						return
					}
					time.Sleep(20 * time.Millisecond)
				}
			}()
		}
	}
	select {
	case at := <-first:
		return at
	case <-ctx.Done():
		v, err := s.Client.Cluster(s.ctx, s.Name)
		s.t.Fatalf("no other server became primary: %s %v", v.Sentence, err)
		return time.Time{}
	}
}
