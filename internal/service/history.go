package service

import (
	"context"
	"sort"
	"time"

	"crosstwin/internal/core/history"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/store"
)

// saveEvery is how many seconds of samples a crash of the service may lose.
// The servers take turns, so that each second saves its share of them.
const saveEvery = 20

// forgetEvery is the time between two looks for records that are too old.
const forgetEvery = 10 * time.Minute

// record takes what the assessments show into each server's series and saves
// what is finished, and this second's share of what is not.
func (s *Service) record(ctx context.Context, clusters []*watched, now time.Time) {
	var out []store.ServerBlock
	for _, c := range clusters {
		fresh := c.sample(&out, now)
		s.goOn(ctx, c, fresh, now)
	}
	if err := s.Store.SaveSamples(ctx, out); err != nil && ctx.Err() == nil {
		s.log.Error("could not keep samples", "error", err)
	}
}

// sample takes one second of a cluster; it returns the members whose series has
// not begun.
func (c *watched) sample(out *[]store.ServerBlock, now time.Time) (fresh []*member) {
	a := c.latest.Load()
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, m := range c.members {
		x := a.View.Find(m.rec.Name)
		if x == nil || x.Health == view.Unseen {
			continue
		}
		if m.series == nil {
			fresh = append(fresh, m)
			continue
		}
		for _, b := range m.series.Add(history.Sample{At: now.Unix(), Values: measured(&a.View, x, a.WrittenBytesRate)}) {
			*out = append(*out, store.ServerBlock{ServerID: m.rec.ID, Block: b})
		}
		if (now.Unix()+m.rec.ID)%saveEvery == 0 {
			for _, b := range m.series.Unsaved() {
				*out = append(*out, store.ServerBlock{ServerID: m.rec.ID, Block: b})
			}
		}
	}
	return fresh
}

// goOn begins the series of servers, each in the blocks that an earlier
// process left unfinished.
func (s *Service) goOn(ctx context.Context, c *watched, members []*member, now time.Time) {
	for _, m := range members {
		series := &history.Series{}
		for _, step := range history.Steps {
			b, found, err := s.Store.UnfinishedSamples(ctx, m.rec.ID, step, step.BlockStart(now.Unix()))
			if err != nil {
				s.log.Warn("earlier samples cannot be read", "server", m.rec.Name, "error", err)
			}
			if found {
				series.Continue(b)
			}
		}
		c.mu.Lock()
		m.series = series
		c.mu.Unlock()
	}
}

// saveAll saves every unfinished block: the service is about to stop.
func (s *Service) saveAll() {
	var out []store.ServerBlock
	for _, c := range s.all() {
		c.mu.Lock()
		for _, m := range c.members {
			if m.series == nil {
				continue
			}
			for _, b := range m.series.Unsaved() {
				out = append(out, store.ServerBlock{ServerID: m.rec.ID, Block: b})
			}
		}
		c.mu.Unlock()
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := s.Store.SaveSamples(ctx, out); err != nil {
		s.log.Error("the last samples cannot be kept", "error", err)
	}
}

// measured are the values of one server as the view shows it.
func measured(v *view.View, x *view.Server, written float64) (values history.Values) {
	if o := x.Observation; o != nil {
		if n, known := o.Log.Bytes.Get(); known {
			values.Set(history.LogSize, float64(n))
		}
		if n, known := o.Host.DiskFreeBytes.Get(); known {
			values.Set(history.DiskFree, float64(n))
		}
		var conflicts int64
		for _, n := range o.Replay.Conflicts {
			conflicts += n
		}
		if len(o.Replay.Conflicts) > 0 {
			values.Set(history.Conflicts, float64(conflicts))
		}
	}
	if x.Name == v.Primary {
		if x.ReportsAs == observation.Primary {
			values.Set(history.Written, written)
		}
		if v.AtRisk.Known && !v.AtRisk.Everything {
			values.Set(history.RiskBytes, float64(v.AtRisk.Bytes))
			values.Set(history.RiskSeconds, v.AtRisk.Seconds)
		}
		return values
	}
	if x.Lag.Known {
		values.Set(history.Lag, x.Lag.Seconds)
		values.Set(history.LagBytes, float64(x.LagBytes))
		values.Set(history.NotSent, float64(x.Stages.NotSent))
		values.Set(history.NotReceived, float64(x.Stages.NotReceived))
		values.Set(history.NotSafe, float64(x.Stages.NotSafe))
		values.Set(history.NotApplied, float64(x.Stages.NotApplied))
	}
	return values
}

// History returns what was measured of a cluster from one time to another, in at
// most points bins (0: as it is kept).
func (s *Service) History(ctx context.Context, cluster string, from, to time.Time, points int) (history.Report, error) {
	if !from.Before(to) {
		return history.Report{}, badInput("the history ends (%s) before it begins (%s)", to.UTC().Format(time.RFC3339),
			from.UTC().Format(time.RFC3339))
	}
	step := s.Keep.StepFor(from.Unix(), time.Now().Unix())
	r := history.Report{Cluster: cluster, From: from.UTC(), To: to.UTC(),
		StepSeconds: history.Width(step, int64(to.Sub(from).Seconds()), points)}
	type line struct {
		id   int64
		name string
		open history.Block
	}
	var lines []line
	c, err := s.cluster(cluster)
	if err != nil {
		return r, err
	}
	c.mu.Lock()
	for _, m := range c.members {
		l := line{id: m.rec.ID, name: m.rec.Name}
		if m.series != nil {
			l.open = m.series.Open(step)
		}
		lines = append(lines, l)
	}
	c.mu.Unlock()
	var names []string
	samples := map[string][]history.Sample{}
	for _, l := range lines {
		blocks, err := s.Store.Samples(ctx, l.id, step, from.Unix(), to.Unix())
		if err != nil {
			return r, err
		}
		if n := len(blocks); n > 0 && blocks[n-1].Start == l.open.Start {
			blocks = blocks[:n-1] // the one in memory is newer
		}
		names = append(names, l.name)
		samples[l.name] = history.Thin(history.Between(append(blocks, l.open), from.Unix(), to.Unix()), r.StepSeconds)
	}
	r.Fill(names, samples)
	r.Marks, err = s.marks(ctx, cluster, from, to)
	return r, err
}

// LagLines gives, by cluster and server, the time behind of the last ten
// minutes, ten seconds apart and oldest first.
func (s *Service) LagLines() map[string]map[string][]*float64 {
	out := map[string]map[string][]*float64{}
	for _, c := range s.all() {
		c.mu.Lock()
		lines := map[string][]*float64{}
		for _, m := range c.members {
			if m.series != nil && m.rec.Name != c.rec.Owner {
				lines[m.rec.Name] = m.series.Recent(history.Lag)
			}
		}
		out[c.rec.Name] = lines
		c.mu.Unlock()
	}
	return out
}

// marks puts operations and alerts on the time line.
func (s *Service) marks(ctx context.Context, cluster string, from, to time.Time) ([]history.Mark, error) {
	out := []history.Mark{}
	ops, err := s.Store.OperationsBetween(ctx, cluster, from, to)
	if err != nil {
		return nil, err
	}
	for _, o := range ops {
		text := string(o.Kind)
		if o.Plan.Candidate != "" {
			text += " to " + o.Plan.Candidate
		} else if o.Plan.Target != "" {
			text += " of " + o.Plan.Target
		}
		if o.Outcome != "" {
			text += ", " + string(o.Outcome)
		}
		out = append(out, history.Mark{At: o.CreatedAt, End: o.EndedAt, Kind: "operation", ID: o.ID, Text: text})
	}
	alerts, err := s.Store.AlertsBetween(ctx, cluster, from, to)
	if err != nil {
		return nil, err
	}
	for _, a := range alerts {
		out = append(out, history.Mark{At: a.RaisedAt, End: a.ClearedAt, Kind: "alert", ID: a.ID, Text: a.Text})
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].At.Before(out[j].At) })
	return out, nil
}
