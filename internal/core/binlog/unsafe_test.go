package binlog

import (
	"strings"
	"testing"
)

func TestUnsafeStatements(t *testing.T) {
	for text, why := range map[string]string{
		"insert into movements values (1, uuid())":                      "uuid()",
		"update containers set at = SYSDATE() where id = 1":             "sysdate()",
		"delete from movements limit 5":                                 "limit",
		"delete from movements order by id limit 5":                     "",
		"insert into ports values ('uuid() is only a text', now())":     "",
		"insert into ports select * from old_ports limit 3":             "limit",
		"update balances set n = n + 1 where port = 'Skerry limit 3'":   "",
		"create table x (id int)":                                       "",
		"INSERT INTO log VALUES (current_user (), 'it''s uuid() here')": "current_user()",
		"BEGIN": "",
	} {
		g := Group{Statements: []Query{{Text: "BEGIN"}, {Text: text}}}
		if got := g.WhyUnsafe(); why == "" && got != "" || !strings.Contains(got, why) {
			t.Errorf("%s: %q, want %q", text, got, why)
		}
	}
}
