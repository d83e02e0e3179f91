package host

import (
	"errors"
	"testing"
)

// What a commit takes is measured; one that waits for ever is given up, and whoever measures
// goes on once its session has ended.
func TestTimeCommits(t *testing.T) {
	n := 0
	timed, err := TimeCommits(func() error { n++; return nil }, nil)
	if err != nil || timed.Commits != n || n != timedCommits || timed.Median < 0 {
		t.Errorf("%+v %v, %d commits", timed, err, n)
	}
	failed := errors.New("no room")
	if _, err := TimeCommits(func() error { return failed }, nil); !errors.Is(err, failed) {
		t.Errorf("one that fails: %v", err)
	}
	ended, returned := make(chan bool), make(chan bool, 1)
	_, err = TimeCommits(func() error { <-ended; returned <- true; return failed }, func() { close(ended) })
	select {
	case <-returned:
	default:
		t.Error("its session was still in use")
	}
	if err == nil || errors.Is(err, failed) {
		t.Errorf("one that waits: %v", err)
	}
}
