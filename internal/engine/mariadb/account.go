package mariadb

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// schema holds what Cross Twin itself keeps in the database, replicated like
// everything else: the identity that all copies of one origin share, and the
// marks of terms and proofs.
const schema = `create database if not exists crosstwin;
create table if not exists crosstwin.cluster (id varchar(32) not null primary key,
  made_at timestamp(6) not null default current_timestamp(6));
create table if not exists crosstwin.mark (seq bigint not null auto_increment primary key,
  id varchar(64) not null unique, term bigint not null, text varchar(200) not null,
  at timestamp(6) not null default current_timestamp(6));
create table if not exists crosstwin.undone (id int not null primary key, fork text not null, tail_end text not null)`

// keptMarks is how many marks are kept beside the first of each term.
const keptMarks = 100

func (e *Engine) ensureSchema(ctx context.Context) error {
	n, err := e.text(ctx,
		"select count(*) from information_schema.tables where table_schema = 'crosstwin' and table_name in ('cluster', "+
			"'mark', 'undone')")
	if err != nil || n == "3" {
		return err
	}
	if err := e.exec(ctx, schema); err != nil {
		return fmt.Errorf("make Cross Twin's own tables: %w", err)
	}
	// MariaDB has no identifier of its own that copies share.
	return e.exec(ctx,
		"insert into crosstwin.cluster (id) select lower(hex(random_bytes(12))) from dual where not exists (select * "+
			"from crosstwin.cluster)")
}

// Prepare implements engine.Accounter. Accounts are data here, so only the primary has
// to do with them; encryption is each server's own.
func (e *Engine) Prepare(ctx context.Context, a verb.Prepare) error {
	if err := e.encrypt(ctx); err != nil {
		return fmt.Errorf("encrypt connections to %s: %w", e.cfg.Name, err)
	}
	if !a.Account {
		return nil
	}
	needs := needsNothing
	if a.Encrypted {
		needs = needsEncryption
	}
	list, err := e.followers(ctx)
	if err != nil {
		return err
	}
	var alter []string
	for _, f := range list {
		if f.needs != needs {
			alter = append(alter, "alter user "+f.who()+" require "+string(needs))
		}
	}
	if len(alter) == 0 || needs == needsEncryption && e.nobodyAcknowledges(ctx) {
		return nil // tightened the next time: a server that is to acknowledge waits for this now
	}
	return e.exec(ctx, strings.Join(alter, "; "))
}

// requirement is what a connection by an account needs, as statements say it.
type requirement string

const (
	needsNothing    requirement = "none"
	needsEncryption requirement = "ssl"
)

// follower is an account by which a server follows, from one host.
type follower struct {
	user, host, secret string
	needs              requirement
}

func (f follower) who() string { return literal(f.user) + "@" + literal(f.host) }

// followers lists the accounts of all servers.
func (e *Engine) followers(ctx context.Context) (out []follower, err error) {
	rows, err := e.query(ctx, "select user, host, coalesce(json_value(priv, '$.authentication_string'), '') secret, "+
		"coalesce(json_value(priv, '$.ssl_type'), 0) needs from mysql.global_priv where left(user, ?) = ?",
		len(verb.AccountPrefix), verb.AccountPrefix)
	for _, r := range rows {
		f := follower{r["user"], r["host"], r["secret"], needsNothing}
		if r["needs"] != "0" {
			f.needs = needsEncryption
		}
		out = append(out, f)
	}
	return out, err
}

// Secret implements engine.Accounter.
func (e *Engine) Secret(password string) (string, error) { return passwordHash(password), nil }

// secretText is the form of such a secret.
var secretText = regexp.MustCompile(`^\*[0-9A-F]{40}$`)

// Grant implements engine.Accounter. The account is let in from where its server was
// seen, which may be several places over time. A host that is no address leaves open
// what the server calls it, so there it is let in from anywhere.
func (e *Engine) Grant(ctx context.Context, server, secret, from string) error {
	if err := cluster.CheckName(server); err != nil {
		return engine.BadInput("%q is no name of a server: %v", server, err)
	}
	if !secretText.MatchString(secret) {
		return engine.BadInput("what %s's agent gave is no hash of a password", server)
	}
	if err := e.ensureSchema(ctx); err != nil {
		return err
	}
	list, err := e.followers(ctx)
	if err != nil {
		return err
	}
	want := follower{verb.ReplicationUser(server), "%", secret, needsNothing}
	if ip, err := netip.ParseAddr(from); err == nil {
		want.host = ip.Unmap().WithZone("").String()
	}
	wanted := map[string]follower{want.host: want}
	for _, f := range list {
		if f.needs == needsEncryption {
			want.needs = needsEncryption
		}
		if f.user == want.user {
			f.secret = secret
			wanted[f.host] = f
		}
	}
	for _, w := range wanted {
		w.needs = want.needs
		if slices.Contains(list, w) {
			continue
		}
		if err := e.exec(ctx, "create user if not exists "+w.who()+"; alter user "+w.who()+
			" identified via mysql_native_password using "+literal(w.secret)+" require "+string(w.needs)+
			"; grant replication slave on *.* to "+w.who()+"; grant select on crosstwin.* to "+w.who()); err != nil {
			return err
		}
	}
	return nil
}

// Remember implements engine.Accounter: the password stands in the server's own
// settings once it follows.
func (e *Engine) Remember(accounts ...engine.Account) error {
	e.seen.Lock()
	e.seen.account = accounts[0]
	e.seen.Unlock()
	return nil
}

// Probe implements engine.Accounter.
func (e *Engine) Probe(ctx context.Context, peer verb.Peer, acc engine.Account) verb.Probed {
	db, err := e.openPeer(peer, acc)
	if err != nil {
		return verb.Probed{Problem: err.Error()}
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, "show grants")
	if err != nil {
		return verb.Probed{Answered: number(err) != 0, Full: number(err) == tooManyConnections, Problem: probeWords(err)}
	}
	may := false
	for rows.Next() {
		var g string
		if rows.Scan(&g) == nil {
			may = may || strings.Contains(g, "REPLICATION SLAVE") && strings.Contains(g, "ON *.*") ||
				strings.Contains(g, "ALL PRIVILEGES ON *.*")
		}
	}
	rows.Close()
	if !may {
		return verb.Probed{Answered: true, Problem: "account " + acc.User + " lacks REPLICATION SLAVE"}
	}
	r := verb.Probed{OK: true, Answered: true}
	if err := db.QueryRowContext(ctx, "select id from crosstwin.cluster limit 1").Scan(&r.System); err != nil {
		return verb.Probed{Answered: true, Problem: "its identity cannot be read: " + err.Error()}
	}
	return r
}

// tooManyConnections is the server's word for max_connections being used up.
const tooManyConnections = 1040

func probeWords(err error) string {
	if number(err) == 1045 {
		return err.Error() +
			" (an account without a name may stand in its way: select user, host from mysql.global_priv where user = '')"
	}
	return err.Error()
}

// Mark implements engine.Engine.
func (e *Engine) Mark(ctx context.Context, id string, term int64, text string) (verb.Marked, error) {
	if err := e.ensureSchema(ctx); err != nil {
		return verb.Marked{}, err
	}
	c, err := e.db.Conn(ctx)
	if err != nil {
		return verb.Marked{}, e.explain(err)
	}
	defer c.Close()
	m := verb.Marked{ID: id}
	if _, err := c.ExecContext(ctx, "insert into crosstwin.mark (id, term, text) values (?, ?, ?)", id, term,
		text); err != nil {
		return m, e.explain(err)
	}
	if err := c.QueryRowContext(ctx, "select @@last_gtid").Scan(&m.At); err != nil {
		return m, e.explain(err)
	}
	if m.At == "" {
		return m, fmt.Errorf("%s gave the mark no GTID: is log_bin on?", e.cfg.Name)
	}
	if m.Line, err = e.line(ctx, c); err != nil {
		return m, err
	}
	if _, err := c.ExecContext(ctx,
		fmt.Sprintf(
			"delete from crosstwin.mark where seq < (select min(seq) from (select seq from crosstwin.mark order by seq "+
				"desc limit %d) x) and seq not in (select s from (select min(seq) s from crosstwin.mark group by term) y)",
			keptMarks)); err != nil {
		return m, e.explain(err)
	}
	return m, e.rememberFound(m)
}

// foundMark is the newest mark that was found on this server: up to there its
// history is known to be the primary's.
type foundMark struct {
	ID string `json:"id"`
	At string `json:"at"`
}

func (e *Engine) rememberFound(m verb.Marked) error {
	b, err := json.Marshal(foundMark{m.ID, m.At})
	if err != nil {
		return err
	}
	return e.memory.SetFingerprint(rememberMark, string(b))
}

func (e *Engine) found() (m foundMark) {
	json.Unmarshal([]byte(e.memory.Fingerprint(rememberMark)), &m)
	return m
}

// line returns the history that the server is on: the newest term that has a
// mark, and that mark.
func (e *Engine) line(ctx context.Context, c interface {
	QueryRowContext(context.Context, string, ...any) *sql.Row
}) (position.Line, error) {
	var l position.Line
	err := c.QueryRowContext(ctx,
		"select c.id, coalesce(m.term, 0), coalesce(m.id, '') from crosstwin.cluster c left join (select term, id from "+
			"crosstwin.mark order by term desc, seq limit 1) m on true").Scan(&l.System, &l.Number, &l.Fingerprint)
	return l, e.explain(err)
}

// FindMark implements engine.Engine: the mark's row has come to this server in
// the transaction that wrote it.
func (e *Engine) FindMark(ctx context.Context, m verb.Marked) error {
	for {
		held, err := e.text(ctx, "select @@global.gtid_slave_pos")
		if err != nil {
			return err
		}
		if ok, _ := position.Reaches(position.EngineMariaDB, held, m.At); ok {
			break
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s has not applied %s in time: it stands at %s", e.cfg.Name, m.At, held)
		case <-time.After(10 * time.Millisecond):
		}
	}
	n, err := e.text(ctx, "select count(*) from crosstwin.mark where id = ?", m.ID)
	if err != nil {
		return err
	}
	if n != "1" {
		return fmt.Errorf("%s has passed %s and does not hold mark %s: the transaction of that number was another one there",
			e.cfg.Name, m.At, m.ID)
	}
	return e.rememberFound(m)
}
