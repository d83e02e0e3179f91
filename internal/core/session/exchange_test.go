package session

import "testing"

func packet(b ...byte) []byte { return b }

// The answers of the server to commands, packet by packet; the last one ends it.
func TestExchange(t *testing.T) {
	ok := func(flags byte) []byte { return packet(0, 0, 0, flags, 0, 0, 0) }
	eof := func(flags byte) []byte { return packet(0xfe, 0, 0, flags, 0) }
	column, row := packet(3, 'd', 'e', 'f'), packet(1, '1')
	failed := packet(0xff, 0xbd, 0x04, '#', '4', '0', '0', '0', '1')
	for name, c := range map[string]struct {
		command byte
		noEnds  bool
		packets [][]byte
		inside  bool // in a transaction at the end
		known   bool
	}{
		"ok":                  {ComQuery, false, [][]byte{ok(2)}, false, true},
		"ok in a transaction": {ComQuery, false, [][]byte{ok(3)}, true, true},
		"error":               {ComQuery, false, [][]byte{failed}, false, false},
		"rows":                {ComQuery, false, [][]byte{{2}, column, column, eof(2), row, row, eof(3)}, true, true},
		"rows without ends":   {ComQuery, true, [][]byte{{1}, column, row, {0xfe, 0, 0, 3, 0, 0, 0}}, true, true},
		"no rows":             {ComQuery, false, [][]byte{{1}, column, eof(2), eof(2)}, false, true},
		"an error among rows": {ComQuery, false, [][]byte{{1}, column, eof(2), row, failed}, false, false},
		"two results":         {ComQuery, false, [][]byte{{1}, column, eof(2), row, eof(10), ok(2)}, false, true},
		"two statements":      {ComQuery, false, [][]byte{ok(8), ok(2)}, false, true},
		"prepared, nothing":   {ComPrepare, false, [][]byte{{0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}}, false, false},
		"prepared, both": {ComPrepare, false,
			[][]byte{{0, 1, 0, 0, 0, 1, 0, 2, 0, 0, 0, 0}, column, column, eof(2), column, eof(2)}, false, false},
		"prepared without ends": {ComPrepare, true,
			[][]byte{{0, 1, 0, 0, 0, 1, 0, 2, 0, 0, 0, 0}, column, column, column}, false, false},
		"executed with a cursor": {ComExecute, false, [][]byte{{1}, column, eof(66)}, false, true},
		"fetched":                {ComFetch, false, [][]byte{row, row, eof(2)}, false, true},
		"fields":                 {ComFieldList, false, [][]byte{column, column, eof(2)}, false, true},
		"statistics":             {ComStatistics, false, [][]byte{[]byte("Uptime: 1")}, false, false},
		"a row that begins big": {ComQuery, false,
			[][]byte{{1}, column, eof(2), append([]byte{0xfe}, make([]byte, 40)...), eof(2)}, false, true},
		"a big number of changes": {ComQuery, false, [][]byte{{0, 0xfc, 1, 1, 0xfd, 1, 1, 1, 3, 0, 0, 0}}, true, true},
	} {
		x := Begin(c.command, c.noEnds)
		for i, p := range c.packets {
			if got := x.Packet(p, len(p)); (got == Done) != (i == len(c.packets)-1) {
				t.Errorf("%s: packet %d: %v", name, i, got)
			}
		}
		if x.InTransaction != c.inside || x.Known != c.known || x.Failed && x.Code != 1213 || !x.Answered() {
			t.Errorf("%s: %+v", name, x)
		}
	}
	if x := Begin(ComQuery, false); x.Packet([]byte("\xfb/tmp/x"), 7) != WantsFile || x.Packet(ok(2), 7) != Done {
		t.Error("a file that is loaded")
	}
	for _, silent := range []byte{ComQuit, ComCloseStmt, ComLongData} {
		if !Begin(silent, false).Answered() {
			t.Errorf("command %d is answered", silent)
		}
	}
}

func FuzzExchange(f *testing.F) {
	f.Add(byte(3), true, []byte{1, 3, 'd', 'e', 'f', 0xfe, 0, 0, 2, 0})
	f.Fuzz(func(t *testing.T, command byte, noEnds bool, b []byte) {
		x := Begin(command, noEnds)
		for len(b) > 0 && !x.Answered() {
			n := min(int(b[0])%16+1, len(b))
			x.Packet(b[:n], n)
			b = b[n:]
		}
	})
}
