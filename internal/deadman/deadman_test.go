package deadman

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"crosstwin/internal/clock"
	"crosstwin/internal/core/guard"
)

type fakeDatabase struct {
	open, killed, remembered atomic.Int64
	unseen, stays            atomic.Bool
}

func (d *fakeDatabase) MayBeOpen() bool { return d.open.Load() > 0 }
func (d *fakeDatabase) Remember() error {
	d.remembered.Add(1)
	if d.unseen.Load() {
		return errors.New("its processes cannot be seen")
	}
	return nil
}
func (d *fakeDatabase) Kill() error {
	if d.killed.Add(1); !d.stays.Load() {
		d.open.Store(0)
	}
	return nil
}

func begin(t *testing.T, db *fakeDatabase, w *Watchdog) string {
	t.Helper()
	socket := filepath.Join(t.TempDir(), SocketFile)
	go Run(t.Context(), socket, db, w, slog.New(slog.DiscardHandler))
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if l, _ := Dial(socket); l.Up() {
			l.current().Close()
			return socket
		}
	}
	t.Fatal("the deadman does not come up")
	return ""
}

func await(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); !ok(); time.Sleep(2 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal(what)
		}
	}
}

// What a deadman was told it keeps to, and says so; at the later of the two ends it kills
// a database that may be open, and one that is shut never.
func TestKillsAtTheEnd(t *testing.T) {
	db := &fakeDatabase{}
	socket := begin(t, db, nil)
	l, held := Dial(socket)
	if held != (guard.Ends{}) {
		t.Fatalf("holds %+v before anybody spoke", held)
	}
	answers := make(chan guard.Held, 1)
	ctx, cancel := context.WithCancel(t.Context())
	go l.Run(ctx, func(e guard.Event) {
		if h, is := e.(guard.Held); is {
			answers <- h
		}
	})
	db.open.Store(1)
	to := guard.Hold{Number: 7, Ends: guard.Ends{Grant: clock.Now() + 200*time.Millisecond,
		Pledge: clock.Now() + 500*time.Millisecond}}
	l.Tell(to)
	if got := <-answers; got != guard.Held(to) {
		t.Fatalf("told %+v, holds %+v", to, got)
	}
	// A new agent hears what is held, and what the earlier one says counts no more.
	cancel()
	next, held := Dial(socket)
	if held != to.Ends {
		t.Errorf("the next agent hears %+v, not %+v", held, to.Ends)
	}
	l.Tell(guard.Hold{Number: 8, Ends: guard.Ends{Grant: clock.Now() + time.Hour}})
	await(t, "not killed at the end", func() bool { return db.killed.Load() > 0 })
	if clock.Now() < to.Ends.Pledge {
		t.Error("killed before the later end")
	}
	if db.remembered.Load() == 0 {
		t.Error("the processes were not remembered")
	}
	if !next.Up() {
		t.Error("the newest agent lost its connection")
	}
}

// Holding nothing, a deadman kills what may be open once a living agent had time to speak.
func TestHoldsNothingAtTheStart(t *testing.T) {
	db := &fakeDatabase{}
	db.open.Store(1)
	begin(t, db, nil)
	await(t, "a database that may be open goes on without a permission", func() bool { return db.killed.Load() > 0 })
}

func TestOneDeadmanOnly(t *testing.T) {
	db := &fakeDatabase{}
	socket := begin(t, db, nil)
	if err := Run(t.Context(), socket, db, nil, slog.New(slog.DiscardHandler)); err == nil ||
		!strings.Contains(err.Error(), "another deadman") {
		t.Errorf("%v", err)
	}
}

// A deadman promises nothing that it could not keep: no permission is held for a database
// that it could not kill. That one ends is taken in any case.
func TestPromisesWhatItCanKeep(t *testing.T) {
	db := &fakeDatabase{}
	socket := begin(t, db, nil)
	l, _ := Dial(socket)
	answers := make(chan guard.Held, 8)
	go l.Run(t.Context(), func(e guard.Event) {
		if h, is := e.(guard.Held); is {
			answers <- h
		}
	})
	db.unseen.Store(true)
	l.Tell(guard.Hold{Number: 1, Ends: guard.Ends{Grant: clock.Now() + time.Hour}})
	l.Tell(guard.Hold{Number: 2})
	if h := <-answers; h.Number != 2 {
		t.Errorf("it answers %+v", h)
	}
	db.unseen.Store(false)
	l.Tell(guard.Hold{Number: 3, Ends: guard.Ends{Grant: clock.Now() + time.Hour}})
	if h := <-answers; h.Number != 3 {
		t.Errorf("it answers %+v", h)
	}
}

// The watchdog is fed while nothing may take writes or the permission is in order, not when
// that is about to end, and again once the database has gone. It is stopped with the deadman.
func TestWatchdog(t *testing.T) {
	path := filepath.Join(t.TempDir(), "watchdog")
	if err := os.WriteFile(path, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	fed := func() int64 {
		f, err := os.Stat(path)
		if err != nil {
			t.Fatal(err)
		}
		return f.Size()
	}
	w, err := OpenWatchdog(path, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	goesOn := func(what string) {
		t.Helper()
		n := fed()
		await(t, "not fed: "+what, func() bool { return fed() > n+1 })
	}
	db := &fakeDatabase{}
	socket := begin(t, db, w)
	goesOn("nothing may take writes")
	l, _ := Dial(socket)
	held := make(chan bool, 4)
	go l.Run(t.Context(), func(guard.Event) { held <- true })
	l.Tell(guard.Hold{Number: 1, Ends: guard.Ends{Grant: clock.Now() + time.Hour}})
	<-held
	db.open.Store(1)
	goesOn("a permission runs")
	db.stays.Store(true) // it cannot be killed
	l.Tell(guard.Hold{Number: 2, Ends: guard.Ends{Grant: clock.Now() + 300*time.Millisecond}})
	await(t, "not killed at the end", func() bool { return db.killed.Load() > 0 })
	if n := fed(); n != fedAfter(3*feedEvery, fed) {
		t.Error("fed although the database may take writes without a permission")
	}
	db.stays.Store(false)
	goesOn("the database has gone")
	if _, err := OpenWatchdog(filepath.Join(t.TempDir(), "none"), slog.New(slog.DiscardHandler)); err == nil {
		t.Error("a watchdog that is not there was opened")
	}
}

func fedAfter(d time.Duration, fed func() int64) int64 {
	time.Sleep(d)
	return fed()
}
