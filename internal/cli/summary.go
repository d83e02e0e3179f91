package cli

import "sort"

// summary is what a column of values comes to.
type summary struct {
	n                         int
	last, median, high, worst float64
	worstAt                   int // index in the column
}

// summarize leaves out what is not known.
func summarize(column []*float64) summary {
	var s summary
	var known []float64
	for i, v := range column {
		if v == nil {
			continue
		}
		if s.last = *v; len(known) == 0 || *v > s.worst {
			s.worst, s.worstAt = *v, i
		}
		known = append(known, *v)
	}
	if s.n = len(known); s.n > 0 {
		sort.Float64s(known)
		s.median, s.high = known[s.n/2], known[min(s.n-1, s.n*95/100)]
	}
	return s
}
