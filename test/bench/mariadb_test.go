package bench

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/go-sql-driver/mysql"

	"crosstwin/internal/demo"
)

// mariadbHand is the careful sequence of bare statements over open sessions:
// the candidate waited for beforehand, read-only, the global read lock, every
// client cut off, the last GTID awaited, roles changed.
type mariadbHand struct {
	ctx                   context.Context
	primary, other, third *demo.Server
	sessions              map[*demo.Server]*sql.Conn
	user, password        string
}

func newMariaDBHand(ctx context.Context, w *demo.Cluster, primary, other, third *demo.Server) (byHand, error) {
	h := &mariadbHand{ctx: ctx, primary: primary, other: other, third: third, sessions: map[*demo.Server]*sql.Conn{}}
	b, err := os.ReadFile(filepath.Join(primary.AgentDir, "account.json"))
	if err != nil {
		return nil, err
	}
	var account struct{ User, Password string }
	if err := json.Unmarshal(b, &account); err != nil {
		return nil, err
	}
	h.user, h.password = account.User, account.Password
	for _, s := range w.Servers {
		db, err := s.Open()
		if err != nil {
			return nil, err
		}
		if h.sessions[s], err = db.Conn(ctx); err != nil {
			return nil, err
		}
	}
	return h, nil
}

func (h *mariadbHand) do(s *demo.Server, statement string) error {
	_, err := h.sessions[s].ExecContext(h.ctx, statement)
	return err
}

func (h *mariadbHand) get(s *demo.Server, query string) (v string, err error) {
	return v, h.sessions[s].QueryRowContext(h.ctx, query).Scan(&v)
}

func (h *mariadbHand) follow(s, upstream *demo.Server, more string) error {
	return h.do(s,
		fmt.Sprintf(
			"change master to master_host = '%s', master_port = %d, master_user = '%s', master_password = '%s', "+
				"master_use_gtid = slave_pos%s; start slave", upstream.Host, upstream.Port, h.user, h.password, more))
}

func (h *mariadbHand) switchover() error {
	p, n, c := h.primary, h.other, h.third
	for {
		at, err := h.get(p, "select @@global.gtid_binlog_pos")
		if err != nil {
			return err
		}
		began := time.Now()
		if _, err := h.get(n, "select master_gtid_wait('"+at+"', 5)"); err != nil {
			return err
		}
		if time.Since(began) < 5*time.Millisecond {
			break
		}
	}
	// The pause.
	if err := h.do(p, "set lock_wait_timeout = 5; set global read_only = 1; flush tables with read lock"); err != nil {
		return err
	}
	if err := h.cutOff(p); err != nil {
		return err
	}
	at, err := h.get(p, "select @@global.gtid_binlog_pos")
	if err != nil {
		return err
	}
	if ok, err := h.get(n, "select master_gtid_wait('"+at+"', 5)"); err != nil || ok != "0" {
		return fmt.Errorf("%s did not come to %s: %s %w", n.Name, at, ok, err)
	}
	if err := h.do(n, "stop slave; set global read_only = 0; reset slave all"); err != nil {
		return err
	}
	// After it.
	if err := h.do(c, "stop slave"); err != nil {
		return err
	}
	if err := h.follow(c, n, ""); err != nil {
		return err
	}
	if err := h.do(p, "unlock tables"); err != nil {
		return err
	}
	if err := h.follow(p, n, ", master_demote_to_slave = 1"); err != nil {
		return err
	}
	h.primary, h.other = n, p
	return nil
}

// cutOff ends all clients' sessions at one go; one that ended by itself meanwhile is no error.
func (h *mariadbHand) cutOff(s *demo.Server) error {
	for {
		err := h.cutOffOnce(s)
		var gone *mysql.MySQLError
		if !errors.As(err, &gone) || gone.Number != noSuchThread {
			return err
		}
	}
}

const noSuchThread = 1094

func (h *mariadbHand) cutOffOnce(s *demo.Server) error {
	rows, err := h.sessions[s].QueryContext(h.ctx,
		"select id from information_schema.processlist where id <> connection_id() and user <> 'system user' and "+
			"command not in ('Binlog Dump', 'Daemon')")
	if err != nil {
		return err
	}
	kill := "do 0"
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return err
		}
		kill += fmt.Sprintf("; kill %d", id)
	}
	rows.Close()
	return h.do(s, kill)
}
