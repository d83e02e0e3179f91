package history

import (
	"sort"
	"time"
)

// Report is what was measured of a cluster between two times. Value i of every
// column belongs to At[i]; null is not known.
type Report struct {
	Cluster     string      `json:"cluster"`
	From        time.Time   `json:"from"`
	To          time.Time   `json:"to"`
	StepSeconds int64       `json:"step_seconds"` // between two times: each shows the worst within it
	At          []time.Time `json:"at"`
	Servers     []Columns   `json:"servers"`
	Marks       []Mark      `json:"marks"`
}

// Columns are one server's values, by metric.
type Columns struct {
	Server string                `json:"server"`
	Values map[Metric][]*float64 `json:"values"`
}

// Mark is something that happened: an operation or an alert.
type Mark struct {
	At   time.Time  `json:"at"`
	End  *time.Time `json:"end,omitempty"`
	Kind string     `json:"kind"` // operation or alert
	ID   int64      `json:"id"`
	Text string     `json:"text"`
}

// Fill puts the samples of servers, in the given order, on common times.
func (r *Report) Fill(servers []string, samples map[string][]Sample) {
	seen := map[int64]bool{}
	var times []int64
	for _, list := range samples {
		for _, x := range list {
			if !seen[x.At] {
				seen[x.At] = true
				times = append(times, x.At)
			}
		}
	}
	sort.Slice(times, func(i, j int) bool { return times[i] < times[j] })
	r.At = make([]time.Time, len(times))
	for i, t := range times {
		r.At[i] = time.Unix(t, 0).UTC()
	}
	r.Servers = []Columns{}
	for _, name := range servers {
		r.Servers = append(r.Servers, Columns{Server: name, Values: columns(times, samples[name])})
	}
}

func columns(times []int64, samples []Sample) map[Metric][]*float64 {
	out := map[Metric][]*float64{}
	i := 0
	for k, at := range times {
		for i < len(samples) && samples[i].At < at {
			i++
		}
		if i == len(samples) || samples[i].At != at {
			continue
		}
		for m, v := range samples[i].Values.All() {
			if out[m] == nil {
				out[m] = make([]*float64, len(times))
			}
			out[m][k] = &v
		}
	}
	return out
}

// Between returns the samples of blocks that lie between two times.
func Between(blocks []Block, from, to int64) (out []Sample) {
	for _, b := range blocks {
		for _, x := range b.Samples {
			if x.At >= from && x.At <= to {
				out = append(out, x)
			}
		}
	}
	return out
}
