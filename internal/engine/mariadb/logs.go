package mariadb

import (
	"encoding/binary"
	"fmt"
	"path/filepath"
	"strings"
	"syscall"

	"crosstwin/internal/core/binlog"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/engine/host"
)

// indexed reads the list of a log's files, oldest first. Names in it are
// relative to the data directory.
func indexed(d *host.Data, index string) ([]string, error) {
	b, err := d.ReadFile(index)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, line := range strings.Split(string(b), "\n") {
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		if !filepath.IsAbs(line) {
			line = d.Path(line)
		}
		out = append(out, line)
	}
	return out, nil
}

// logFiles returns the files of the server's own log.
func (e *Engine) logFiles() ([]string, error) {
	base := e.logBase()
	if base == "" {
		return nil, fmt.Errorf("where %s keeps its binary log is not known: it was never seen running with one", e.cfg.Name)
	}
	return indexed(e.Data, base+".index")
}

// logSize returns the bytes of the log's files and the room beside them.
func (e *Engine) logSize() (size, free observation.Maybe[int64]) {
	bytes := int64(0)
	files, err := e.logFiles()
	if err != nil {
		return size, free
	}
	for _, f := range files {
		if fi, err := e.Stat(f); err == nil {
			bytes += fi.Size()
		}
	}
	return observation.Known(bytes), host.FreeAt(filepath.Dir(e.logBase()))
}

// mapped hands over a file's content without copying it into memory. Log
// files only grow or go as a whole.
func mapped(d *host.Data, path string, do func([]byte) error) error {
	f, err := d.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil || fi.Size() == 0 {
		return err
	}
	b, err := syscall.Mmap(int(f.Fd()), 0, int(fi.Size()), syscall.PROT_READ, syscall.MAP_SHARED)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	defer syscall.Munmap(b)
	return do(b)
}

// eachGroup reads the transactions of log files in order. Of those to be skimmed only the
// number and the ends are read: a file may be large, and what is asked for a small part.
func eachGroup(d *host.Data, files []string, skim func(position.GTID) bool,
	each func(file string, g *binlog.Group) error) error {
	return eachGroupFrom(d, files, 0, skim, each)
}

// upTo says of a transaction whether it comes no later than a position.
func upTo(p position.GTIDPosition) func(position.GTID) bool {
	return func(g position.GTID) bool {
		had, ok := p.In(g.Domain)
		return ok && g.Seq <= had.Seq
	}
}

// all is for whoever wants nothing but numbers.
func all(position.GTID) bool { return true }

// eachGroupFrom begins at the first transaction at or after an offset of the
// first file.
func eachGroupFrom(d *host.Data, files []string, offset int64, skim func(position.GTID) bool,
	each func(file string, g *binlog.Group) error) error {
	for i, f := range files {
		err := mapped(d, f, func(b []byte) error {
			groups, one := binlog.NewGroups(), func(g *binlog.Group) error { return each(f, g) }
			groups.Skim = skim
			if i > 0 || offset == 0 {
				_, err := groups.Read(b, one)
				return err
			}
			_, err := groups.ReadFrom(b, int(offset), one)
			return err
		})
		if err != nil {
			return fmt.Errorf("%s: %w", filepath.Base(f), err)
		}
	}
	return nil
}

// stateBefore returns what the log held before a file began, by the list at its
// beginning.
func stateBefore(d *host.Data, file string) (state position.GTIDState, err error) {
	err = mapped(d, file, func(b []byte) error {
		s := binlog.NewReader()
		for at := 0; at < len(b); {
			ev, n, err := s.Next(b[at:])
			if err != nil {
				return err
			}
			if ev.Type == binlog.GTIDListEvent {
				state, err = binlog.ParseGTIDList(ev)
				return err
			}
			if ev.Type == binlog.GTIDEvent {
				return nil
			}
			at += n
		}
		return nil
	})
	return state, err
}

// startFile returns the index of the newest file that begins at or before a
// position: everything after the position stands in it and in those after it.
func startFile(d *host.Data, files []string, from position.GTIDPosition) (int, error) {
	for i := len(files) - 1; i > 0; i-- {
		state, err := stateBefore(d, files[i])
		if err != nil {
			return 0, err
		}
		if before := state.Last(); len(from.Missing(before)) == 0 {
			return i, nil
		}
	}
	return 0, nil
}

// stoppedState is what the files of a stopped server say.
type stoppedState struct {
	file  string
	at    string
	state position.GTIDState
	clean bool
	// read is how far the file was read: state has every transaction before it.
	// trace is the end of what was read: another file of the same name, as after
	// a reset of the log, does not have it there.
	read  int
	trace string
}

// traceBytes hold the end of a transaction, with its checksum.
const traceBytes = 256

func traceAt(b []byte, at int) string { return string(b[max(0, at-traceBytes):at]) }

// goesOn reports whether b is the content of the same file, read before and grown.
func (st *stoppedState) goesOn(file string, b []byte) bool {
	return st.file == file && st.read > 0 && st.read <= len(b) && st.trace == traceAt(b, st.read)
}

// stoppedLog reads the end of the log of a server that does not answer. What was
// read before is not read again: a server that is only slow goes on writing, and
// its agent must not take from it what time it has.
func (e *Engine) stoppedLog() (stoppedState, error) {
	files, err := e.logFiles()
	if err != nil {
		return stoppedState{}, err
	}
	if len(files) == 0 {
		return stoppedState{}, fmt.Errorf("the index of its log names no file")
	}
	last := files[len(files)-1]
	e.seen.Lock()
	known := e.seen.stopped
	e.seen.Unlock()
	st := stoppedState{file: last, clean: cleanFile(e.Data, last)}
	if st.state, err = stateBefore(e.Data, last); err != nil {
		return st, err
	}
	err = mapped(e.Data, last, func(b []byte) error {
		if known.goesOn(last, b) {
			st.state, st.read = known.state, known.read
		}
		state := st.state.Tally()
		groups := binlog.NewGroups()
		groups.Skim = all
		_, err := groups.ReadOn(b, st.read, func(g *binlog.Group) error {
			if g.Complete {
				state.Add(g.GTID.GTID)
				st.read = int(g.To)
			}
			return nil
		})
		st.state = state.State()
		st.trace = traceAt(b, st.read)
		return err
	})
	if err != nil {
		return st, fmt.Errorf("%s: %w", filepath.Base(last), err)
	}
	st.at = st.state.Last().String()
	e.seen.Lock()
	e.seen.stopped = st
	e.seen.Unlock()
	return st, nil
}

// cleanFile reports whether the server closed its log cleanly: the
// flag "in use" of the first event is cleared then.
func cleanFile(d *host.Data, path string) bool {
	f, err := d.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	var head [23]byte
	if _, err := f.ReadAt(head[:], 0); err != nil {
		return false
	}
	return binary.LittleEndian.Uint16(head[21:])&1 == 0
}

// entry is one transaction as two servers compare it.
type entry struct {
	GTID        position.GTID `json:"g"`
	Fingerprint string        `json:"f"`
	At          int64         `json:"t"`
	// Statements: it was not logged as rows alone. Another server may have
	// logged it in another form, so only number and time compare.
	Statements bool `json:"s,omitempty"`
}

func entryOf(g *binlog.Group) entry {
	return entry{g.GTID.GTID, g.Fingerprint, g.Changed.Unix(), g.HasStatements()}
}

func (x entry) same(o entry) bool {
	return x.GTID == o.GTID && x.At == o.At && (x.Statements || o.Statements || x.Fingerprint == o.Fingerprint)
}
