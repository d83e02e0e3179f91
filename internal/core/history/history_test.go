package history

import (
	"reflect"
	"testing"
)

func of(known map[Metric]float64) (v Values) {
	for m, x := range known {
		v.Set(m, x)
	}
	return v
}

// Each metric has its place; what there is not is not known, and stays apart from 0.
func TestValues(t *testing.T) {
	if len(Metrics) != metrics {
		t.Fatalf("%d metrics have %d places", len(Metrics), metrics)
	}
	var v Values
	for i, m := range Metrics {
		if _, known := v.Get(m); known {
			t.Errorf("%s is known before it is set", m)
		}
		v.Set(m, float64(i))
	}
	v.Set("of a later version", 5)
	n := 0
	for m, x := range v.All() {
		if got, known := v.Get(m); !known || got != x || x != float64(n) {
			t.Errorf("%s is %v (%t), want %d", m, got, known, n)
		}
		n++
	}
	if n != len(Metrics) {
		t.Errorf("%d of %d are known", n, len(Metrics))
	}
}

func TestPeaksSurviveThinning(t *testing.T) {
	var s Series
	var kept []Block
	// Two hours at one sample a second; one second of them with a peak of lag,
	// and one with little room on the disk.
	const from = 1_800_000_000
	for at := int64(from); at < from+7200; at++ {
		x := Sample{At: at, Values: of(map[Metric]float64{Lag: 0.1, DiskFree: 1000})}
		if at == from+1234 {
			x.Values = of(map[Metric]float64{Lag: 9.5, DiskFree: 10})
		}
		kept = append(kept, s.Add(x)...)
	}
	if recent := s.Recent(Lag); len(recent) != recentSamples || *recent[0] != 0.1 {
		t.Errorf("the small picture has %d samples", len(recent))
	}
	kept = append(kept, s.Unsaved()...)
	if again := s.Unsaved(); len(again) != 0 {
		t.Errorf("%d blocks were given twice", len(again))
	}
	for _, step := range Steps {
		n, peak, room := 0, 0.0, 1e9
		for _, b := range kept {
			if b.Step != step {
				continue
			}
			if b.Start != step.BlockStart(b.Start) || len(b.Samples) > perBlock {
				t.Errorf("step %d: a block begins at %d with %d samples", step, b.Start, len(b.Samples))
			}
			n += len(b.Samples)
			for _, x := range b.Samples {
				lag, _ := x.Values.Get(Lag)
				free, _ := x.Values.Get(DiskFree)
				peak, room = max(peak, lag), min(room, free)
			}
		}
		if want := 7200 / int(step); n != want || peak != 9.5 || room != 10 {
			t.Errorf("step %d: %d samples with a peak of %v and room %v, want %d with 9.5 and 10", step, n, peak, room, want)
		}
	}
}

func TestBlocksComeBackAsTheyWere(t *testing.T) {
	b := Block{Step: 1, Start: 60, Samples: []Sample{
		{At: 60, Values: of(map[Metric]float64{Lag: 0, LagBytes: 4096})}, {At: 61, Values: of(map[Metric]float64{Lag: 1.5})},
		{At: 63, Values: Values{}}}}
	data, err := b.Pack()
	if err != nil {
		t.Fatal(err)
	}
	if back, err := Unpack(1, 60, data); err != nil || !reflect.DeepEqual(back, b) {
		t.Errorf("came back as %+v, %v", back, err)
	}
	if _, err := Unpack(1, 60, data[:len(data)/2]); err == nil {
		t.Error("half a block was taken for a whole one")
	}
	// A process that comes back goes on in the block that it left.
	var s Series
	s.Continue(b)
	s.Add(Sample{At: 64, Values: of(map[Metric]float64{Lag: 2})})
	if open := s.Open(1); len(open.Samples) != 4 || open.Samples[3].At != 64 {
		t.Errorf("the block did not go on: %+v", open)
	}
}

func TestRangeChoosesItsStep(t *testing.T) {
	k := DefaultKeep()
	for _, c := range []struct {
		back   int64
		points int
		step   Step
		width  int64
	}{{300, 600, 1, 1}, {3600, 600, 1, 6}, {3601, 600, 10, 10}, {86400, 600, 10, 150}, {30 * 86400, 600, 60, 4320},
		{60 * 86400, 0, 60, 60}} {
		step := k.StepFor(1e9-c.back, 1e9)
		if w := Width(step, c.back, c.points); step != c.step || w != c.width {
			t.Errorf("%d s back: step %d in bins of %d, want %d and %d", c.back, step, w, c.step, c.width)
		}
	}
	thin := Thin([]Sample{{At: 1, Values: of(map[Metric]float64{Lag: 1})}, {At: 5, Values: of(map[Metric]float64{Lag: 3})},
		{At: 11, Values: of(map[Metric]float64{Lag: 2})}}, 10)
	if len(thin) != 2 || thin[0].Values != of(map[Metric]float64{Lag: 3}) || thin[1].At != 10 {
		t.Errorf("thinned to %+v", thin)
	}
}

func FuzzUnpack(f *testing.F) {
	data, _ := Block{Samples: []Sample{{At: 1, Values: of(map[Metric]float64{Lag: 1})}}}.Pack()
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		b, err := Unpack(1, 0, data)
		if err == nil {
			if _, err := b.Pack(); err != nil {
				t.Error(err)
			}
		}
	})
}
