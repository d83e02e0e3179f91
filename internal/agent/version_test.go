package agent

import (
	"strings"
	"testing"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
)

// An enrolment with a server of a version that nobody has tried is refused, by a word that
// says which are.
func TestUnknownVersionIsRefused(t *testing.T) {
	for _, c := range []struct {
		engine, version string
		major           int
		refused         string
	}{
		{position.EnginePostgres, "15.20", 15, ""},
		{position.EnginePostgres, "17.2", 17,
			"PostgreSQL 17.2, which this version of Cross Twin does not know: it was tested with 15"},
		{position.EngineMariaDB, "10.11.19", 1011, ""},
		{position.EngineMariaDB, "11.4.3", 1104,
			"MariaDB 11.4.3, which this version of Cross Twin does not know: it was tested with 10.11"},
		{position.EnginePostgres, "", 0, ""},
	} {
		o := &observation.Server{Process: observation.Process{Version: c.version, MajorVersion: c.major}}
		err := mayServe(Config{Engine: c.engine, DataDir: "/srv/data"}, o)
		if (err != nil) != (c.refused != "") || err != nil && !strings.Contains(err.Error(), c.refused) {
			t.Errorf("%s %s: %v", c.engine, c.version, err)
		}
	}
}
