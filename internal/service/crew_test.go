package service

import (
	"sync"
	"testing"
	"testing/synctest"
	"time"
)

// Each piece of work begins at once, whatever the others are doing; who has done one does the
// next; and without any they leave.
func TestCrew(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCrew()
		var mu sync.Mutex
		atWork, most, done := 0, 0, 0
		add := func(n int) {
			mu.Lock()
			defer mu.Unlock()
			atWork += n
			most = max(most, atWork)
			if n < 0 {
				done++
			}
		}
		for round := range 3 {
			for range 5 {
				c.run(t.Context(), func() { add(1); time.Sleep(time.Second); add(-1) })
			}
			synctest.Wait()
			if atWork != 5 || most != 5 {
				t.Errorf("round %d: %d at work, at most %d", round, atWork, most)
			}
			time.Sleep(crewWaits / 2)
			synctest.Wait()
		}
		if done != 15 {
			t.Errorf("%d of 15 are done", done)
		}
		time.Sleep(2 * crewWaits)
		synctest.Wait() // and the bubble ends only when nobody is left in it
	})
}
