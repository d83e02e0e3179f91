package pgtool

import (
	"encoding/binary"
	"os"
	"testing"
)

// catalog compiles messages, sorted, and their translations.
func catalog(order binary.AppendByteOrder, pairs ...[2]string) []byte {
	n := uint32(len(pairs))
	out := order.AppendUint32(nil, 0x950412de)
	for _, x := range []uint32{0, n, 28, 28 + 8*n, 0, 0} {
		out = order.AppendUint32(out, x)
	}
	place, texts := 28+16*n, []byte{}
	for k := range 2 {
		for _, p := range pairs {
			out = order.AppendUint32(order.AppendUint32(out, uint32(len(p[k]))), place+uint32(len(texts)))
			texts = append(append(texts, p[k]...), 0)
		}
	}
	return append(out, texts...)
}

func TestTranslation(t *testing.T) {
	pairs := [][2]string{{"", "Content-Type: text/plain"}, {"STATEMENT:  ", "ANWEISUNG:  "}, {"cancelled", "abgebrochen"},
		{"empty", ""}, {"out of memory", "Speicher aufgebraucht"}}
	for _, order := range []binary.AppendByteOrder{binary.LittleEndian, binary.BigEndian} {
		mo := catalog(order, pairs...)
		for _, p := range pairs {
			if got, ok := Translation(mo, p[0]); got != p[1] || ok != (p[1] != "") {
				t.Errorf("%q is %q (%t)", p[0], got, ok)
			}
		}
		for _, other := range []string{"A", "b", "zzz"} {
			if got, ok := Translation(mo, other); ok {
				t.Errorf("%q is %q", other, got)
			}
		}
		for n := range mo { // what is cut off gives no other text
			for _, p := range pairs {
				if got, ok := Translation(mo[:n], p[0]); ok && got != p[1] {
					t.Errorf("%d bytes: %q is %q", n, p[0], got)
				}
			}
		}
	}
}

// The server's own catalog, as Debian packages it.
func TestTranslationOfDebian(t *testing.T) {
	mo, err := os.ReadFile("/usr/share/locale/de/LC_MESSAGES/postgres-15.mo")
	if err != nil {
		t.Skip("Debian's PostgreSQL is not installed with its translations")
	}
	const want = "storniere Warten auf synchrone Replikation wegen Benutzeraufforderung"
	if got, _ := Translation(mo, "canceling wait for synchronous replication due to user request"); got != want {
		t.Errorf("%q", got)
	}
}

func FuzzTranslation(f *testing.F) {
	f.Add(catalog(binary.LittleEndian, [2]string{"a", "b"}), "a")
	f.Add(catalog(binary.BigEndian, [2]string{"a", "b"}), "b")
	f.Fuzz(func(t *testing.T, mo []byte, message string) {
		if got, ok := Translation(mo, message); ok && len(got) > len(mo) {
			t.Errorf("%q is longer than its catalog", got)
		}
	})
}
