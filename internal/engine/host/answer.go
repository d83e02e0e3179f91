package host

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"
)

// ClockAhead returns how far a database's clock is ahead of this process's, in
// seconds: what it said, as seconds since 1970 in text, minus the middle of
// question and answer. What the question's own time may explain is 0, and so is
// an answer that is no number.
func ClockAhead(said string, asked, answered time.Time) float64 {
	at, err := strconv.ParseFloat(said, 64)
	if err != nil {
		return 0
	}
	took := answered.Sub(asked)
	ahead := time.UnixMicro(int64(at * 1e6)).Sub(asked.Add(took / 2))
	if max(ahead, -ahead) <= took {
		return 0
	}
	return ahead.Seconds()
}

// Unanswered says why a server gave no observation: not within the time that it
// had, or with an error, whose words are given.
func Unanswered(within time.Duration, err error, words string) string {
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Sprintf("it has not answered within %.0f s", within.Seconds())
	}
	return "it does not answer: " + words
}

// Words says of one question why it has no answer.
func Words(err error, words string) string {
	if errors.Is(err, context.DeadlineExceeded) {
		return "a question was not answered in time"
	}
	return words
}
