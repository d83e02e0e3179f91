package pgtool

import (
	"os"
	"strings"
	"testing"

	"crosstwin/internal/core/position"
)

func read(t testing.TB, name string) string {
	b, err := os.ReadFile("testdata/" + name)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func TestParseControl(t *testing.T) {
	text := read(t, "controldata.txt")
	c, err := ParseControl(text)
	if err != nil {
		t.Fatal(err)
	}
	if c.State != StateInProduction || c.Clean() || c.Timeline != 1 || c.Checkpoint == 0 || c.Redo != c.Checkpoint ||
		!c.Checksums || c.LogHints || c.SegmentBytes != 16<<20 || len(c.System) < 18 {
		t.Errorf("%+v", c)
	}
	if c, err := ParseControl(strings.Replace(text, "in production", "shut down", 1)); err != nil || !c.Clean() {
		t.Errorf("%+v %v", c, err)
	}
	// A field that is missing or unreadable is an error, never a zero.
	for _, field := range []string{"Database cluster state", "Latest checkpoint location",
		"Latest checkpoint's TimeLineID", "Bytes per WAL segment", "wal_log_hints setting"} {
		if _, err := ParseControl(strings.Replace(text, field, "Something else", 1)); err == nil ||
			!strings.Contains(err.Error(), field) {
			t.Errorf("without %s: %v", field, err)
		}
	}
	if _, err := ParseControl(strings.Replace(text, "Latest checkpoint location:           0/",
		"Latest checkpoint location:           zz/", 1)); err == nil {
		t.Error("a bad position was read")
	}
}

// The log in testdata was written by known statements.
func TestWaldump(t *testing.T) {
	rows := map[string]int{}
	var commits, aborts, children int
	var message string
	var prev position.LSN
	for _, line := range strings.Split(strings.TrimSpace(read(t, "waldump.txt")), "\n") {
		r, ok := ParseRecord(line)
		if !ok {
			t.Fatalf("not read: %s", line)
		}
		if r.At <= prev {
			t.Errorf("%s does not come after %s", r.At, prev)
		}
		prev = r.At
		if a, ok := r.RowAction(); ok && !a.Where.Relation.Catalog() {
			rows[a.Kind] += a.Rows
			if a.Offset == 0 && a.Rows == 1 {
				t.Errorf("no place for the row of %s", r.Description)
			}
		}
		if e, ok := r.TransactionEnd(); ok {
			if e.Committed {
				commits++
			} else {
				aborts++
			}
			children += len(e.Children)
			if e.At.Year() != 2026 {
				t.Errorf("time %s", e.At)
			}
		}
		if p, text, ok := r.Message(); ok && p == "crosstwin" {
			message = text
		}
	}
	// 3 inserted, 2 by copy, 2 in a transaction with a savepoint, 1 rolled
	// back, and the toast rows of one long value (their table counts here).
	if rows["insert"] < 8 || rows["update"] != 2 || rows["delete"] != 1 {
		t.Errorf("rows %v", rows)
	}
	if commits != 8 || aborts != 1 || children != 1 {
		t.Errorf("%d commits, %d aborts, %d children", commits, aborts, children)
	}
	if message != `{"id":"abc"}` {
		t.Errorf("message %q", message)
	}
}

const damaged = "pg_waldump: error: error in WAL record at "

// Measured: the record after a SWITCH at 0/30000D8 begins with the next file.
func TestRecordEnd(t *testing.T) {
	for _, c := range []struct {
		r    Record
		want position.LSN
	}{
		{Record{Manager: "XLOG", At: 0x30000d8, Length: 24, Description: "SWITCH "}, 0x4000000},
		{Record{Manager: "XLOG", At: 0x3ffffe8, Length: 24, Description: "SWITCH "}, 0x4000000},
		{Record{Manager: "XLOG", At: 0x3000060, Length: 114, Description: "CHECKPOINT_ONLINE redo 0/3000028"}, 0x30000d8},
	} {
		if got := c.r.End(16 << 20); got != c.want {
			t.Errorf("%s at %s ends at %s, want %s", c.r.Description, c.r.At, got, c.want)
		}
	}
}

func TestParseEnd(t *testing.T) {
	for in, want := range map[string]string{
		damaged + "0/176A5F8: invalid record length at 0/176A628: wanted 24, got 0": "0/176A628",
		"pg_waldump: error: could not find a valid record after 0/4FFFCA0":          "0/4FFFCA0",
		damaged + "0/3000110: invalid magic number 0000 in log segment " +
			"000000010000000000000003": "",
		damaged + "0/3000110: record with incorrect prev-link 0/2000028 at 0/3000148": "0/3000148",
		damaged + "0/3000110: incorrect resource manager data checksum in record at " +
			"0/3000148": "0/3000148",
		damaged + "0/3000110: unexpected pageaddr 0/1000000 in log segment 00000001, " +
			"offset 1048576": "",
	} {
		got, ok := ParseEnd(in)
		if ok != (want != "") || ok && got.String() != want {
			t.Errorf("%s: %s %t", in, got, ok)
		}
	}
}

func TestFingerprint(t *testing.T) {
	end := "rmgr: XLOG        len (rec/tot):     42/    42, tx:          0, lsn: 0/071A8710, prev 0/071A86D8, desc: " +
		"END_OF_RECOVERY tli 2; prev tli 1; time 2026-11-23 08:41:45.123456 UTC"
	r, ok := ParseRecord(end)
	if !ok || !strings.Contains(r.Fingerprint(), "08:41:45.123456") {
		t.Errorf("%v %q", ok, r.Fingerprint())
	}
	r, _ = ParseRecord(strings.Replace(end, "END_OF_RECOVERY", "NEXTOID", 1))
	if r.Fingerprint() != "" {
		t.Error("another record gives a fingerprint")
	}
}

func TestSettings(t *testing.T) {
	s, err := ParseSettings(
		"# comment\nport = 5433\nprimary_conninfo = 'host=''x'' password=a\\'b'  # why\nWork_Mem 4MB\n\nport = '5434'\n")
	if err != nil || s["port"] != "5434" || s["primary_conninfo"] != "host='x' password=a'b" || s["work_mem"] != "4MB" {
		t.Errorf("%v %v", s, err)
	}
	for _, bad := range []string{"port", "port = 'x", "1a = 2", "= 3"} {
		if s, err := ParseSettings(bad); err == nil {
			t.Errorf("%q was read as %v", bad, s)
		}
	}
	info := ConnInfo("host", "10.0.0.1", "user", "it's", "password", `a\b c`)
	got := ParseConnInfo(info + " port=77")
	if got["host"] != "10.0.0.1" || got["user"] != "it's" || got["password"] != `a\b c` || got["port"] != "77" {
		t.Errorf("%s: %v", info, got)
	}
}

func FuzzParseControl(f *testing.F) {
	f.Add(read(f, "controldata.txt"))
	f.Fuzz(func(t *testing.T, s string) {
		if c, err := ParseControl(s); err == nil && (c.System == "" || c.State == "") {
			t.Errorf("%q gives %+v", s, c)
		}
	})
}

func FuzzParseRecord(f *testing.F) {
	for _, l := range strings.Split(read(f, "waldump.txt"), "\n") {
		f.Add(l)
	}
	f.Fuzz(func(t *testing.T, s string) {
		r, ok := ParseRecord(s)
		if !ok {
			return
		}
		r.RowAction()
		r.TransactionEnd()
		r.Message()
		if r.Length >= 0 && r.End(16<<20) < r.At && r.At < 1<<62 {
			t.Errorf("%q ends at %s before it begins", s, r.End(16<<20))
		}
	})
}

func FuzzSettings(f *testing.F) {
	f.Add("a = 'b''c\\d'\nx.y 3")
	f.Fuzz(func(t *testing.T, s string) {
		one, err := ParseSettings(s)
		if err != nil {
			return
		}
		two, err := ParseSettings(one.String())
		if err != nil || len(two) != len(one) {
			t.Fatalf("%q: %v %v %v", s, one, two, err)
		}
		for k, v := range one {
			if two[k] != v {
				t.Errorf("%q: %s was %q, is %q", s, k, v, two[k])
			}
		}
	})
}

func FuzzConnInfo(f *testing.F) {
	f.Add("host", "it's \\ here")
	f.Fuzz(func(t *testing.T, k, v string) {
		if k == "" || strings.ContainsAny(k, "=' \\\t\n") || strings.TrimSpace(k) != k {
			return
		}
		if got := ParseConnInfo(ConnInfo(k, v, "z", "1")); got[k] != v && k != "z" {
			t.Errorf("%q=%q reads back as %q", k, v, got[k])
		}
	})
}
