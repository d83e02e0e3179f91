package mariadb

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"time"

	"github.com/go-sql-driver/mysql"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// byPosition reports whether a link asks for the log by a file's name and a place in it.
func byPosition(l link) bool { return l["Using_Gtid"] == "No" }

// provePosition stops the receiver of a replica that follows by file and position, lets it
// apply what it has, and makes sure that its GTID position is what its upstream has at that
// place (invariant: by GTID it goes on exactly where it stands). The server notes GTIDs as it
// applies them, but nobody has compared them yet; and numbers of its own would stand in the
// way of the upstream's.
func (e *Engine) provePosition(ctx context.Context, up verb.Peer) error {
	if err := e.noOwnNumbers(ctx); err != nil {
		return err
	}
	if err := e.exec(ctx, "stop slave io_thread"); err != nil {
		return err
	}
	err := e.comparePosition(ctx, up)
	if err == nil {
		return nil
	}
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	if again := e.exec(after, "start slave"); again != nil {
		return fmt.Errorf("%w; and it could not be started again as it was: %w", err, again)
	}
	return fmt.Errorf("%w; it goes on by file and position", err)
}

// noOwnNumbers refuses a server whose own log holds transactions of its own.
func (e *Engine) noOwnNumbers(ctx context.Context) error {
	var id uint32
	var text string
	if err := e.db.QueryRowContext(ctx, "select @@global.server_id, @@global.gtid_binlog_state").Scan(&id,
		&text); err != nil {
		return e.explain(err)
	}
	state, err := position.ParseGTIDState(text)
	if err != nil {
		return err
	}
	if own := state.Of(id); len(own) > 0 {
		return fmt.Errorf("%s's own log holds transactions that it wrote itself, up to %s: by GTID they would stand in the "+
			"way of its upstream's", e.cfg.Name, own)
	}
	return nil
}

func (e *Engine) comparePosition(ctx context.Context, up verb.Peer) error {
	l, err := e.appliedAll(ctx)
	if err != nil {
		return err
	}
	file, place := l["Relay_Master_Log_File"], l["Exec_Master_Log_Pos"]
	mine, err := e.text(ctx, "select @@global.gtid_slave_pos")
	if err != nil {
		return err
	}
	e.seen.Lock()
	acc := e.seen.account
	e.seen.Unlock()
	db, err := e.openPeer(up, acc)
	if err != nil {
		return err
	}
	defer db.Close()
	var theirs sql.NullString
	if err := db.QueryRowContext(ctx, "select binlog_gtid_pos(?, ?)", file, place).Scan(&theirs); err != nil {
		return fmt.Errorf("ask %s for the GTID position at %s:%s: %w", up.Name, file, place, err)
	}
	if !theirs.Valid {
		return fmt.Errorf("%s has no GTID position for %s:%s, where %s stands", up.Name, file, place, e.cfg.Name)
	}
	a, err := position.ParseGTIDPosition(mine)
	b, err2 := position.ParseGTIDPosition(theirs.String)
	if err := cmp.Or(err, err2); err != nil {
		return err
	}
	if a.String() != b.String() {
		return fmt.Errorf("%s's GTID position is %q, and %s has %q at %s:%s, where %s stands", e.cfg.Name, mine, up.Name,
			theirs.String, file, place, e.cfg.Name)
	}
	return nil
}

// appliedAll waits until what was received is applied, and returns the link as it is then.
func (e *Engine) appliedAll(ctx context.Context) (link, error) {
	for end := time.Now().Add(drainLimit); ; time.Sleep(20 * time.Millisecond) {
		l, err := e.link(ctx)
		switch {
		case err != nil:
			return nil, err
		case l == nil || l["Slave_SQL_Running"] != "Yes":
			return nil, fmt.Errorf("%s does not apply what it has received: %s", e.cfg.Name, l["Last_SQL_Error"])
		case l["Relay_Master_Log_File"] == l["Master_Log_File"] && l["Exec_Master_Log_Pos"] == l["Read_Master_Log_Pos"]:
			return l, nil
		case ctx.Err() != nil || time.Now().After(end):
			return nil, fmt.Errorf("%s has not applied what it received, up to %s:%s, in time", e.cfg.Name,
				l["Master_Log_File"], l["Read_Master_Log_Pos"])
		}
	}
}

// openPeer opens connections to a peer by the account of replication.
func (e *Engine) openPeer(peer verb.Peer, acc engine.Account) (*sql.DB, error) {
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Addr, c.Timeout = acc.User, acc.Password, "tcp", fmt.Sprintf("%s:%d", peer.Host, peer.Port),
		3*time.Second
	c.Logger = &mysql.NopLogger{}
	c.InterpolateParams = true
	var err error
	if c.TLS, err = e.insists(peer); err != nil {
		return nil, err
	}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}
