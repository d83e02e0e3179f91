package host

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Each whole line that comes after the first look is read once, also where the file is another
// one by then, or begins anew.
func TestReadOn(t *testing.T) {
	d := data(t)
	id, err := d.Owner()
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(d.Dir, "server.log")
	write := func(text string) {
		f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		if _, err := f.WriteString(text); err != nil {
			t.Fatal(err)
		}
		if os.Geteuid() == 0 {
			f.Chown(int(id.UID), int(id.GID))
		}
	}
	var place LogPlace
	reads := func(want ...string) {
		t.Helper()
		var got []string
		if err := d.ReadOn(path, &place, func(l string) { got = append(got, strings.TrimSpace(l)) }); err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(got, want) {
			t.Errorf("read %q, want %q", got, want)
		}
	}
	if d.ReadOn(path, &place, nil) == nil {
		t.Error("a file that is not there was read")
	}
	write("before\n")
	reads()
	write("one\ntw")
	reads("one")
	write("o\nthree\n")
	reads("two", "three")
	reads()
	if err := os.Truncate(path, 0); err != nil {
		t.Fatal(err)
	}
	write("anew\n")
	reads("anew")
	// Rotated: what came just before is read as well, whether it was moved away or copied.
	write("last\n")
	os.Rename(path, path+".1")
	write("another\n")
	reads("last", "another")
	write("late\n")
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.WriteFile(path+".1", b, 0o600), os.Truncate(path, 0)); err != nil {
		t.Fatal(err)
	}
	reads("late")
	write("again\n")
	reads("again")
}
