package host

import (
	"context"
	"errors"
	"testing"
	"time"
)

// A process that did not answer in time is asked beside everything else, and counts
// as answering once it does; another process is another matter.
func TestSilent(t *testing.T) {
	var s Silent
	answers := make(chan error)
	ask := func(context.Context) error { return <-answers }
	if err := s.Err("1", ask); err != nil {
		t.Errorf("never asked: %v", err)
	}
	s.Note("1", errors.New("a refusal is an answer"))
	if err := s.Err("1", ask); err != nil {
		t.Error(err)
	}
	s.Note("1", context.DeadlineExceeded)
	for range 3 { // asked once, however often it is looked at
		if err := s.Err("1", ask); !errors.Is(err, context.DeadlineExceeded) {
			t.Error(err)
		}
	}
	if err := s.Err("2", ask); err != nil {
		t.Errorf("another process: %v", err)
	}
	answers <- context.DeadlineExceeded
	gone := func() bool { return s.Err("1", ask) == nil }
	if gone() {
		t.Error("it failed again, and counts as answering")
	}
	answers <- nil
	for end := time.Now().Add(10 * time.Second); !gone() && time.Now().Before(end); time.Sleep(time.Millisecond) {
		select {
		case answers <- nil:
		default:
		}
	}
	if !gone() {
		t.Error("it answered, and counts as silent")
	}
}
