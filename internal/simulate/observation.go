package simulate

import (
	"fmt"
	"math"
	"strconv"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
)

// maker makes up the observations of one server.
type maker struct {
	cluster, server int // its place in the fleet and in its cluster
	number          int // over the whole fleet
	engine          string
}

// The trouble that a part of the replicas has, by the server's number.
const (
	trouble      = 40 // one in so many has some
	behindWave   = 0
	pausedReplay = 1
	linkDown     = 2
	wrongClock   = 3
)

func (m maker) host() string {
	return fmt.Sprintf("10.%d.%d.%d", m.cluster/250, m.cluster%250, m.server+1)
}
func (m maker) port() int    { return 5432 }
func (m maker) name() string { return fmt.Sprintf("s%d", m.server+1) }

// kind returns the server's trouble; none is -1.
func (m maker) kind() int {
	if m.server == 0 || m.number%trouble > 0 {
		return -1
	}
	return (m.number / trouble) % 4
}

// written is where the cluster's primary stands: each writes at a rate of its own.
func (m maker) written(since time.Duration) int64 {
	rate := 20e3 * float64(1+m.cluster%7)
	return 16<<20 + int64(rate*since.Seconds())
}

// behind returns how far back, in time, a replica's applied position is.
func (m maker) behind(since time.Duration) time.Duration {
	switch m.kind() {
	case behindWave:
		return time.Duration((1 + math.Sin(since.Seconds()/20)) * float64(6*time.Second))
	case pausedReplay, linkDown:
		return since
	}
	return 0
}

func (m maker) observation(since time.Duration, req agentapi.ObserveRequest) *observation.Server {
	term := max(1, req.Term)
	o := &observation.Server{At: time.Now().UTC(), Nonce: strconv.FormatInt(int64(since), 36), Engine: m.engine,
		Process: observation.Process{Running: true, Accepting: true, Version: "15.18", MajorVersion: 15,
			ConnectedClients: 20}, Data: observation.Data{System: fmt.Sprintf("sim%d", m.cluster), ClosedByDefault: true,
			Bytes: observation.Known[int64](40 << 30)},
		Log: observation.Log{Line: position.Line{System: fmt.Sprintf("sim%d", m.cluster), Number: 1},
			Bytes: observation.Known[int64](1 << 30)},
		Host: observation.Host{Address: observation.Address{Host: m.host(), Port: m.port()},
			DiskFreeBytes: observation.Known[int64](200 << 30), LogDiskFreeBytes: observation.Known[int64](200 << 30)},
		Config: observation.Config{Live: map[string]string{"delay": "0"}},

		CertificateEnds: time.Now().Add(1440 * time.Hour),
		Guard:           guard.State{Noted: term, Accepted: term, Owner: m.server == 0}}
	if m.kind() == wrongClock {
		o.At = o.At.Add(4 * time.Second)
	}
	primary := maker{cluster: m.cluster, engine: m.engine}
	at := m.written(max(0, since-m.behind(since)))
	if m.server == 0 {
		o.Process.Role, o.Process.Writable = observation.Primary, true
	} else {
		o.Process.Role, o.Log.ProvenTerm = observation.Replica, term
		o.Replay.Paused = m.kind() == pausedReplay
		o.Links.Upstream = &observation.Upstream{Host: primary.host(), Port: primary.port(), Connected: m.kind() != linkDown,
			State: "streaming"}
		if m.kind() == linkDown {
			o.Links.Upstream.Problem = "could not connect to the primary server: Connection refused"
		}
	}
	if m.engine == position.EngineMariaDB {
		m.mariadb(o, at, since)
	} else {
		m.postgres(o, at, since)
	}
	return o
}

func (m maker) postgres(o *observation.Server, at int64, since time.Duration) {
	received := at
	if m.kind() == pausedReplay || m.kind() == behindWave {
		received = m.written(since)
	}
	if m.server == 0 {
		o.Log.Written = position.LSN(at).String()
		return
	}
	o.Log.Applied, o.Log.Received = position.LSN(at).String(), position.LSN(received).String()
	o.Replay.Conflicts = map[string]int64{"snapshot": int64(since.Hours()), "lock": 0, "bufferpin": 0, "tablespace": 0,
		"deadlock": 0}
}

// transactionBytes is how much log one made-up transaction takes.
const transactionBytes = 400

func (m maker) mariadb(o *observation.Server, at int64, since time.Duration) {
	o.Process.Version, o.Process.MajorVersion, o.Log.ServerID = "10.11.19", 1011, uint32(m.server+1)
	gtid := func(at int64) string { return fmt.Sprintf("1-1-%d", at/transactionBytes) }
	place := func(at int64) string { return fmt.Sprintf("sim-bin.000001:%d", at) }
	o.Log.GTIDState = gtid(at)
	if m.server == 0 {
		o.Log.Written, o.Log.WrittenAt = gtid(at), place(at)
		o.Log.Files = []position.LogFile{{Name: "sim-bin.000001", Bytes: uint64(at)}}
		return
	}
	received := at
	if m.kind() != linkDown {
		received = m.written(since)
	}
	o.Log.Applied, o.Log.AppliedAt, o.Log.Received, o.Log.ReceivedAt = gtid(at), place(at), gtid(received), place(received)
}
