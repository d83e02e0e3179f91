package mariadb

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"crosstwin/internal/core/verb"
)

// Invariant: rows are read by an account that may read them and nothing else. It is made
// for one session, on this server alone, with a password that nobody else learns, and
// dropped once the session is open: a session keeps the rights with which it began
// (measured).

const (
	oneReader = verb.ReaderUser + "_" // begins the names of such accounts
	toRead    = "select, show view"   // what they may do
)

// reader is a session that reads rows.
type reader struct {
	*sql.Conn
	db *sql.DB
}

// close ends the session; nil has none.
func (r *reader) close() {
	if r != nil {
		end(r.Conn)
		r.db.Close()
	}
}

// openReader opens a session that reads rows.
func (e *Engine) openReader(ctx context.Context) (*reader, error) {
	if err := e.dropAccountsOf(ctx, oneReader); err != nil { // that an interrupted start left
		return nil, err
	}
	c := mysql.NewConfig()
	c.User, c.Passwd = oneReader+strings.ToLower(rand.Text()[:8]), rand.Text()
	c.Net, c.Addr, c.Timeout = "unix", e.cfg.Socket, 3*time.Second
	c.MultiStatements, c.InterpolateParams, c.Collation = true, true, "utf8mb4_bin"
	c.Logger = &mysql.NopLogger{}
	unhurried(c)
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, fmt.Errorf("connection settings of %s: %w", e.cfg.Name, err)
	}
	who := literal(c.User) + "@localhost"
	if err := e.accounts(ctx, "create user "+who+" identified via mysql_native_password using "+
		literal(passwordHash(c.Passwd)), "grant "+toRead+" on *.* to "+who); err != nil {
		return nil, fmt.Errorf("make an account that reads rows: %w", err)
	}
	r := &reader{db: sql.OpenDB(connector)}
	r.Conn, err = r.db.Conn(ctx)
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	if err = errors.Join(e.explain(err), e.accounts(after, "drop user "+who)); err != nil {
		r.db.Close()
		return nil, err
	}
	return r, nil
}
