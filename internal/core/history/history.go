// Package history holds what was measured of a server over time, thinned by
// age: each second for an hour, each ten seconds for a day, each minute for a
// month (the ages are the keeper's). A coarser sample keeps the worst of the
// finer ones it stands for, so that a peak of lag is never averaged away.
//
// Samples are kept in blocks of up to sixty: one block is one record of the
// store, written again while it fills and left alone afterwards.
package history

import (
	"bytes"
	"compress/flate"
	"encoding/gob"
	"fmt"
	"io"
	"iter"
	"math"
	"slices"
	"sync"
)

// Metric names one measured value. The names are those of the API.
type Metric string

// All metrics. Those of a replica are absent while a server is primary and the
// other way round; "worst" is the largest but for DiskFree.
const (
	Lag         Metric = "lag_seconds"
	LagBytes    Metric = "lag_bytes"
	NotSent     Metric = "not_sent_bytes"
	NotReceived Metric = "not_received_bytes"
	NotSafe     Metric = "not_safe_bytes"
	NotApplied  Metric = "not_applied_bytes"
	// RiskBytes and RiskSeconds are the recovery point, kept with the primary:
	// what would have been lost had it died then.
	RiskBytes   Metric = "at_risk_bytes"
	RiskSeconds Metric = "at_risk_seconds"
	// Written is the rate at which the primary wrote, in bytes of log a second.
	Written Metric = "written_bytes_per_second"
	LogSize Metric = "log_bytes"
	// DiskFree is on the file system of the log.
	DiskFree Metric = "disk_free_bytes"
	// Conflicts counts queries that replay cancelled since the server started.
	Conflicts Metric = "conflicts_total"
)

// Metrics lists all metrics in the order in which they are shown.
var Metrics = []Metric{Lag, LagBytes, NotSent, NotReceived, NotSafe, NotApplied, RiskBytes, RiskSeconds, Written,
	LogSize, DiskFree, Conflicts}

// Sample is what was measured of one server at one moment, in seconds of Unix
// time.
type Sample struct {
	At     int64
	Values Values
}

// Values hold a number for each metric that is known. They are no map: a fleet has some
// hundred thousand of them in memory.
type Values struct {
	of    [metrics]float64
	known uint16 // a bit for each
}

const metrics = 12

// Set makes a metric known; one that there is none of is left out.
func (v *Values) Set(m Metric, x float64) {
	if i := slices.Index(Metrics, m); i >= 0 {
		v.of[i], v.known = x, v.known|1<<i
	}
}

// Get returns a metric, if it is known.
func (v *Values) Get(m Metric) (float64, bool) {
	i := slices.Index(Metrics, m)
	if i < 0 || v.known&(1<<i) == 0 {
		return 0, false
	}
	return v.of[i], true
}

// All returns those that are known.
func (v *Values) All() iter.Seq2[Metric, float64] {
	return func(yield func(Metric, float64) bool) {
		for i, m := range Metrics {
			if v.known&(1<<i) != 0 && !yield(m, v.of[i]) {
				return
			}
		}
	}
}

// Worse takes b's values into a where they are worse.
func (a *Sample) Worse(b Sample) {
	for m, v := range b.Values.All() {
		old, known := a.Values.Get(m)
		if !known || m == DiskFree && v < old || m != DiskFree && v > old {
			a.Values.Set(m, v)
		}
	}
}

// Step is the distance of samples in seconds.
type Step int64

// Steps are the distances that are kept, finest first.
var Steps = []Step{1, 10, 60}

// perBlock is how many samples a block holds.
const perBlock = 60

// BlockStart returns the beginning of the block that holds a time.
func (s Step) BlockStart(at int64) int64 { return floor(at, int64(s)*perBlock) }

// Bin returns the sample's time that stands for a time.
func (s Step) Bin(at int64) int64 { return floor(at, int64(s)) }

// Span is the time that a block covers, in seconds.
func (s Step) Span() int64 { return int64(s) * perBlock }

func floor(at, unit int64) int64 { return at - ((at%unit)+unit)%unit }

// Block is a run of samples of one server at one step.
type Block struct {
	Step    Step
	Start   int64
	Samples []Sample
}

// Add takes a sample into the block: into the sample of its bin when that is
// there already. Samples come in order of time.
func (b *Block) Add(s Sample) {
	bin := b.Step.Bin(s.At)
	if n := len(b.Samples); n > 0 && b.Samples[n-1].At >= bin {
		b.Samples[n-1].Worse(s)
		return
	}
	b.Samples = append(b.Samples, Sample{At: bin, Values: s.Values})
}

// Series takes the samples of one server as they come and fills a block of
// each step.
type Series struct {
	open   [3]Block
	dirty  [3]bool
	recent Block // of the last ten minutes, for small pictures
}

// recentSamples is how many samples of ten seconds a small picture has.
const recentSamples = 60

// Recent returns the newest samples, ten seconds apart, oldest first: nil where
// the metric was not known.
func (s *Series) Recent(m Metric) []*float64 {
	out := make([]*float64, 0, len(s.recent.Samples))
	for _, x := range s.recent.Samples {
		if v, known := x.Values.Get(m); known {
			out = append(out, &v)
		} else {
			out = append(out, nil)
		}
	}
	return out
}

// Continue hands the series a block that an earlier process left unfinished.
func (s *Series) Continue(b Block) {
	for i, step := range Steps {
		if step == b.Step && len(s.open[i].Samples) == 0 {
			s.open[i] = b
		}
	}
	if b.Step == 10 {
		s.recent = Block{Step: b.Step, Samples: append([]Sample(nil), b.Samples...)}
	}
}

// Add takes a sample and gives the blocks that it finished.
func (s *Series) Add(x Sample) (finished []Block) {
	for i, step := range Steps {
		start := step.BlockStart(x.At)
		b := &s.open[i]
		if len(b.Samples) > 0 && b.Start != start {
			if s.dirty[i] {
				finished = append(finished, *b)
			}
			*b = Block{}
		}
		b.Step, b.Start = step, start
		b.Add(x)
		s.dirty[i] = true
	}
	s.recent.Step = 10
	s.recent.Add(x)
	if n := len(s.recent.Samples); n > recentSamples {
		s.recent.Samples = append([]Sample(nil), s.recent.Samples[n-recentSamples:]...)
	}
	return finished
}

// Unsaved returns the unfinished blocks that changed since they were last given.
func (s *Series) Unsaved() (out []Block) {
	for i := range s.open {
		if s.dirty[i] && len(s.open[i].Samples) > 0 {
			out = append(out, s.open[i])
			s.dirty[i] = false
		}
	}
	return out
}

// Open returns the unfinished block of a step.
func (s *Series) Open(step Step) Block {
	for i := range Steps {
		if Steps[i] == step {
			b := s.open[i]
			b.Samples = append([]Sample(nil), b.Samples...) // the newest is still taken into
			return b
		}
	}
	return Block{}
}

// packed is the form of a block in the records: a column for each metric, with
// NaN where it was not known.
type packed struct {
	At      []int64
	Columns map[Metric][]float64
}

// compressors are used again: each is over a megabyte, and a fleet packs
// hundreds of blocks at a time.
var compressors = sync.Pool{New: func() any {
	w, err := flate.NewWriter(nil, flate.BestSpeed)
	if err != nil {
		panic(err) // it can only be of a level that does not exist
	}
	return w
}}

// Pack returns the bytes under which a block is kept.
func (b Block) Pack() ([]byte, error) {
	p := packed{Columns: map[Metric][]float64{}}
	for i, s := range b.Samples {
		p.At = append(p.At, s.At)
		for m, v := range s.Values.All() {
			if p.Columns[m] == nil {
				p.Columns[m] = unknown(len(b.Samples))
			}
			p.Columns[m][i] = v
		}
	}
	var buf bytes.Buffer
	w := compressors.Get().(*flate.Writer)
	defer compressors.Put(w)
	w.Reset(&buf)
	if err := gob.NewEncoder(w).Encode(p); err != nil {
		return nil, err
	}
	err := w.Close()
	return buf.Bytes(), err
}

func unknown(n int) []float64 {
	c := make([]float64, n)
	for i := range c {
		c[i] = math.NaN()
	}
	return c
}

// largestBlock bounds what Unpack reads: a damaged record must not fill memory.
const largestBlock = 1 << 20

// Unpack reads what Pack wrote.
func Unpack(step Step, start int64, data []byte) (Block, error) {
	var p packed
	r := io.LimitReader(flate.NewReader(bytes.NewReader(data)), largestBlock)
	if err := gob.NewDecoder(r).Decode(&p); err != nil {
		return Block{}, fmt.Errorf("a block of samples cannot be read: %w", err)
	}
	b := Block{Step: step, Start: start, Samples: make([]Sample, len(p.At))}
	for i, at := range p.At {
		b.Samples[i] = Sample{At: at}
	}
	for m, column := range p.Columns {
		if len(column) != len(p.At) {
			return Block{}, fmt.Errorf("a block of samples cannot be read: %s has %d values for %d times", m, len(column),
				len(p.At))
		}
		for i, v := range column {
			if !math.IsNaN(v) {
				b.Samples[i].Values.Set(m, v)
			}
		}
	}
	return b, nil
}

// Keep says for how long samples of each step are kept, in seconds.
type Keep map[Step]int64

// DefaultKeep is an hour, a day and thirty days.
func DefaultKeep() Keep { return Keep{1: 3600, 10: 86400, 60: 30 * 86400} }

// StepFor returns the finest step that still reaches back to a time.
func (k Keep) StepFor(from, now int64) Step {
	for _, s := range Steps {
		if now-from <= k[s] {
			return s
		}
	}
	return Steps[len(Steps)-1]
}

// Thin puts samples into bins of at least width seconds, the worst of each.
func Thin(samples []Sample, width int64) []Sample {
	if width < 1 {
		width = 1
	}
	var out []Sample
	for _, s := range samples {
		bin := floor(s.At, width)
		if n := len(out); n == 0 || out[n-1].At != bin {
			out = append(out, Sample{At: bin})
		}
		out[len(out)-1].Worse(s)
	}
	return out
}

// Width returns the width of bins with which a span of samples at a step gives
// at most points of them: a whole number of steps.
func Width(step Step, seconds int64, points int) int64 {
	w := int64(step)
	if points < 1 || seconds/w <= int64(points) {
		return w
	}
	n := (seconds + int64(points)*w - 1) / (int64(points) * w)
	return n * w
}
