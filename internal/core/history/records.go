package history

import "time"

// RecordsSize says how large the records are and how they grow.
type RecordsSize struct {
	Path      string `json:"path"`
	FileBytes int64  `json:"file_bytes"` // with the write-ahead log
	// SampleBytes is the part that samples take; AtFullAge is what they will
	// take once the oldest ones are as old as they are kept for.
	SampleBytes      int64      `json:"sample_bytes"`
	SampleBytesAtAge int64      `json:"sample_bytes_at_full_age"`
	GrowthPerDay     int64      `json:"growth_bytes_per_day"`
	OldestSample     *time.Time `json:"oldest_sample,omitempty"`
	Operations       int64      `json:"operations"`
	Events           int64      `json:"events"`
	Servers          int64      `json:"servers"`
}
