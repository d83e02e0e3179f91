package mariadb

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"crosstwin/internal/core/binlog"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/host"
)

// What one server's agent hands to a peer's.
const (
	shareState   = "state"   // what its log holds, and which marks
	shareEntries = "entries" // its transactions after a position, one a line
	shareCopy    = "copy"    // a physical copy, as a stream of the backup utility
	shareDump    = "dump"    // a logical copy, as statements
)

// sharedState is the answer to shareState.
type sharedState struct {
	State  string   `json:"gtid_state"`
	Began  string   `json:"gtid_state_at_beginning"` // before the first transaction of its log
	System string   `json:"system"`
	Bytes  int64    `json:"bytes"` // of a physical copy, about
	Marks  []string `json:"marks"`
}

// Share implements engine.Sharer.
func (e *Engine) Share(ctx context.Context, what string, q url.Values, w io.Writer) error {
	switch what {
	case shareState:
		return e.shareState(ctx, w)
	case shareEntries:
		return e.shareEntries(q.Get("after"), w)
	case shareCopy:
		return e.shareCopy(ctx, w)
	case shareDump:
		return e.withUtility(ctx, toDump, func(login string) error {
			return e.RunWatched(ctx, func(string) {}, host.Piped{Stdout: w}, "mariadb-dump", login, "--single-transaction",
				"--master-data=1", "--gtid", "--all-databases", "--events", "--routines", "--triggers", "--hex-blob",
				"--default-character-set=utf8mb4")
		})
	}
	return fmt.Errorf("there is no %q to share", what)
}

// noSuchTable is ER_NO_SUCH_TABLE.
const noSuchTable = 1146

func (e *Engine) shareState(ctx context.Context, w io.Writer) error {
	var s sharedState
	ask := func() error {
		return e.db.QueryRowContext(ctx,
			"select @@global.gtid_binlog_state, (select id from crosstwin.cluster limit 1)").Scan(&s.State, &s.System)
	}
	err := ask()
	if closed, rerr := e.text(ctx, "select @@global.read_only"); number(err) == noSuchTable && rerr == nil &&
		closed == "0" && e.ensureSchema(ctx) == nil {
		err = ask() // a primary that runs already, and was just taken over
	}
	if err != nil {
		return e.explain(err)
	}
	rows, err := e.query(ctx, "select id from crosstwin.mark")
	if err != nil {
		return err
	}
	for _, r := range rows {
		s.Marks = append(s.Marks, r["id"])
	}
	files, err := e.logFiles()
	if err != nil {
		return err
	}
	if len(files) > 0 {
		began, err := stateBefore(e.Data, files[0])
		if err != nil {
			return err
		}
		s.Began = began.String()
	}
	s.Bytes = e.copyBytes()
	return json.NewEncoder(w).Encode(s)
}

// copyBytes sums what the backup utility copies: all but the logs.
func (e *Engine) copyBytes() int64 {
	logs := filepath.Base(e.logBase()) + "."
	relay := filepath.Base(e.memory.Fingerprint(rememberRelay)) + "."
	var n int64
	e.AsOwner(func() error {
		return filepath.WalkDir(e.cfg.DataDir, func(_ string, d os.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() && !strings.HasPrefix(d.Name(), logs) && !strings.HasPrefix(d.Name(), relay) &&
				!strings.HasPrefix(d.Name(), "ib_logfile") {
				if fi, err := d.Info(); err == nil {
					n += fi.Size()
				}
			}
			return nil
		})
	})
	return n
}

func (e *Engine) shareEntries(after string, w io.Writer) error {
	from, err := position.ParseGTIDPosition(after)
	if err != nil {
		return err
	}
	out := bufio.NewWriter(w)
	enc := json.NewEncoder(out)
	err = e.groupsAfter(from, func(_ string, g *binlog.Group) error {
		if !g.Complete {
			return nil
		}
		return enc.Encode(entryOf(g))
	})
	if err != nil {
		return err
	}
	return out.Flush()
}

// groupsAfter reads the transactions of the server's own log that come after a
// position.
func (e *Engine) groupsAfter(from position.GTIDPosition, each func(string, *binlog.Group) error) error {
	files, err := e.logFiles()
	if err != nil || len(files) == 0 {
		return err
	}
	i, err := startFile(e.Data, files, from)
	if err != nil {
		return err
	}
	had := upTo(from)
	return eachGroup(e.Data, files[i:], had, func(file string, g *binlog.Group) error {
		if had(g.GTID.GTID) {
			return nil
		}
		return each(file, g)
	})
}

// shareCopy streams a physical copy. The utility says at its end whether all
// went well; its exit code alone does not (measured).
func (e *Engine) shareCopy(ctx context.Context, w io.Writer) error {
	tmp, err := e.TempDir("crosstwin-copy-")
	if err != nil {
		return err
	}
	defer e.RemoveAll(tmp)
	completed := false
	// In large pieces: each piece costs some calls here and on the other side. What w could
	// take over from the pipe by itself, it would take in small ones.
	large := bufio.NewWriterSize(struct{ io.Writer }{w}, host.PipePiece)
	err = e.withUtility(ctx, toCopy, func(login string) error {
		return e.RunWatched(ctx, func(line string) { completed = completed || strings.Contains(line, "completed OK!") },
			host.Piped{Stdout: large}, "mariadb-backup", login, "--backup", "--stream=mbstream", "--datadir="+e.cfg.DataDir,
			"--target-dir="+tmp)
	})
	if err != nil {
		return err
	}
	if err := large.Flush(); err != nil {
		return err
	}
	if !completed {
		return fmt.Errorf("mariadb-backup on %s did not say that it completed", e.cfg.Name)
	}
	return nil
}

// log returns what the peer's log says of itself. What its data held when the log
// began is left out where no mark proves one origin.
func (s sharedState) log(proven bool) (peerLog, error) {
	state, err := position.ParseGTIDState(s.State)
	if err != nil {
		return peerLog{}, err
	}
	out := peerLog{last: state.Last()}
	if proven {
		out.began, err = position.ParseGTIDState(s.Began)
	}
	return out, err
}

// fetchState asks a peer for the state of its log.
func (e *Engine) fetchState(ctx context.Context, from verb.Peer) (sharedState, error) {
	var s sharedState
	r, err := e.peers.Fetch(ctx, from, shareState, nil)
	if err != nil {
		return s, err
	}
	defer r.Close()
	return s, json.NewDecoder(r).Decode(&s)
}

// fetchEntries asks a peer for its transactions after a position.
func (e *Engine) fetchEntries(ctx context.Context, from verb.Peer, after position.GTIDPosition) ([]entry, error) {
	r, err := e.peers.Fetch(ctx, from, shareEntries, url.Values{"after": {after.String()}})
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var out []entry
	for d := json.NewDecoder(r); ; {
		var x entry
		err := d.Decode(&x)
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
}
