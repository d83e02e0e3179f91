package postgres

import (
	"context"
	"errors"
	"fmt"
	"os/user"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/host"
)

// Invariant: rows are read by an account that may read them and nothing else. Whatever a
// table's owner makes a reader run has no more rights than that. It logs in over the local
// socket alone, as the operating system user whose files the data is, and has no password.
//
// A primary makes the account, and replicas get it with the log; the rules that let it in
// are files of each server.

const (
	readerBegin = "# crosstwin begin: the account that reads rows for comparisons, written by the agent"
	readerRule  = "local all " + verb.ReaderUser + " peer map=" + verb.ReaderUser + "\n" +
		"host all " + verb.ReaderUser + " all reject\n"
)

// readerRules puts the rules for the account at the top of an access file.
func readerRules(content string) string { return withReader(content, readerRule) }

// readerMap puts the line that says who may log in as the account at the top of a file of
// user names.
func readerMap(content, owner string) string {
	return withReader(content, fmt.Sprintf("%s %s %[1]s\n", verb.ReaderUser, owner))
}

// withReader leaves a block that is there already where it stands.
func withReader(content, lines string) string {
	block := readerBegin + "\n" + lines + hbaEnd + "\n"
	if strings.Contains(content, block) {
		return content
	}
	return block + withoutReader(content)
}

func withoutReader(content string) string { return host.WithoutBlock(content, readerBegin, hbaEnd) }

// readerLimit is how long the server is given to read its access files again.
const readerLimit = 5 * time.Second

// letReaderIn sees to it that the account is there and is let in. On a replica it is there
// when the primary's log brought it.
func (e *Engine) letReaderIn(ctx context.Context) error {
	if err := e.makeReader(ctx); err != nil {
		return fmt.Errorf("make the account %s on %s: %w", verb.ReaderUser, e.cfg.Name, err)
	}
	id, err := e.Owner()
	if err != nil {
		return err
	}
	owner, err := user.LookupId(strconv.Itoa(int(id.UID)))
	if err != nil {
		return fmt.Errorf("the name of the owner of %s: %w", e.cfg.DataDir, err)
	}
	names := func(now string) string { return readerMap(now, owner.Username) }
	if err := e.rewriteAccess(ctx, "ident_file", names); err != nil {
		return err
	}
	if err := e.rewriteAccess(ctx, "hba_file", readerRules); err != nil {
		return err
	}
	for end := time.Now().Add(readerLimit); ; time.Sleep(20 * time.Millisecond) {
		if err := e.tryReader(ctx); err == nil || time.Now().After(end) || ctx.Err() != nil {
			return err
		}
	}
}

// tryReader logs in as the account.
func (e *Engine) tryReader(ctx context.Context) error {
	c, err := e.connectReader(ctx, "postgres", e.cfg.SocketDir, e.cfg.Port)
	if err != nil {
		return fmt.Errorf("%s does not let in %s, by which the agent reads rows: %w", e.cfg.Name, verb.ReaderUser, err)
	}
	return c.Close(ctx)
}

// makeReader makes the account on a primary, with the rights that it takes; a replica is
// left alone.
func (e *Engine) makeReader(ctx context.Context) error {
	var replica, fit bool
	if err := e.pool.QueryRow(ctx, "select pg_is_in_recovery(), exists (select from pg_roles r where rolname = '"+
		verb.ReaderUser+"' and rolcanlogin and rolbypassrls and rolinherit and not (rolsuper or rolcreaterole or "+
		"rolcreatedb or rolreplication) and (select array_agg(roleid::regrole::text) from pg_auth_members "+
		"where member = r.oid) = '{pg_read_all_data}') and not exists (select from pg_database where datallowconn "+
		"and exists (select from pg_roles where rolname = '"+verb.ReaderUser+"') "+
		"and not has_database_privilege((select oid from pg_roles where rolname = '"+verb.ReaderUser+
		"'), oid, 'connect'))").Scan(&replica, &fit); err != nil {
		return e.explain(err)
	}
	if replica || fit {
		return nil
	}
	return e.exec(ctx, "select "+unsynced+`; do $$ declare r record; begin
		if not exists (select from pg_catalog.pg_roles where rolname = '`+verb.ReaderUser+`') then
			create role `+verb.ReaderUser+`;
		end if;
		alter role `+verb.ReaderUser+` login inherit bypassrls nosuperuser nocreaterole nocreatedb noreplication
			password null;
		for r in select roleid::pg_catalog.regrole as role from pg_catalog.pg_auth_members
				where member = '`+verb.ReaderUser+`'::pg_catalog.regrole loop
			execute 'revoke ' || r.role || ' from `+verb.ReaderUser+`';
		end loop;
		grant pg_read_all_data to `+verb.ReaderUser+`;
		for r in select datname from pg_catalog.pg_database where datallowconn
				and not pg_catalog.has_database_privilege('`+verb.ReaderUser+`', oid, 'connect') loop
			execute pg_catalog.format('grant connect on database %I to `+verb.ReaderUser+`', r.datname);
		end loop;
	end $$`)
}

// connectReader opens a connection that reads rows.
func (e *Engine) connectReader(ctx context.Context, database, socketDir string, port int) (*pgx.Conn, error) {
	return e.connectAs(ctx, verb.ReaderUser, database, socketDir, port)
}

// reader opens a connection that reads the saved rows of data. Data of a time when the
// account was not there yet, which takes no writes any more, is read by the superuser.
func (p *private) reader(ctx context.Context, database string) (*pgx.Conn, error) {
	c, err := p.e.connectReader(ctx, database, p.dir, p.port)
	var refused *pgconn.PgError
	if errors.As(err, &refused) && (refused.Code == "28000" || refused.Code == "42501") {
		return p.connect(ctx, database)
	}
	return c, err
}
