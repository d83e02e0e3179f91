package tail

import "testing"

func TestWords(t *testing.T) {
	columns := []string{"id", "name", "note"}
	for _, c := range []struct {
		r    RowChange
		want string
	}{
		{RowChange{Kind: "insert", Columns: columns, After: []string{"1", "'a'", "NULL"}}, "id=1, name='a', note=NULL"},
		{RowChange{Kind: "delete", Columns: columns, Before: []string{"1", "'a'", "NULL"}}, "id=1, name='a', note=NULL"},
		{RowChange{Kind: "update", Columns: columns, Before: []string{"1", "'a'", "NULL"},
			After: []string{"1", "'b'", "NULL"}}, "id=1, name 'a' -> 'b'"},
		{RowChange{Kind: "update", Columns: columns, Before: []string{"1", "'a'", "NULL"},
			After: []string{"2", "'a'", "'n'"}}, "id 1 -> 2, note NULL -> 'n'"},
		{RowChange{Kind: "insert", Columns: columns[:1], After: []string{"'0123456789012345678901234567890123456789äöü'"}},
			"id='012345678901234567890123456789012345678…"},
		{RowChange{Kind: "insert", Columns: columns, After: []string{"1"}}, "id=1, name=?, note=?"},
	} {
		if got := c.r.Words(); got != c.want {
			t.Errorf("%+v: %s, want %s", c.r, got, c.want)
		}
	}
}

func TestTransactionNames(t *testing.T) {
	if a, b := (Transaction{ID: 7}).Name(), (Transaction{ID: 7, GTID: "1-2-3"}).Name(); a != "7" || b != "1-2-3" {
		t.Errorf("%s, %s", a, b)
	}
}
