package demo

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"strconv"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
)

// session is an application's connection to the server that takes writes.
type session interface {
	// write commits one write that can be found again by its reference.
	write(ctx context.Context, reference string) error
	close()
}

// Workload writes all the time, the way an application would, and remembers
// every write whose commit was acknowledged.
type Workload struct {
	cancel context.CancelFunc
	done   sync.WaitGroup

	mu      sync.Mutex
	acked   []string
	lastAck time.Time
	gap     time.Duration // longest between two acknowledged commits
	gapFrom time.Time
	failed  int
	told    map[string]int // what failed writes were told, by code
}

// Load begins writing with some clients, each resting between two writes.
func (c *Cluster) Load(clients int, rest time.Duration) *Workload {
	ctx, cancel := context.WithCancel(context.Background())
	l := &Workload{cancel: cancel}
	l.Reset()
	for i := range clients {
		l.done.Add(1)
		go func() {
			defer l.done.Done()
			l.client(ctx, c.house, i, rest)
		}()
	}
	return l
}

// Stop ends all clients.
func (l *Workload) Stop() {
	l.cancel()
	l.done.Wait()
}

// Reset begins a new measurement of the longest gap.
func (l *Workload) Reset() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.gap, l.lastAck = 0, time.Time{}
}

// Gap returns the longest time between two acknowledged commits since Reset: the
// write pause as the application felt it.
func (l *Workload) Gap() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.lastAck.IsZero() {
		return max(l.gap, time.Since(l.lastAck))
	}
	return l.gap
}

// LastAck is when a write was acknowledged last; zero: none since Reset.
func (l *Workload) LastAck() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.lastAck
}

// Acked returns the references of all writes that were acknowledged.
func (l *Workload) Acked() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([]string(nil), l.acked...)
}

// Failed returns how many writes ended with an error, or with none in time.
func (l *Workload) Failed() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.failed
}

// Told returns what the writes were told that failed, by SQLSTATE or number, with how often.
func (l *Workload) Told() map[string]int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return maps.Clone(l.told)
}

// code is the SQLSTATE or the number of a server's error.
func code(err error) string {
	var pg *pgconn.PgError
	var my *mysql.MySQLError
	switch {
	case errors.As(err, &pg):
		return pg.Code
	case errors.As(err, &my):
		return strconv.Itoa(int(my.Number))
	}
	return "no answer"
}

// AwaitAcks waits for n further acknowledged writes.
func (l *Workload) AwaitAcks(ctx context.Context, n int) error {
	l.mu.Lock()
	want := len(l.acked) + n
	l.mu.Unlock()
	for {
		l.mu.Lock()
		have := len(l.acked)
		l.mu.Unlock()
		if have >= want {
			return nil
		}
		select {
		case <-ctx.Done():
			return errors.New("the workload's writes are not acknowledged")
		case <-time.After(5 * time.Millisecond):
		}
	}
}

func (l *Workload) ack(reference string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	if !l.lastAck.IsZero() {
		if g := now.Sub(l.lastAck); g > l.gap {
			l.gap, l.gapFrom = g, l.lastAck
		}
	}
	l.lastAck = now
	l.acked = append(l.acked, reference)
}

// reconnectRest is how long a client waits before it connects anew when there has been nobody
// to write to for so long: a twentieth of it, so that a pause is measured to 5 %, and a long
// one does not keep the servers busy with logins.
func reconnectRest(away time.Duration) time.Duration {
	return min(max(away/20, 5*time.Millisecond), 100*time.Millisecond)
}

// writeLimit bounds one write: a server that hangs must not hold the
// application for ever.
const writeLimit = 5 * time.Second

func (l *Workload) client(ctx context.Context, h house, id int, rest time.Duration) {
	left := time.Now()
	for n := 0; ctx.Err() == nil; {
		c, err := h.session(ctx)
		if err != nil {
			sleep(ctx, reconnectRest(time.Since(left)))
			continue
		}
		for ctx.Err() == nil {
			n++
			reference := fmt.Sprintf("W%d-%d-%d", id, n, rand.Int64())
			limit, cancel := context.WithTimeout(ctx, writeLimit)
			err := c.write(limit, reference)
			cancel()
			if err != nil {
				l.mu.Lock()
				l.failed++
				if l.told == nil {
					l.told = map[string]int{}
				}
				l.told[code(err)]++
				l.mu.Unlock()
				break
			}
			l.ack(reference)
			left = time.Now()
			sleep(ctx, rest)
		}
		c.close()
	}
}

func sleep(ctx context.Context, d time.Duration) {
	if d == 0 {
		return
	}
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
