package host

import (
	"context"
	"errors"
	"sync"
	"time"
)

// Silent remembers a process that did not answer in time. It is asked on beside
// everything else, and until it answers nobody else waits for it: a failover from a
// server that hangs looks at it many times. Its zero value is ready.
type Silent struct {
	mu      sync.Mutex
	process string
	err     error
	asking  bool
}

// Err returns why the process counts as silent, nil when it does not. ask asks it
// once, in its own time; as long as it fails the process stays silent.
func (s *Silent) Err(process string, ask func(context.Context) error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if process == "" || process != s.process {
		return nil
	}
	if !s.asking {
		s.asking = true
		go func() {
			err := ask(context.Background())
			s.mu.Lock()
			defer s.mu.Unlock()
			s.asking = false
			if err == nil && s.process == process {
				s.process = ""
			}
		}()
	}
	return s.err
}

// Ask asks a process within a time, unless it is silent; ping is how a silent one
// is asked on.
func (s *Silent) Ask(outer context.Context, process string, within time.Duration,
	ask, ping func(context.Context) error) error {
	limited := func(outer context.Context, f func(context.Context) error) error {
		ctx, cancel := context.WithTimeout(outer, within)
		defer cancel()
		return f(ctx)
	}
	if err := s.Err(process, func(ctx context.Context) error { return limited(ctx, ping) }); err != nil {
		return err
	}
	err := limited(outer, ask)
	if outer.Err() == nil { // else the caller did not wait
		s.Note(process, err)
	}
	return err
}

// Is reports whether the process counts as silent.
func (s *Silent) Is(process string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return process != "" && process == s.process
}

// Note takes in what came of asking a process.
func (s *Silent) Note(process string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		s.process, s.err = process, err
	case s.process == process:
		s.process = ""
	}
}
