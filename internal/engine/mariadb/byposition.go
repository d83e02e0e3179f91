package mariadb

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"net"
	"strconv"
	"time"

	"github.com/go-sql-driver/mysql"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// byPosition reports whether a link asks for the log by a file's name and a place in it.
func byPosition(l link) bool { return l["Using_Gtid"] == "No" }

// byGTID has a replica that follows by file and position follow by GTID (invariant: it goes on
// exactly where it stands). What can be known while it runs is looked at first. Then it is
// stopped, and its GTID position has to be what its upstream has at the place up to which it
// applied: the server notes GTIDs as it applies them, but nobody has compared them yet. What
// it has received beyond that, a part of a transaction perhaps, is fetched again: that its
// upstream has it, the comparison shows. A replica that cannot change goes on as it did.
func (e *Engine) byGTID(ctx context.Context, l link, up verb.Peer) error {
	switch {
	case !l.at(up.Host, up.Port):
		return fmt.Errorf("%s follows %s:%s by file and position, and a place in that server's log says nothing of %s's: "+
			"have it follow by GTID first, or copy it again", e.cfg.Name, l["Master_Host"], l["Master_Port"], up.Name)
	case l["Slave_SQL_Running"] != "Yes" || l["Slave_IO_Running"] == "No":
		return fmt.Errorf("%s follows %s by file and position and is stopped: start slave has to run before it can "+
			"follow by GTID", e.cfg.Name, up.Name)
	}
	theirs, err := e.openUpstream(up)
	if err != nil {
		return err
	}
	defer theirs.Close()
	if err := cmp.Or(e.noOwnNumbers(ctx, theirs, up.Name), e.sameOrigin(ctx, up)); err != nil {
		return err
	}
	if err = e.exec(ctx, "stop slave"); err == nil {
		err = e.comparePosition(ctx, theirs, up.Name)
	}
	if err == nil {
		err = e.attach(ctx, up, false)
	}
	if err == nil {
		return nil
	}
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	if again := e.startSlave(after, ""); again != nil {
		return fmt.Errorf("%w; and %s could not be started again as it was: %w", err, e.cfg.Name, again)
	}
	if l, again := e.link(after); again != nil || !byPosition(l) {
		return err
	}
	return fmt.Errorf("%w; it goes on by file and position", err)
}

// noOwnNumbers refuses a server whose own log holds transactions that its upstream's never
// held. Those of a time when it was the primary itself are in both.
func (e *Engine) noOwnNumbers(ctx context.Context, theirs *sql.DB, name string) error {
	const state = "select @@global.gtid_binlog_state"
	text, err := e.text(ctx, state) // before the upstream's, which is ahead
	if err != nil {
		return err
	}
	var other string
	if err := theirs.QueryRowContext(ctx, state).Scan(&other); err != nil {
		return fmt.Errorf("ask %s what its log holds: %w", name, err)
	}
	mine, err := position.ParseGTIDState(text)
	its, err2 := position.ParseGTIDState(other)
	if err := cmp.Or(err, err2); err != nil {
		return err
	}
	if own := mine.Extra(its); len(own) > 0 {
		return fmt.Errorf("%s's own log holds transactions that %s's never held, up to %s: by GTID they would stand in the "+
			"way of its upstream's", e.cfg.Name, name, position.StateOf(own...))
	}
	return nil
}

// comparePosition compares the GTID position of a stopped replica with what its upstream has
// at the place where it stands: nothing, where the log from there on is gone.
func (e *Engine) comparePosition(ctx context.Context, theirs *sql.DB, name string) error {
	l, err := e.link(ctx)
	if err != nil {
		return err
	}
	file, place := l["Relay_Master_Log_File"], l["Exec_Master_Log_Pos"]
	mine, err := e.text(ctx, "select @@global.gtid_slave_pos")
	if err != nil {
		return err
	}
	var other sql.NullString
	if err := theirs.QueryRowContext(ctx, "select binlog_gtid_pos(?, ?)", file, place).Scan(&other); err != nil {
		return fmt.Errorf("ask %s for the GTID position at %s:%s: %w", name, file, place, err)
	}
	if !other.Valid {
		return fmt.Errorf("%s has no GTID position for %s:%s, where %s stands", name, file, place, e.cfg.Name)
	}
	a, err := position.ParseGTIDPosition(mine)
	b, err2 := position.ParseGTIDPosition(other.String)
	if err := cmp.Or(err, err2); err != nil {
		return err
	}
	if a.String() != b.String() {
		return fmt.Errorf("%s's GTID position is %q, and %s has %q at %s:%s, where %s stands", e.cfg.Name, mine, name,
			other.String, file, place, e.cfg.Name)
	}
	return nil
}

// openUpstream opens connections to an upstream by the account of replication.
func (e *Engine) openUpstream(up verb.Peer) (*sql.DB, error) {
	e.seen.Lock()
	acc := e.seen.account
	e.seen.Unlock()
	return e.openPeer(up, acc)
}

// openPeer opens connections to a peer by the account of replication.
func (e *Engine) openPeer(peer verb.Peer, acc engine.Account) (*sql.DB, error) {
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Timeout = acc.User, acc.Password, "tcp", 3*time.Second
	c.Addr = net.JoinHostPort(peer.Host, strconv.Itoa(peer.Port))
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
