package demo

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// Workload sells seats: each transaction inserts a booking and raises the
// seats sold of its sailing. It connects the way an application would, with
// all servers in one address, and remembers every booking whose commit was
// acknowledged.
type Workload struct {
	cancel context.CancelFunc
	done   sync.WaitGroup

	mu      sync.Mutex
	acked   []string
	lastAck time.Time
	gap     time.Duration // longest between two acknowledged commits
	gapFrom time.Time
	failed  int
}

// Load begins selling with some clients, each resting between two sales.
func (w *World) Load(clients int, rest time.Duration) *Workload {
	var hosts []string
	for _, s := range w.Servers {
		hosts = append(hosts, fmt.Sprintf("%s:%d", s.Host, s.Port))
	}
	url := fmt.Sprintf("postgresql://%s:%s@%s/%s?target_session_attrs=read-write&connect_timeout=2&application_name=skerry", application, appPassword, strings.Join(hosts, ","), database)
	ctx, cancel := context.WithCancel(context.Background())
	l := &Workload{cancel: cancel}
	l.Reset()
	for i := range clients {
		l.done.Add(1)
		go func() {
			defer l.done.Done()
			l.client(ctx, url, i, rest)
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

// Gap gives the longest time between two acknowledged commits since Reset: the
// write pause as the application felt it.
func (l *Workload) Gap() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.lastAck.IsZero() {
		return max(l.gap, time.Since(l.lastAck))
	}
	return l.gap
}

// Acked gives the references of all bookings that were acknowledged.
func (l *Workload) Acked() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([]string(nil), l.acked...)
}

// AwaitAcks waits for n further acknowledged bookings.
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

// reconnectRest is how long a client waits before it connects anew.
const reconnectRest = 5 * time.Millisecond

func (l *Workload) client(ctx context.Context, url string, id int, rest time.Duration) {
	for n := 0; ctx.Err() == nil; {
		c, err := pgx.Connect(ctx, url)
		if err != nil {
			sleep(ctx, reconnectRest)
			continue
		}
		for ctx.Err() == nil {
			n++
			reference := fmt.Sprintf("W%d-%d-%d", id, n, rand.Int64())
			if err := Sell(ctx, c, reference); err != nil {
				l.mu.Lock()
				l.failed++
				l.mu.Unlock()
				break
			}
			l.ack(reference)
			sleep(ctx, rest)
		}
		c.Close(context.WithoutCancel(ctx))
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

// Sell makes one booking.
func Sell(ctx context.Context, c *pgx.Conn, reference string) error {
	// Each statement has a deadline: a server that hangs must not hold the
	// application for ever.
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	return pgx.BeginFunc(ctx, c, func(tx pgx.Tx) error {
		sailing := 1 + rand.IntN(600)
		if _, err := tx.Exec(ctx, "insert into bookings (reference, sailing_id, passenger_id) values ($1, $2, $3)", reference, sailing, 1+rand.IntN(passengerRows)); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "update sailings set seats_sold = seats_sold + 1 where id = $1", sailing)
		return err
	})
}

// Missing gives the acknowledged bookings that a server does not hold.
func Missing(ctx context.Context, s *Server, acked []string) ([]string, error) {
	c, err := pgx.Connect(ctx, s.SuperuserURI)
	if err != nil {
		return nil, err
	}
	defer c.Close(ctx)
	rows, err := c.Query(ctx, "select r from unnest($1::text[]) r where not exists (select from bookings where reference = r)", acked)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}
