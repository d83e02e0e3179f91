package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/view"
	"crosstwin/internal/store"
)

// keeping is how a cluster's synchronous mode is kept; its lock guards it.
type keeping struct {
	busy bool
	next time.Time // when it is tried again
	// wentOn is when commits were last let go on without their replicas.
	wentOn time.Time
}

const (
	// keepLimit bounds one act: a checkpoint may be part of it.
	keepLimit = 10 * time.Minute
	// keepAgain is how long after an act that failed it is tried again.
	keepAgain = 5 * time.Second
	// returnsAfter is how long commits go on without replicas at least: one that was away and
	// comes and goes would have them hang each time.
	returnsAfter = 10 * time.Second
)

// keepMode does what is to be done next so that commits wait for whom the mode says, and so
// that what is promised of acknowledged writes is true: one act at a time, while no operation
// runs.
func (s *Service) keepMode(ctx context.Context, c *watched) {
	c.mu.Lock()
	defer c.mu.Unlock()
	a := c.latest.Load()
	x := a.View.Synchronous
	m := c.member(c.rec.Owner)
	if x == nil || c.op != nil || c.mode.busy || m == nil || m.problem != "" || m.last == nil ||
		m.last.Synchronous == nil || m.last.Process.Role != observation.Primary || !m.last.Guard.Owner ||
		time.Since(m.seenAt) > askLimit || time.Now().Before(c.mode.next) {
		return
	}
	st := x.State()
	if time.Since(c.mode.wentOn) < returnsAfter {
		st.Ready = false
	}
	act, lists := synchronous.Next(st)
	if act == synchronous.Nothing || act == synchronous.Wait {
		return
	}
	if act == synchronous.Apply && st.Want.IsZero() && !x.List.IsZero() {
		c.mode.wentOn = time.Now()
	}
	c.mode.busy = true
	cluster, term := c.rec.Name, c.rec.Term
	go func() {
		ctx, cancel := context.WithTimeout(ctx, keepLimit)
		defer cancel()
		err := s.keep(ctx, cluster, term, a, act, st.Want, lists)
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.mode.busy = false; act == synchronous.Apply {
			c.mode.next = time.Now().Add(watchEvery) // what it has come to is seen first
		}
		if err != nil && ctx.Err() == nil {
			c.mode.next = time.Now().Add(keepAgain)
			s.log.Warn("the synchronous mode could not be kept; it is tried again", "cluster", cluster, "error", err)
		}
	}()
}

func (s *Service) keep(ctx context.Context, cluster string, term int64, a *Assessment, act synchronous.Act,
	want synchronous.List, lists []synchronous.List) error {
	if act == synchronous.Promise {
		was := a.View.Synchronous.Promised
		return s.promise(ctx, cluster, nil, false, func(now []synchronous.List) ([]synchronous.List, error) {
			if !slices.EqualFunc(now, was, synchronous.List.Equal) {
				return nil, store.ErrOtherwise
			}
			return lists, nil
		})
	}
	s.log.Info("commits are to wait", "cluster", cluster, "server", a.View.Primary, "for", want)
	_, err := servers{s}.Do(ctx, cluster, a.View.Primary, agentapi.Request{Step: "keep-mode", Term: term,
		Call: view.Synchronize(a.View.Engine, a.Members, want)})
	if err != nil {
		return err
	}
	_, err = s.observe(ctx, cluster, a.View.Primary, false)
	return err
}

// promise records what every acknowledged write rests on, and with a setting the mode; operates
// says that it is right while an operation is under way.
func (s *Service) promise(ctx context.Context, cluster string, setting *synchronous.Setting, operates bool,
	change func(now []synchronous.List) ([]synchronous.List, error)) error {
	c, err := s.cluster(cluster)
	if err != nil {
		return err
	}
	lists, err := s.Store.Promise(ctx, cluster, setting, c.promisesHeard(), operates, change)
	if err != nil {
		return err
	}
	text := "nothing"
	if len(lists) > 0 {
		var all []string
		for _, l := range lists {
			all = append(all, l.String())
		}
		text = strings.Join(all, "; or ")
	}
	if setting != nil {
		text = fmt.Sprintf("mode %s; %s", setting.Mode, text)
	}
	s.audit(ctx, byItself, "", "acknowledged writes are on", cluster, text)
	return s.reload(ctx, cluster)
}

// promisesHeard is the highest number of a change of what is promised that an agent has noted.
func (c *watched) promisesHeard() (n int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, m := range c.agents() {
		if m.last != nil && guard.Believable(m.last.Promise, c.rec.Promises) {
			n = max(n, m.last.Promise)
		}
	}
	return n
}

// olderPromise drops what is promised where an agent has noted a newer change than the records
// hold: they are from a backup, and acknowledged writes may rest on other replicas by now.
func (s *Service) olderPromise(ctx context.Context, cluster, server string, noted int64) {
	s.log.Warn("an agent has noted a newer change of what commits wait for than the records hold: nothing is promised "+
		"until that is proven anew", "cluster", cluster, "server", server, "noted", noted)
	if err := s.promise(ctx, cluster, nil, true, func([]synchronous.List) ([]synchronous.List, error) {
		return nil, nil
	}); err != nil {
		s.log.Error("what is promised could not be recorded", "cluster", cluster, "error", err)
	}
}

// notePromise has the agents note the newest change of what is promised, before a server is told of a
// list that was added: most of them have to.
func (s *Service) notePromise(ctx context.Context, cluster string) error {
	c, err := s.cluster(cluster)
	if err != nil {
		return err
	}
	c.mu.Lock()
	agents, number := c.agents(), c.rec.Promises
	c.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, observeTimeout)
	defer cancel()
	answers := make(chan bool, len(agents))
	for _, m := range agents {
		go func() {
			o, err := s.observe(ctx, cluster, m.rec.Name, false)
			answers <- err == nil && o.Promise >= number
		}()
	}
	n := 0
	for range agents { // one that is lost is not waited for
		if <-answers {
			n++
		}
		if synchronous.Enough(n, len(agents)) {
			return nil
		}
	}
	return fmt.Errorf("only %d of %d agents answer: most of them have to note whom commits wait for", n, len(agents))
}

// awaitKept waits for an act by which the mode is kept, before an operation changes the mode: of
// two calls to one server the later one counts.
func (c *watched) awaitKept(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, keepLimit)
	defer cancel()
	busy := func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return c.mode.busy
	}
	for busy() && ctx.Err() == nil {
		sleep(ctx, 20*time.Millisecond)
	}
}
