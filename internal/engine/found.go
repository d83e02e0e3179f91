package engine

import "crosstwin/internal/engine/host"

// Found is a database server that was found on this host: what an enrolment needs to know
// of it.
type Found struct {
	Engine    string
	Version   string // of the data; empty where there is none
	DataDir   string
	SocketDir string
	Port      int
	// ConfigFile is its configuration where that is not in the data directory, Unit the
	// service manager's unit that runs it; each may be empty. Commands are the host's own
	// where no unit does.
	ConfigFile, Unit string
	Commands         host.Commands
	Running          bool
	Bytes            int64 // of the data directory
}
