package mariadb

import (
	"context"
	"crypto/rand"
	"crypto/sha1" // #nosec G505 -- MariaDB keeps passwords so
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"crosstwin/internal/engine/host"
)

// The server's own utilities run as the owner of the data, never as root, and log in
// by an account of their own: made for one use with the rights that it takes, known to
// this server alone, and dropped after it. Its password is in a file that only the
// owner can read, and nowhere else.

// utilityUser begins the names of such accounts.
const utilityUser = "crosstwin_utility_"

// What a use takes.
const (
	toCopy = "reload, process, lock tables, binlog monitor"
	toDump = toCopy + ", select, show view, trigger, event"
	toLoad = "all privileges"
)

// withUtility makes an account with rights, hands over the argument that has a utility
// log in by it, and drops the account.
func (e *Engine) withUtility(ctx context.Context, rights string, do func(login string) error) error {
	if err := e.dropAccountsOf(ctx, utilityUser); err != nil {
		return err
	}
	user, password := utilityUser+strings.ToLower(rand.Text()[:8]), rand.Text()
	dir, err := e.TempDir("crosstwin-login-")
	if err != nil {
		return err
	}
	defer e.RemoveAll(dir)
	file := filepath.Join(dir, "client.cnf")
	text := fmt.Sprintf("[client]\nsocket=%s\nuser=%s\npassword=%s\n", e.cfg.Socket, user, password)
	if err := e.AsOwner(func() error { return os.WriteFile(file, []byte(text), 0o600) }); err != nil {
		return err
	}
	who := literal(user) + "@localhost"
	if err := e.accounts(ctx, "create user "+who+" identified via mysql_native_password using "+
		literal(passwordHash(password)), "grant "+rights+" on *.* to "+who+grantOption(rights)); err != nil {
		return fmt.Errorf("make an account for the server's utilities: %w", err)
	}
	err = do("--defaults-file=" + file)
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	return errors.Join(err, e.dropAccountsOf(after, utilityUser))
}

// execute has the server's own client execute what it reads. Of what it says at an error the
// server's own line is kept: it prints the statement as well, with all values in it (measured).
func (e *Engine) execute(ctx context.Context, from io.Reader, args ...string) error {
	said := ""
	err := e.withUtility(ctx, toLoad, func(login string) error {
		return e.RunWatched(ctx, func(line string) {
			if strings.HasPrefix(line, "ERROR ") {
				said = line
			}
		}, host.Piped{Stdin: from}, "mariadb", append([]string{login, "--binary-mode"}, args...)...)
	})
	if err != nil && said != "" && ctx.Err() == nil {
		return fmt.Errorf("mariadb on %s: %s", e.cfg.Name, said)
	}
	return err
}

func grantOption(rights string) string {
	if rights == toLoad {
		return " with grant option"
	}
	return ""
}

// dropAccountsOf drops the accounts whose names begin so, which an interrupted use left, or
// a copy brought along.
func (e *Engine) dropAccountsOf(ctx context.Context, prefix string) error {
	rows, err := e.query(ctx, "select user, host from mysql.global_priv where left(user, ?) = ?", len(prefix), prefix)
	if err != nil {
		return err
	}
	var drops []string
	for _, r := range rows {
		drops = append(drops, "drop user if exists "+literal(r["user"])+"@"+literal(r["host"]))
	}
	if len(drops) == 0 {
		return nil
	}
	return e.accounts(ctx, drops...)
}

// accounts executes statements on accounts of this server alone.
func (e *Engine) accounts(ctx context.Context, statements ...string) error {
	return e.unlogged(ctx, func(c *sql.Conn) error {
		for _, s := range statements {
			if _, err := c.ExecContext(ctx, s); err != nil {
				return err
			}
		}
		return nil
	})
}

// passwordHash is what the server keeps of a password: with it no statement, and so
// no log and no list of processes, holds the password itself (documentation,
// "Authentication Plugin - mysql_native_password").
func passwordHash(password string) string {
	once := sha1.Sum([]byte(password)) // #nosec G401 -- the server's own method
	twice := sha1.Sum(once[:])         // #nosec G401 -- the server's own method
	return "*" + strings.ToUpper(hex.EncodeToString(twice[:]))
}
