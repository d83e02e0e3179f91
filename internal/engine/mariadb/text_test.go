package mariadb

import (
	"bufio"
	"errors"
	"strings"
	"testing"

	"crosstwin/internal/core/position"
)

func TestClosedByFile(t *testing.T) {
	for text, want := range map[string]bool{
		"": false, "[mariadbd]\nport=1\n": false, "[mariadbd]\nread_only=1\n": true, "[mysqld]\nread-only\n": true,
		"[server]\n read_only = ON \n": true, "[mariadbd]\n#read_only=1\n": false,
		"[client]\nread_only=1\n": false, "[mariadbd]\nread_only=1\n[mysqld]\nread_only=0\n": false,
		"[mariadbd]\nread_only=0\n[mariadbd]\nread_only=true\n": true, "read_only=1\n": false,
		"[MariaDBd]\nREAD_ONLY=1": true,
	} {
		if got := closedByFile(text); got != want {
			t.Errorf("%q closes: %t", text, got)
		}
	}
}

// The position stands in a statement of a dump, wherever the stream is cut.
func TestPositionWatch(t *testing.T) {
	dump := strings.Repeat("insert into t values ('SET GLOBAL gtid');\n", 50) +
		"SET GLOBAL gtid_slave_pos='1-11-42,2-3-4';\n-- end\n"
	for cut := 1; cut < len(dump); cut += 7 {
		w := &positionWatch{}
		for rest := dump; rest != ""; {
			n := min(cut, len(rest))
			if k, err := w.Write([]byte(rest[:n])); k != n || err != nil {
				t.Fatalf("%d %v", k, err)
			}
			rest = rest[n:]
		}
		if w.found != "1-11-42,2-3-4" {
			t.Fatalf("in pieces of %d: %q", cut, w.found)
		}
	}
}

// Only the images are taken over, not the utility's own transactions; output
// that ends within one is an error.
func TestReadImages(t *testing.T) {
	text := "#comment\nSTART TRANSACTION/*!*/;\nBINLOG '\nYWJj\nZGVm\n'/*!*/;\nCOMMIT\n/*!*/;\nBINLOG " +
		"'\nZ2hp\n'/*!*/;\nROLLBACK;\n"
	var got []string
	err := readImages(bufio.NewReader(strings.NewReader(text)), func(s string) error { got = append(got, s); return nil })
	if err != nil || len(got) != 2 || got[0] != "BINLOG '\nYWJj\nZGVm\n'" || got[1] != "BINLOG '\nZ2hp\n'" {
		t.Errorf("%q %v", got, err)
	}
	if err := readImages(bufio.NewReader(strings.NewReader("BINLOG '\nYWJj\n")),
		func(string) error { return nil }); err == nil {
		t.Error("a torn output passes")
	}
	wrong := errors.New("row not found")
	if err := readImages(bufio.NewReader(strings.NewReader(text)), func(string) error { return wrong }); !errors.Is(err,
		wrong) {
		t.Errorf("%v", err)
	}
}

func TestLaterAndLast(t *testing.T) {
	for _, c := range [][3]string{{"1-11-5", "1-12-7", "1-12-7"}, {"1-12-7", "1-11-5", "1-12-7"}, {"", "1-1-1", "1-1-1"},
		{"1-1-1", "", "1-1-1"}, {"1-1-9,3-1-1", "1-1-5,2-2-2", "1-1-9,2-2-2,3-1-1"}} {
		if got := later(c[0], c[1]); got != c[2] {
			t.Errorf("later of %q and %q is %q", c[0], c[1], got)
		}
	}
	s, err := position.ParseGTIDState("1-11-5,1-12-9,1-13-2,2-11-1")
	if err != nil {
		t.Fatal(err)
	}
	if got := s.Last().String(); got != "1-12-9,2-11-1" {
		t.Error(got)
	}
}

func TestShared(t *testing.T) {
	e := func(server uint32, seq uint64, print string) entry {
		return entry{GTID: position.GTID{Domain: 1, Server: server, Seq: seq}, Fingerprint: print, At: int64(seq)}
	}
	common := []entry{e(11, 1, "a"), e(11, 2, "b"), e(11, 3, "c")}
	statement := e(11, 3, "other form")
	statement.Statements = true
	at := func(s string) peerLog {
		state, err := position.ParseGTIDState(s)
		if err != nil {
			t.Fatal(err)
		}
		return peerLog{last: state.Last()}
	}
	began := func(p peerLog, s string) peerLog {
		state, err := position.ParseGTIDState(s)
		if err != nil {
			t.Fatal(err)
		}
		p.began = state
		return p
	}
	for _, c := range []struct {
		name         string
		mine, theirs []entry
		peer         peerLog
		matched      int
		gap          bool
	}{
		{"all of it", common, common, at("1-11-3"), 3, false},
		{"the primary went on", common, append(common[:3:3], e(12, 4, "d")), at("1-12-4"), 3, false},
		{"a tail", append(common[:3:3], e(11, 4, "x")), append(common[:3:3], e(12, 4, "d")), at("1-12-4"), 3, false},
		{"a number used twice", []entry{e(11, 3, "z")}, common[2:], at("1-11-3"), 0, false},
		{"another form of a statement", []entry{statement}, common[2:], at("1-11-3"), 1, false},
		{"the primary never wrote there", common, nil, at("2-12-9"), 0, false},
		{"the primary's log was cut off", common, []entry{e(11, 9, "i")}, at("1-11-9"), 0, true},
		{"its log began behind them", common, nil, at("1-11-3"), 0, true},
		{"its log began behind them, proven", common, nil, began(at("1-11-3"), "1-11-3"), 3, false},
		{"and one more here", common, nil, began(at("1-11-2"), "1-11-2"), 2, false},
		{"and one more on both", append(common[:3:3], e(11, 4, "x")), []entry{e(12, 4, "d")},
			began(at("1-12-4"), "1-11-3"), 3, false},
		{"other servers' numbers prove nothing", common, nil, began(at("1-12-3"), "1-12-3"), 0, true},
	} {
		got := sharedCounts(c.mine, c.theirs, c.peer)[1]
		if got.matched != c.matched || got.gap != c.gap {
			t.Errorf("%s: %+v", c.name, got)
		}
	}
}

// A setting of ours is the file's last word, once, and nothing else is touched.
func TestSetInFile(t *testing.T) {
	begin := "[mariadbd]\nport = 1\nmax_binlog_size = 5\n\n[client]\nuser = x\n"
	once := setInFile(begin, "max_binlog_size", "100")
	if !strings.HasPrefix(once, strings.TrimRight(begin, "\n")) ||
		!strings.HasSuffix(once, "[mariadbd]\n"+setMark+"max_binlog_size\nmax_binlog_size = 100\n") {
		t.Errorf("%q", once)
	}
	twice := setInFile(once, "max_binlog_size", "200")
	if strings.Count(twice, "max_binlog_size = ") != 2 || !strings.HasSuffix(twice, "max_binlog_size = 200\n") ||
		strings.Contains(twice, "= 100") {
		t.Errorf("%q", twice)
	}
	other := setInFile(twice, "slave_parallel_threads", "4")
	if !strings.Contains(other, "max_binlog_size = 200\n") || !strings.HasSuffix(other, "slave_parallel_threads = 4\n") ||
		closedByFile(other) {
		t.Errorf("%q", other)
	}
}

func TestParseOptions(t *testing.T) {
	o := parseOptions("mariadbd would have been started with the following arguments:\n--user=mysql " +
		"--innodb-data-home-dir=/a b/c --skip-name-resolve --datadir=/one --datadir=/two \n")
	if o["user"] != "mysql" || o["innodb_data_home_dir"] != "/a b/c" || o["datadir"] != "/two" || len(o) != 4 {
		t.Errorf("%q", o)
	}
	if _, set := o["skip_name_resolve"]; !set || len(parseOptions("")) != 0 {
		t.Errorf("%q", o)
	}
}
