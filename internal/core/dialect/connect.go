package dialect

import (
	"fmt"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"crosstwin/internal/core/observation"
)

// Format is a way in which a program is told where to connect.
type Format string

// The formats: an address, variables of the environment, JDBC's address, and a source as the
// engine's own library or Go's driver takes it.
const (
	URI  Format = "uri"
	Env  Format = "env"
	JDBC Format = "jdbc"
	DSN  Format = "dsn"
)

// Formats lists them.
var Formats = []Format{URI, Env, JDBC, DSN}

// Target is where an application is to connect, and as whom.
type Target struct {
	// Servers, the likeliest first. Reader: a replica will do, and is preferred.
	Servers []observation.Address
	Reader  bool
	// Gates: they are gates, which lead to the right server themselves.
	Gates          bool
	User, Database string // empty: the application says
}

// Connection returns the text for a target, without a password. An engine whose clients look for
// a server by its role (ManyHosts) gets all of them, another one the first.
func (d *Dialect) Connection(f Format, t Target) (string, error) {
	if len(t.Servers) == 0 {
		return "", fmt.Errorf("no server is known by an address")
	}
	if !d.ManyHosts && (f != JDBC || !t.Gates) {
		t.Servers = t.Servers[:1]
	}
	if !slices.Contains(Formats, f) {
		return "", fmt.Errorf("there is no format %q: uri, env, jdbc or dsn", f)
	}
	return d.connect[f](t), nil
}

// pairs are the servers with their ports, joined as in an address.
func (t Target) pairs() string {
	var out []string
	for _, s := range t.Servers {
		out = append(out, net.JoinHostPort(s.Host, strconv.Itoa(s.Port)))
	}
	return strings.Join(out, ",")
}

// lists are hosts and ports each by themselves.
func (t Target) lists() (hosts, ports string) {
	var h, p []string
	for _, s := range t.Servers {
		h, p = append(h, s.Host), append(p, strconv.Itoa(s.Port))
	}
	return strings.Join(h, ","), strings.Join(p, ",")
}

// address is SCHEME://USER@SERVERS/DATABASE?QUERY.
func (t Target) address(scheme string, query url.Values) string {
	out := scheme + "://"
	if t.User != "" {
		out += url.PathEscape(t.User) + "@"
	}
	out += t.pairs() + "/" + url.PathEscape(t.Database)
	if q := query.Encode(); q != "" {
		out += "?" + q
	}
	return out
}

// setting is one of NAME=VALUE.
type setting struct{ name, value string }

// settings joins those that have a value.
func settings(between string, quote func(string) string, list ...setting) string {
	var out []string
	for _, s := range list {
		if s.value != "" {
			out = append(out, s.name+"="+quote(s.value))
		}
	}
	return strings.Join(out, between)
}

// forShell quotes a value where a shell would read more into it.
func forShell(s string) string {
	plain := func(r rune) bool {
		return r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || strings.ContainsRune("_-.,:/", r)
	}
	if !strings.ContainsFunc(s, func(r rune) bool { return !plain(r) }) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// forLibpq quotes a value of libpq's connection string.
func forLibpq(s string) string {
	if !strings.ContainsAny(s, ` '\`) {
		return s
	}
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s) + "'"
}

// postgresConnect: libpq and what is like it try one server after the other and ask each for its
// role (target_session_attrs, from version 14 on with prefer-standby); JDBC has its own word.
func postgresConnect() map[Format]func(Target) string {
	role := func(t Target) string {
		if t.Gates {
			return ""
		}
		if t.Reader {
			return "prefer-standby"
		}
		return "read-write"
	}
	return map[Format]func(Target) string{
		URI: func(t Target) string {
			query := url.Values{}
			if r := role(t); r != "" {
				query.Set("target_session_attrs", r)
			}
			return t.address("postgresql", query)
		},
		Env: func(t Target) string {
			hosts, ports := t.lists()
			return settings("\n", forShell, setting{"PGHOST", hosts}, setting{"PGPORT", ports}, setting{"PGUSER", t.User},
				setting{"PGDATABASE", t.Database}, setting{"PGTARGETSESSIONATTRS", role(t)})
		},
		JDBC: func(t Target) string {
			query := url.Values{}
			if !t.Gates {
				query.Set("targetServerType", map[bool]string{false: "primary", true: "preferSecondary"}[t.Reader])
			}
			if t.User != "" {
				query.Set("user", t.User)
			}
			t.User = ""
			return t.address("jdbc:postgresql", query)
		},
		DSN: func(t Target) string {
			hosts, ports := t.lists()
			return settings(" ", forLibpq, setting{"host", hosts}, setting{"port", ports}, setting{"user", t.User},
				setting{"dbname", t.Database}, setting{"target_session_attrs", role(t)})
		},
	}
}

// mariadbConnect: its clients know no list of which they would find the one that takes writes.
func mariadbConnect() map[Format]func(Target) string {
	return map[Format]func(Target) string{
		URI: func(t Target) string { return t.address("mariadb", nil) },
		Env: func(t Target) string {
			host, port := t.lists()
			return settings("\n", forShell, setting{"MYSQL_HOST", host}, setting{"MYSQL_TCP_PORT", port})
		},
		JDBC: func(t Target) string {
			query := url.Values{}
			if t.User != "" {
				query.Set("user", t.User)
			}
			t.User = ""
			if t.Gates && len(t.Servers) > 1 { // its driver tries one after the other
				return t.address("jdbc:mariadb:sequential", query)
			}
			t.Servers = t.Servers[:1]
			return t.address("jdbc:mariadb", query)
		},
		DSN: func(t Target) string {
			out := "tcp(" + t.pairs() + ")/" + url.PathEscape(t.Database)
			if t.User != "" {
				out = t.User + "@" + out
			}
			return out
		},
	}
}
