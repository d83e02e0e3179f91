package service

import (
	"context"
	"sync"
	"time"

	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/view"
)

// logTimeout bounds one reading of a log.
const logTimeout = 60 * time.Second

func (s *Service) logFiles(ctx context.Context, cluster, server string) ([]tail.LogFile, error) {
	t, _, err := s.target(cluster, server)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, logTimeout)
	defer cancel()
	return s.agents.LogFiles(ctx, t)
}

// orPrimary returns the server that is asked when none was named, and the
// cluster as judged last.
func (s *Service) orPrimary(cluster, server string) (string, *Assessment, error) {
	a, err := s.Assessment(cluster)
	if err != nil {
		return "", nil, err
	}
	if server == "" {
		if server = a.View.Primary; server == "" {
			return "", a, badInput("%s has no primary: name a server", cluster)
		}
	}
	return server, a, nil
}

// LogFiles lists the files of a server's log; those of the primary with who
// still needs them.
func (s *Service) LogFiles(ctx context.Context, cluster, server string) (string, []tail.LogFile, error) {
	server, a, err := s.orPrimary(cluster, server)
	if err != nil {
		return "", nil, err
	}
	files, err := s.logFiles(ctx, cluster, server)
	if err != nil {
		return server, nil, err
	}
	if server == a.View.Primary {
		files = plan.Needs(&a.View, files, a.Members)
	}
	return server, files, nil
}

// ReadLog reads a part of a server's log, the primary's when none is named.
func (s *Service) ReadLog(ctx context.Context, cluster, server string, a tail.ReadLogArgs) (string, tail.LogPage,
	error) {
	server, _, err := s.orPrimary(cluster, server)
	if err != nil {
		return "", tail.LogPage{}, err
	}
	t, _, err := s.target(cluster, server)
	if err != nil {
		return server, tail.LogPage{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, logTimeout)
	defer cancel()
	page, err := s.agents.ReadLog(ctx, t, a)
	return server, page, err
}

// Complaints returns the newest warnings and errors of a server's error log.
func (s *Service) Complaints(ctx context.Context, cluster, server string) ([]tail.Complaint, error) {
	t, _, err := s.target(cluster, server)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, logTimeout)
	defer cancel()
	return s.agents.Complaints(ctx, t)
}

// Drift returns the settings in which the servers of a cluster differ, freshly
// asked.
func (s *Service) Drift(ctx context.Context, cluster string) (view.Drift, error) {
	v, err := s.View(cluster)
	if err != nil {
		return view.Drift{}, err
	}
	var wg sync.WaitGroup
	for _, m := range v.Servers {
		wg.Go(func() { s.observe(ctx, cluster, m.Name, true) })
	}
	wg.Wait()
	a, err := s.Assessment(cluster)
	if err != nil {
		return view.Drift{}, err
	}
	return view.DriftOf(&a.View, a.Members), nil
}

// Conflicts tells of the queries that replay cancelled, with the settings that
// move the trade and this cluster's own numbers.
func (s *Service) Conflicts(ctx context.Context, cluster string) (view.Conflicts, error) {
	v, err := s.View(cluster)
	if err != nil {
		return view.Conflicts{}, err
	}
	now := time.Now()
	past, err := s.History(ctx, cluster, now.Add(-24*time.Hour), now, 96)
	if err != nil {
		return view.Conflicts{}, err
	}
	worst := map[string]float64{}
	for _, x := range past.Servers {
		for _, lag := range x.Values["lag_seconds"] {
			if lag != nil {
				worst[x.Server] = max(worst[x.Server], *lag)
			}
		}
	}
	return view.ConflictsOf(&v, worst), nil
}
