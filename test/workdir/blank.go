package workdir

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
)

// blanks are the data of new servers, one of each kind, that the tests of a package begin with:
// they save a second of each test, and such servers have one origin.
var blanks struct {
	sync.Mutex
	dir string
}

// Main runs the tests of a package that uses Blank.
func Main(m *testing.M) (code int) {
	dir, err := os.MkdirTemp("", "ctb")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	blanks.dir = dir
	return m.Run()
}

// Blank makes the data of a new server by do, or copies what do made of that kind before.
func Blank(kind, dir string, do func() error) error {
	if blanks.dir == "" {
		return do()
	}
	blanks.Lock()
	defer blanks.Unlock()
	kept := filepath.Join(blanks.dir, kind)
	if _, err := os.Stat(kept); err == nil {
		return copied(kept, dir)
	}
	if err := do(); err != nil {
		return err
	}
	return errors.Join(copied(dir, kept+".part"), os.Rename(kept+".part", kept))
}

func copied(from, to string) error {
	if out, err := exec.Command("cp", "-aT", "--sparse=always", from, to).CombinedOutput(); err != nil {
		return fmt.Errorf("copy %s: %w: %s", from, err, out)
	}
	return nil
}
