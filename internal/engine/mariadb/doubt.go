package mariadb

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
)

// A crash of a server whose commits are not durable leaves a log that holds more
// than the data. To follow from the end of that log would leave the difference out,
// silently.

// rememberVolatile is the process that was seen to run with such settings.
const rememberVolatile = "volatile process"

// noteDurability keeps whether the running process makes its commits durable.
func (e *Engine) noteDurability(o *observation.Server) {
	value := "none"
	if o.Config.Settings["innodb_flush_log_at_trx_commit"] != "1" {
		value = o.Process.Identity
	}
	e.remember(rememberVolatile, value)
}

// volatileEnd reports whether a process with such settings ended and it is not
// known that it ended cleanly.
func (e *Engine) volatileEnd(o *observation.Server) bool {
	was := e.memory.Fingerprint(rememberVolatile)
	if was == "" || was == "none" || was == o.Process.Identity {
		return false
	}
	return o.Process.Running || o.Data.State != stateClean
}

// noteEnd forgets it of a process that ended cleanly: then all is on disk.
func (e *Engine) noteEnd(o *observation.Server) {
	if !o.Process.Running && o.Data.State == stateClean {
		e.remember(rememberVolatile, "none")
	}
}

// doubt tells why this server's log is no proof of what its data holds; empty when
// there is no such reason.
func (e *Engine) doubt(ctx context.Context, o *observation.Server) (string, error) {
	if e.volatileEnd(o) {
		return "it ran with innodb_flush_log_at_trx_commit other than 1 and did not end cleanly, so its data may lack " +
				"what its log holds",
			nil
	}
	if !o.Process.Accepting {
		return "", nil
	}
	return e.beyondData(ctx)
}

// commitTime is how long the data may lag behind the log in the midst of a commit.
const commitTime = 300 * time.Millisecond

// beyondData tells of transactions that stand in the log, and not in the data of
// what was a replica then.
func (e *Engine) beyondData(ctx context.Context) (string, error) {
	read := func(q string) (string, error) { return e.text(ctx, "select @@global."+q) }
	logged, err := read("gtid_binlog_state")
	if err != nil {
		return "", err
	}
	state, err := position.ParseGTIDState(logged)
	if err != nil {
		return "", err
	}
	id, err := read("server_id")
	if err != nil {
		return "", err
	}
	own, err := strconv.ParseUint(id, 10, 32)
	if err != nil {
		return "", err
	}
	var text string
	var missing []position.GTID
	for range 2 {
		if text, err = read("gtid_slave_pos"); err != nil {
			return "", err
		}
		applied, err := position.ParseGTIDPosition(text)
		if err != nil {
			return "", err
		}
		if missing = state.Unapplied(applied, uint32(own)); len(missing) == 0 {
			return "", nil
		}
		time.Sleep(commitTime)
	}
	return fmt.Sprintf("its log holds transactions up to %s, and its data was applied up to %s only", missing[0],
		orNothing(text)), nil
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}
