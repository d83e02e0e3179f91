package service

import (
	"errors"
	"fmt"
	"testing"
	"testing/synctest"
	"time"
)

// A few failures are free; then each one doubles the wait, from that address
// alone, until a success or a long quiet.
func TestAttempts(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var a attempts
		for range freeFailures {
			if err := a.check("here"); err != nil {
				t.Fatal(err)
			}
			a.failed("here")
		}
		var many TooManyError
		for _, want := range []time.Duration{1, 2, 4, 8} {
			want *= time.Second
			if err := a.check("here"); !errors.As(err, &many) || many.Wait != want {
				t.Fatalf("%v, want a wait of %s", err, want)
			}
			if err := a.check("elsewhere"); err != nil {
				t.Fatalf("another address waits too: %v", err)
			}
			time.Sleep(want)
			if err := a.check("here"); err != nil {
				t.Fatal(err)
			}
			a.failed("here")
		}
		for range 30 {
			time.Sleep(longestWait)
			a.failed("here")
		}
		if err := a.check("here"); !errors.As(err, &many) || many.Wait > longestWait {
			t.Errorf("%v", err)
		}
		time.Sleep(longestWait)
		a.succeeded("here")
		a.failed("here")
		if err := a.check("here"); err != nil {
			t.Errorf("after a success: %v", err)
		}
		time.Sleep(forgetFailures + time.Second)
		for i := range 100 {
			a.failed(fmt.Sprint("address ", i))
		}
		if len(a.by) != 100 {
			t.Errorf("%d addresses are remembered: the old ones were not forgotten", len(a.by))
		}
	})
}
