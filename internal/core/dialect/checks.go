package dialect

import (
	"fmt"

	"crosstwin/internal/core/operation"
)

func verdict(ok bool, otherwise operation.Result) operation.Result {
	if ok {
		return operation.Pass
	}
	return otherwise
}

func mendIf(bad bool, text string) string {
	if bad {
		return text
	}
	return ""
}

// fact is a check on something that a thorough observation counted.
type fact struct{ key, name, counted, why, mend string }

// checkFacts warns of each counted thing that is there.
func checkFacts(s Subject, facts []fact) (out []operation.Check) {
	for _, f := range facts {
		n, ok := s.Seen.Config.Facts[f.key]
		if !ok {
			continue
		}
		count := fmt.Sprint(n)
		if n == 0 {
			count = "no"
		}
		out = append(out, operation.Check{Name: f.name, Server: s.Name, Result: verdict(n == 0, operation.Warn),
			Evidence: fmt.Sprintf("%s %s on %s", count, f.counted, s.Name), Why: f.why, Mend: mendIf(n != 0, f.mend)})
	}
	return out
}
