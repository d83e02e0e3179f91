package dialect

import (
	"fmt"

	"crosstwin/internal/core/operation"
)

// A server with the packages' own configuration lacks some of what a cluster needs. Its
// agent adds that, in a place of its own, when it starts the server.

// listens says whether a server listens where the others reach it; setting is the one that
// says where it does.
func listens(s Subject, setting string) []operation.Check {
	if !s.Seen.Config.Apart {
		return nil // its agent sets that at every start
	}
	deaf := s.Seen.Config.AtNextStart[setting] != ""
	c := operation.Check{Name: "Listens for the others", Server: s.Name, Result: verdict(!deaf, operation.Fail),
		Evidence: fmt.Sprintf("%s listens at %s", s.Name, s.Seen.Config.Settings[setting]),
		Why:      "no other server can connect to it", Mend: mendIf(deaf, restartBy(s))}
	if deaf {
		c.Evidence += ", and the others reach it at " + s.Seen.Host.Address.Host
	}
	return []operation.Check{c}
}

// mended returns how a setting is mended: by a restart, where the agent sets it then.
func mended(s Subject, setting, otherwise string) string {
	if s.Seen.Config.AtNextStart[setting] != "" {
		return restartBy(s)
	}
	return otherwise
}

// restartBy is the command after which a server has what its agent sets at a start.
func restartBy(s Subject) string {
	return fmt.Sprintf("crosstwin restart %s %s: its agent sets that at the start", s.Cluster, s.Name)
}
