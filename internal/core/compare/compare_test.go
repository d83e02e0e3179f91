package compare

import (
	"reflect"
	"testing"

	"crosstwin/internal/core/verb"
)

func TestJudge(t *testing.T) {
	boats := verb.TableSum{Table: "boats", Rows: 3, Sum: "a"}
	fares := verb.TableSum{Table: "fares", Rows: 2, Sum: "b"}
	changed, fewer := boats, boats
	changed.Sum, fewer.Rows = "c", 2
	for name, c := range map[string]struct {
		other []verb.TableSum
		want  map[string]string // by table
		first string
	}{
		"the same": {[]verb.TableSum{fares, boats}, map[string]string{}, "boats"},
		"changed": {[]verb.TableSum{changed, fares}, map[string]string{"boats": "3 rows on both, contents differ"},
			"boats"},
		"fewer": {[]verb.TableSum{fewer, fares}, map[string]string{"boats": "2 rows, 3 on gull"}, "boats"},
		"missing": {[]verb.TableSum{boats}, map[string]string{"fares": "it exists on one of the two only"},
			"fares"},
		"one too many": {[]verb.TableSum{boats, fares, {Table: "ports"}},
			map[string]string{"ports": "it exists on one of the two only"}, "ports"},
		"a sequence": {[]verb.TableSum{boats, fares, {Table: "ids", Rows: 1, Sum: "7 t", Sequence: true}},
			map[string]string{"ids": "it exists on one of the two only"}, "ids"},
	} {
		got := Judge([]string{"gull", "tern"}, map[string][]verb.TableSum{"gull": {boats, fares}, "tern": c.other})
		found := map[string]string{}
		for _, m := range got.Tables {
			if !m.Same {
				found[m.Table] = m.Differs["tern"]
			}
		}
		if !reflect.DeepEqual(found, c.want) || got.Differ != len(c.want) || got.Tables[0].Table != c.first || got.Rows != 5 {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

// What was left out on one server is left out, with its reason, and nothing is said
// of it; a sequence that differs is named with its values.
func TestJudgeLeavesOut(t *testing.T) {
	old := verb.TableSum{Table: "old", Left: "MyISAM"}
	ids := verb.TableSum{Table: "ids", Rows: 1, Sum: "7", Sequence: true}
	further := ids
	further.Sum = "9"
	got := Judge([]string{"gull", "tern"}, map[string][]verb.TableSum{"gull": {{Table: "old", Rows: 3, Sum: "x"}, ids},
		"tern": {old, further}})
	if len(got.Tables) != 1 || got.Differ != 1 || got.Kinds() != "tables and sequences" ||
		!reflect.DeepEqual(got.Left, []string{"old (MyISAM)"}) ||
		got.Tables[0].Differs["tern"] != "the sequence is at 9, at 7 on gull" {
		t.Errorf("%+v", got)
	}
}

func TestRows(t *testing.T) {
	got := Rows(map[string]string{"1": "a", "2": "b", "3": "c"}, map[string]string{"1": "a", "2": "x", "4": "d"}, "tern")
	if want := []string{"2 changed", "3 missing on tern", "4 only on tern"}; !reflect.DeepEqual(got, want) {
		t.Errorf("%v", got)
	}
	if got := Buckets(map[int]string{1: "a", 2: "b"}, map[int]string{1: "a", 3: "c"}); !reflect.DeepEqual(got,
		[]int{2, 3}) {
		t.Errorf("%v", got)
	}
}
