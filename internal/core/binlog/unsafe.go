package binlog

import (
	"regexp"
	"strings"
)

// unsafeCalls are functions whose result differs from run to run or from
// server to server (the server's documentation, "Unsafe Statements for
// Statement-based Replication"). NOW and RAND are not among them: the log
// carries their time and seed.
var unsafeCalls = regexp.MustCompile(
	`(?i)\b(uuid|uuid_short|sysdate|load_file|user|current_user|session_user|system_user|` +
		`found_rows|row_count|get_lock|is_free_lock|is_used_lock|release_lock|master_pos_wait|sleep|version)\s*\(`)

var (
	changing = regexp.MustCompile(`(?is)^\s*(insert|update|delete|replace|load)\b`)
	limited  = regexp.MustCompile(`(?i)\blimit\s+\d`)
	ordered  = regexp.MustCompile(`(?i)\border\s+by\b`)
	literals = regexp.MustCompile(`'(?:[^'\\]|\\.|'')*'|"(?:[^"\\]|\\.)*"`)
)

// WhyUnsafe tells why a transaction's statements may give another result when
// they are replayed; empty when it was logged as rows, or its statements are
// safe as far as their text shows.
func (g *Group) WhyUnsafe() string {
	for _, q := range g.Statements {
		if harmless(q.Text) {
			continue
		}
		if why := unsafeText(q.Text); why != "" {
			return why
		}
	}
	return ""
}

func unsafeText(text string) string {
	if !changing.MatchString(text) {
		return ""
	}
	plain := literals.ReplaceAllString(text, "''")
	switch m := unsafeCalls.FindStringSubmatch(plain); {
	case m != nil:
		return "it calls " + strings.ToLower(m[1]) + "(), whose result differs from run to run"
	case limited.MatchString(plain) && !ordered.MatchString(plain):
		return "it has a limit without an order: other rows may be meant next time"
	}
	return ""
}
