package binlog

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"crosstwin/internal/core/position"
	"time"
)

// mariadb is a real server whose logs are read.
type mariadb struct {
	t   *testing.T
	dir string
}

func newServer(t *testing.T) *mariadb {
	t.Helper()
	if _, err := exec.LookPath("mariadb-install-db"); err != nil {
		t.Fatal("MariaDB is missing: make test installs it")
	}
	dir, err := os.MkdirTemp("", "ctm")
	if err != nil {
		t.Fatal(err)
	}
	m := &mariadb{t, dir}
	var cred *syscall.Credential
	if os.Geteuid() == 0 {
		u, err := user.Lookup("mysql")
		if err != nil {
			t.Fatal(err)
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		os.Chown(dir, uid, gid)
		cred = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	command := func(name string, args ...string) *exec.Cmd {
		c := exec.Command(name, args...)
		// Servers that share a directory for temporary files clear each other's.
		c.Env = append(os.Environ(), "TMPDIR="+dir)
		c.Dir, c.SysProcAttr = "/", &syscall.SysProcAttr{Credential: cred}
		return c
	}
	if out, err := command("mariadb-install-db", "--no-defaults", "--datadir="+dir+"/d",
		"--auth-root-authentication-method=normal").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	s := command("/usr/sbin/mariadbd", "--no-defaults", "--datadir="+dir+"/d", "--socket="+dir+"/s", "--skip-networking",
		"--pid-file="+dir+"/pid", "--log-bin=wren", "--server-id=7", "--gtid-domain-id=1",
		"--binlog-format=ROW", "--binlog-row-metadata=FULL", "--default-time-zone=+00:00", "--log-bin-compress-min-len=10",
		"--innodb-buffer-pool-size=32M", "--character-set-server=utf8mb4")
	log, err := os.Create(dir + "/log")
	if err != nil {
		t.Fatal(err)
	}
	s.Stdout, s.Stderr = log, log
	if err := s.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		s.Process.Kill()
		s.Wait()
		log.Close()
		os.RemoveAll(dir)
	})
	for end := time.Now().Add(60 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if exec.Command("mariadb", "--no-defaults", "-uroot", "-S", dir+"/s", "-e",
			"create database if not exists d").Run() == nil {
			return m
		}
		if time.Now().After(end) {
			b, _ := os.ReadFile(dir + "/log")
			t.Fatalf("the server did not start: %s", b)
		}
	}
}

// sql runs statements and gives what they print, a line a row, values parted
// by tabs.
func (m *mariadb) sql(statements string) string {
	m.t.Helper()
	c := exec.Command("mariadb", "--no-defaults", "-uroot", "-S", m.dir+"/s", "--default-character-set=utf8mb4", "-N",
		"--raw", "--batch", "d")
	c.Stdin = strings.NewReader(statements)
	out, err := c.CombinedOutput()
	if err != nil {
		m.t.Fatalf("%v %s\n%.400s", err, out, statements)
	}
	return strings.TrimRight(string(out), "\n")
}

// logged runs statements in a log file of their own and gives its path.
func (m *mariadb) logged(statements string) string {
	m.t.Helper()
	m.sql("flush binary logs")
	file := strings.Fields(m.sql("show master status"))[0]
	m.sql(statements)
	m.sql("flush binary logs")
	return filepath.Join(m.dir, "d", file)
}

func (m *mariadb) groups(file string) []*Group {
	m.t.Helper()
	b, err := os.ReadFile(file)
	if err != nil {
		m.t.Fatal(err)
	}
	s := NewGroups()
	var out []*Group
	n, err := s.Read(b, func(g *Group) error { out = append(out, g); return nil })
	if err != nil || n != len(b) {
		m.t.Fatalf("read %d of %d bytes: %v", n, len(b), err)
	}
	if !strings.HasPrefix(s.Next, "wren.") || s.State.IsZero() && !strings.HasSuffix(file, "000001") {
		m.t.Errorf("the file leads to %q and begins with the state %v", s.Next, s.State)
	}
	return out
}

// columns of every type, each with values that are easily read wrongly; the
// expression reads the column back from the server as text.
var columns = []struct {
	def, read string
	values    []string
}{
	{"tinyint", "", []string{"-128", "127", "0"}}, {"tinyint unsigned", "", []string{"255", "128"}},
	{"smallint", "", []string{"-32768", "32767"}}, {"smallint unsigned", "", []string{"65535"}},
	{"mediumint", "", []string{"-8388608", "8388607"}}, {"mediumint unsigned", "", []string{"16777215"}},
	{"int", "", []string{"-2147483648", "2147483647"}}, {"int unsigned", "", []string{"4294967295"}},
	{"year", "", []string{"1901", "2155", "0"}}, {"bigint", "", []string{"-9223372036854775808", "9223372036854775807"}},
	{"bigint unsigned", "", []string{"18446744073709551615"}}, {"boolean", "", []string{"true", "false"}},
	{"float", "", []string{"1.5", "-0.25", "0"}}, {"double", "", []string{"-2.25", "1e100", "0.1"}},
	{"decimal(20,6)", "", []string{"-12345.678901", "99999999999999.999999", "0", "-0.000001"}},
	{"decimal(5,0) unsigned", "", []string{"99999", "0"}},
	{"decimal(65,30)", "", []string{"-12345678901234567890123456789012345.123456789012345678901234567890"}},
	{"decimal(9,9)", "", []string{"0.123456789", "-0.5"}}, {"decimal(1,0)", "", []string{"-9"}},
	{"bit(1)", "lpad(bin(%s), 1, '0')", []string{"b'1'", "b'0'"}},
	{"bit(17)", "lpad(bin(%s), 17, '0')", []string{"b'10000000000000001'", "0"}},
	{"bit(64)", "lpad(bin(%s), 64, '0')", []string{"~0", "1"}},
	{"date", "", []string{"'2027-01-02'", "'9999-12-31'", "'1000-01-01'"}},
	{"time", "", []string{"'-12:34:56'", "'838:59:59'", "'-838:59:59'", "0"}},
	{"time(1)", "", []string{"'-00:00:00.5'", "'01:02:03.9'"}}, {"time(3)", "", []string{"'-12:34:56.789'"}},
	{"time(6)", "", []string{"'12:34:56.789012'", "'-00:00:00.000001'", "'-01:00:00'"}},
	{"datetime", "", []string{"'2027-01-02 03:04:05'", "'9999-12-31 23:59:59'"}},
	{"datetime(3)", "", []string{"'2027-01-02 03:04:05.678'"}},
	{"datetime(5)", "", []string{"'2027-12-31 03:04:05.00001'"}},
	{"datetime(6)", "", []string{"'1000-01-01 00:00:00.000001'"}},
	{"timestamp null", "", []string{"'2027-01-02 03:04:05'", "'1970-01-01 00:00:01'"}},
	{"timestamp(2) null", "", []string{"'2027-01-02 03:04:05.67'"}},
	{"timestamp(6) null", "", []string{"'2038-01-19 03:14:07.999999'"}},
	{"char(10)", "hex(%s)", []string{"'abc'", "''"}}, {"char(255)", "hex(%s)", []string{"repeat('ü', 255)"}},
	{"varchar(100)", "hex(%s)", []string{"'it''s'", "''"}}, {"varchar(5000)", "hex(%s)", []string{"repeat('long ', 900)"}},
	{"char(8) character set latin1", "hex(%s)", []string{"'é'"}},
	{"binary(5)", "hex(%s)", []string{"'ab'", "x'0001020000'"}},
	{"varbinary(300)", "hex(%s)", []string{"x'00ff5c27'", "''"}},
	{"tinyblob", "hex(%s)", []string{"x'00ff'"}}, {"blob", "hex(%s)", []string{"repeat('b', 300)"}},
	{"mediumblob", "hex(%s)", []string{"repeat('m', 70000)"}}, {"longblob", "hex(%s)", []string{"'l'"}},
	{"tinytext", "hex(%s)", []string{"'tiny'"}}, {"text", "hex(%s)", []string{"'line\\nline'"}},
	{"mediumtext", "hex(%s)", []string{"'ünïcode'"}}, {"longtext", "hex(%s)", []string{"''"}},
	{"enum('a','it''s','ü')", "", []string{"'a'", "'it''s'", "'ü'"}},
	{"set('x','y','z')", "", []string{"'x,z'", "''", "'y'"}},
	{"json", "hex(%s)", []string{`'{"k": [1, null]}'`}}, {"geometry", "hex(%s)", []string{"point(1, -2)"}},
	{"uuid", "hex(cast(%s as binary(16)))", []string{"'123e4567-e89b-12d3-a456-426655440000'"}},
	{"inet6", "hex(cast(%s as binary(16)))", []string{"'2001:db8::1'"}},
	{"inet4", "hex(cast(%s as binary(4)))", []string{"'10.0.0.255'"}},
	{"text compressed", "hex(%s)", []string{"repeat('compressed ', 50)", "'short'", "''"}},
	{"varchar(900) compressed", "hex(%s)", []string{"repeat('z', 800)"}},
	{"varbinary(100) compressed", "hex(%s)", []string{"repeat('v', 99)"}},
}

// Every column type, read from the log, is what the server itself says of the
// column: with and without full metadata, plain and compressed, in inserts,
// updates and deletes.
func TestEveryColumnType(t *testing.T) {
	m := newServer(t)
	for _, mode := range []string{"set global binlog_row_metadata = 'FULL', global log_bin_compress = 0",
		"set global binlog_row_metadata = 'MINIMAL', global log_bin_compress = 1",
		"set global binlog_row_metadata = 'NO_LOG', global log_bin_compress = 1"} {
		m.sql(mode)
		var defs, inserts, reads []string
		rows := 0
		for i, c := range columns {
			defs = append(defs, fmt.Sprintf("c%d %s", i, c.def))
			read := c.read
			if read == "" {
				read = "cast(%s as char)"
			}
			reads = append(reads, fmt.Sprintf("coalesce("+read+", 'NULL')", fmt.Sprintf("c%d", i)))
			rows = max(rows, len(c.values))
		}
		for r := range rows {
			var names, values []string
			for i, c := range columns {
				if r < len(c.values) {
					names, values = append(names, fmt.Sprintf("c%d", i)), append(values, c.values[r])
				}
			}
			inserts = append(inserts, fmt.Sprintf("insert into t (id, %s) values (%d, %s)", strings.Join(names, ","), r,
				strings.Join(values, ",")))
		}
		file := m.logged("create or replace table t (id int primary key, " + strings.Join(defs, ",") +
			") row_format=dynamic;" + strings.Join(inserts, ";"))
		want := map[int][]string{}
		for r, line := range strings.Split(m.sql("select "+strings.Join(reads, ",")+" from t order by id"), "\n") {
			want[r] = strings.Split(line, "\t")
		}
		seen := 0
		for _, g := range m.groups(file) {
			for _, rows := range g.Rows {
				for _, ch := range rows.Changes {
					m.sameRow(mode, rows.Table, ch.After, want[seen])
					seen++
				}
			}
		}
		if seen != rows {
			t.Fatalf("%s: %d rows in the log, %d were written", mode, seen, rows)
		}
		// The same rows in the images of updates and deletes.
		file = m.logged("update t set c0 = 5 where id = 0; delete from t where id = 0")
		var before []Value
		for _, g := range m.groups(file) {
			for _, rows := range g.Rows {
				if !rows.Full || len(rows.Changes) != 1 {
					t.Fatalf("%s: %+v", mode, rows)
				}
				ch := rows.Changes[0]
				if rows.Kind == "update" {
					m.sameRow(mode, rows.Table, ch.Before, want[0])
					before = ch.After
				} else if fmt.Sprint(ch.Before) != fmt.Sprint(before) {
					t.Errorf("%s: the delete's image is not what the update left", mode)
				}
			}
		}
		m.againstTheUtility(file)
	}
}

// sameRow holds a row from the log against the server's own reading of it.
// Without metadata the log does not say which numbers are unsigned, nor the
// texts of enumerations: such columns are left out then.
func (m *mariadb) sameRow(mode string, t *Table, row []Value, want []string) {
	m.t.Helper()
	if len(row) != len(columns)+1 || len(want) != len(columns) {
		m.t.Fatalf("%d values for %d columns", len(row), len(want))
	}
	for i, c := range columns {
		got := row[i+1]
		text := got.Text
		switch {
		case got.Null:
			text = "NULL"
		case strings.HasPrefix(c.read, "hex("):
			text = strings.ToUpper(fmt.Sprintf("%x", got.Text))
		}
		if !strings.Contains(mode, "FULL") && (strings.HasPrefix(c.def, "enum") || strings.HasPrefix(c.def, "set(")) ||
			strings.Contains(mode, "NO_LOG") && (strings.Contains(c.def, "unsigned") || c.def == "uuid" || c.def == "inet6" ||
				c.def == "binary(5)") {
			continue
		}
		if text == want[i] || sameNumber(c.def, text, want[i]) {
			continue
		}
		m.t.Errorf("%s: column %s (%s): the log says %.80q, the server %.80q", mode, c.def, t.Columns[i+1].Name, text,
			want[i])
	}
}

// sameNumber: a float has more than one shortest text; a 4-byte address is
// stored with the high bytes kept apart.
func sameNumber(def, a, b string) bool {
	if def != "float" && def != "double" {
		return false
	}
	x, err1 := strconv.ParseFloat(a, 64)
	y, err2 := strconv.ParseFloat(b, 64)
	return err1 == nil && err2 == nil && (x == y || float32(x) == float32(y) && def == "float")
}

var (
	atLine   = regexp.MustCompile(`(?m)^# at (\d+)$`)
	gtidLine = regexp.MustCompile(`(?m)\tGTID (\d+-\d+-\d+)`)
	rowLine  = regexp.MustCompile(`(?m)^### (INSERT INTO|UPDATE|DELETE FROM) `)
	nameLine = regexp.MustCompile("(?m)^### (?:INSERT INTO|UPDATE|DELETE FROM) `(.*)`\\.`(.*)`$")
)

// againstTheUtility holds our reading of a file against the server's own log
// dump utility: where each event begins, which GTIDs there are, how many rows
// of which tables.
func (m *mariadb) againstTheUtility(file string) {
	m.t.Helper()
	out, err := exec.Command("mariadb-binlog", "--no-defaults", "-v", "--base64-output=decode-rows",
		"--verify-binlog-checksum", file).Output()
	if err != nil {
		m.t.Fatal(err)
	}
	theirs := map[string]int{}
	for _, re := range []*regexp.Regexp{gtidLine, nameLine, rowLine} {
		for _, x := range re.FindAllSubmatch(out, -1) {
			theirs[string(bytes.Join(x[1:], []byte(".")))]++
		}
	}
	ours := map[string]int{}
	for _, g := range m.groups(file) {
		ours[g.GTID.String()]++
		for _, r := range g.Rows {
			words := map[string]string{"insert": "INSERT INTO", "update": "UPDATE", "delete": "DELETE FROM"}
			ours[r.Table.Database+"."+r.Table.Name] += len(r.Changes)
			ours[words[r.Kind]] += len(r.Changes)
		}
	}
	if fmt.Sprint(ours) != fmt.Sprint(theirs) {
		m.t.Errorf("%s\nwe read  %v\nit reads %v", file, ours, theirs)
	}
	b, _ := os.ReadFile(file)
	r := NewReader()
	begins := map[int]bool{}
	for at := 0; at < len(b); {
		_, n, err := r.Next(b[at:])
		if err != nil {
			m.t.Fatal(err)
		}
		begins[max(at, len(Magic))] = true
		at += n
	}
	for _, x := range atLine.FindAllSubmatch(out, -1) {
		if n, _ := strconv.Atoi(string(x[1])); !begins[n] {
			m.t.Errorf("%s: it sees an event at %d and we do not", file, n)
		}
	}
}

// What can be taken back from its images, and what cannot, and why.
func TestWhyNotUndone(t *testing.T) {
	m := newServer(t)
	m.sql("create table t (a int primary key, s text); create table p (a int primary key); create table c (a int " +
		"primary key, p int, foreign key (p) references p (a) on delete cascade); create table my (a int) " +
		"engine=MyISAM; create sequence sq; insert into p values (1); insert into c values (1, 1); insert into t values " +
		"(1, 'x'), (2, 'y')")
	for _, c := range []struct{ name, statements, why string }{
		{"rows",
			"begin; insert into t values (3, 'z'); update t set s = 'w' where a = 1; delete from t where a = 2; commit", ""},
		{"a savepoint",
			"begin; insert into t values (4, ''); savepoint x; insert into t values (5, ''); rollback to x; commit", ""},
		{"compressed",
			"set global log_bin_compress = 1; insert into t values (6, repeat('much ', 100)); set global log_bin_compress " +
				"= 0", ""},
		{"minimal images of an insert", "set binlog_row_image = 'MINIMAL'; insert into t (a) values (7)", ""},
		{"minimal images of an update", "set binlog_row_image = 'MINIMAL'; update t set s = 'v' where a = 1", "not complete"},
		{"noblob image of a delete", "set binlog_row_image = 'NOBLOB'; delete from t where a = 7", "not complete"},
		{"a statement", "set binlog_format = 'STATEMENT'; update t set s = 'u' where a = 1",
			"statement was logged instead of rows: update t"},
		{"truncate", "truncate t", "changes definitions: truncate t"},
		{"alter", "alter table t add b int", "changes definitions: alter table"},
		{"create as select", "create table t2 as select 1 x", "changes definitions"},
		{"cascade", "delete from p where a = 1", "d.c took part without rows of its own"},
		{"no transactions", "insert into my values (1)", "engine without transactions"},
		{"distributed", "xa start 'x'; insert into t (a) values (9); xa end 'x'; xa prepare 'x'; xa commit 'x'",
			"distributed transaction"},
		{"sequence", "do nextval(sq)", "changes definitions|engine without transactions|statement|"},
	} {
		file := m.logged(c.statements)
		groups := m.groups(file)
		if len(groups) == 0 {
			t.Errorf("%s: no group in the log", c.name)
			continue
		}
		ok := false
		var got []string
		for _, g := range groups {
			why := g.WhyNotUndone()
			got = append(got, why)
			for _, w := range strings.Split(c.why, "|") {
				ok = ok || w == "" && why == "" || w != "" && strings.Contains(why, w)
			}
			if !g.Complete || g.Fingerprint == "" || time.Since(g.At) > time.Hour || g.To <= g.From {
				t.Errorf("%s: %+v", c.name, g)
			}
		}
		if !ok {
			t.Errorf("%s: %q, want %q", c.name, got, c.why)
		}
		m.againstTheUtility(file)
	}
}

// A torn log is read up to the tear; a damaged one is an error; a transaction's
// fingerprint changes with its content and with nothing else.
func TestTornAndDamaged(t *testing.T) {
	m := newServer(t)
	m.sql("create table t (a int primary key, s varchar(50))")
	file := m.logged("insert into t values (1, 'one'); insert into t values (2, 'two'); insert into t values (3, 'three')")
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	whole := m.groups(file)
	if len(whole) != 3 {
		t.Fatalf("%d groups", len(whole))
	}
	read := func(b []byte) (groups []*Group, err error) {
		_, err = NewGroups().Read(b, func(g *Group) error { groups = append(groups, g); return nil })
		return groups, err
	}
	// What is skimmed has its number and ends, and nothing changes for what comes after it.
	skimming := NewGroups()
	skimming.Skim = func(g position.GTID) bool { return g != whole[2].GTID.GTID }
	i := 0
	if _, err := skimming.Read(b, func(g *Group) error {
		w := whole[i]
		if g.GTID != w.GTID || g.From != w.From || g.To != w.To || !g.Complete {
			t.Errorf("skimmed: %+v, want %+v", g, w)
		}
		if last := i == 2; (g.Fingerprint == w.Fingerprint) != last || (len(g.Rows) == 1) != last {
			t.Errorf("group %d: fingerprint %q, rows %d", i, g.Fingerprint, len(g.Rows))
		}
		i++
		return nil
	}); err != nil || i != 3 {
		t.Errorf("%d groups skimmed: %v", i, err)
	}
	for cut := len(Magic); cut < len(b); cut += 7 {
		groups, err := read(b[:cut])
		if err != nil {
			t.Fatalf("cut at %d: %v", cut, err)
		}
		for i, g := range groups {
			complete := int(whole[i].To) <= cut
			if g.Complete != complete || complete && g.Fingerprint != whole[i].Fingerprint {
				t.Errorf("cut at %d: group %d complete %t, want %t", cut, i, g.Complete, complete)
			}
		}
	}
	for at := len(Magic) + 30; at < len(b)-60; at += 11 {
		bad := append([]byte(nil), b...)
		bad[at] ^= 0x40
		if groups, err := read(bad); err == nil && len(groups) == 3 && groups[2].Complete {
			t.Errorf("a bit was turned round at %d and nobody saw it", at)
		}
	}
	// The same rows again, in another place: another number and time.
	again := m.groups(m.logged("delete from t where a = 3; insert into t values (3, 'three')"))
	if len(again) != 2 || again[1].Fingerprint == whole[2].Fingerprint {
		t.Error("two transactions have one fingerprint")
	}
	if s := whole[0].Rows[0].Changes[0].After; s[0].SQL() != "1" || s[1].SQL() != "'one'" ||
		(Value{Text: "a'b"}).SQL() != "x'612762'" || (Value{Null: true}).SQL() != "NULL" {
		t.Errorf("%+v", s)
	}
}
