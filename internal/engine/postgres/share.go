package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

// shareLog is what one server's agent hands to a peer's: bytes of its log.
const shareLog = "log"

// sharedLog is how much of the log before a position is compared, at most and
// within one file: several records.
const sharedLog = 32 << 10

// Share implements engine.Sharer.
func (e *Engine) Share(ctx context.Context, what string, q url.Values, w io.Writer) error {
	if what != shareLog {
		return fmt.Errorf("there is no %q to share", what)
	}
	from, err1 := position.ParseLSN(q.Get("from"))
	to, err2 := position.ParseLSN(q.Get("to"))
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	b, err := e.logBytes(e.Observe(ctx, false), from, to)
	if err == nil {
		_, err = w.Write(b)
	}
	return err
}

// logBytes reads the log between two positions of one file.
func (e *Engine) logBytes(o *observation.Server, from, to position.LSN) ([]byte, error) {
	name, err := e.logFile(o, from)
	if err != nil {
		return nil, err
	}
	return e.readAt(name, int64(uint64(from)%max(e.segmentBytes(), 1<<20)), int(to.Since(from)))
}

// logFile returns the file that holds a position. A promotion copies the begun file to
// the new timeline, so the same bytes can stand under several names: the newest
// timeline's is what the server goes by.
func (e *Engine) logFile(o *observation.Server, at position.LSN) (string, error) {
	timelines := []uint32{o.Log.Line.Number}
	for i := len(o.Log.Past) - 1; i >= 0; i-- {
		timelines = append(timelines, o.Log.Past[i].Timeline)
	}
	for _, t := range timelines {
		name := e.Path("pg_wal", position.SegmentName(t, at, e.segmentBytes()))
		for _, name := range []string{name, name + ".partial"} {
			if _, err := e.Stat(name); !errors.Is(err, fs.ErrNotExist) {
				return name, err
			}
		}
	}
	return "", fmt.Errorf("%s no longer keeps its log file %s", e.cfg.Name,
		filepath.Base(position.SegmentName(timelines[0], at, e.segmentBytes())))
}

// logReader returns how this server's log is read, a few bytes at a time, until done is
// called. A file stays open meanwhile: a record can have tens of thousands of pages.
func (e *Engine) logReader(o *observation.Server) (read position.ReadLog, done func()) {
	var open *os.File
	segment, size := uint64(0), max(e.segmentBytes(), 1<<20)
	done = func() {
		if open != nil {
			open.Close()
			open = nil
		}
	}
	return func(at position.LSN, n int) []byte {
		if open == nil || uint64(at)/size != segment {
			done()
			name, err := e.logFile(o, at)
			if err == nil {
				open, err = e.Open(name)
			}
			if err != nil {
				open = nil
				return nil
			}
			segment = uint64(at) / size
		}
		b := make([]byte, n)
		if _, err := open.ReadAt(b, int64(uint64(at)%size)); err != nil {
			return nil
		}
		return b
	}, done
}

func (e *Engine) readAt(name string, offset int64, n int) ([]byte, error) {
	f, err := e.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b := make([]byte, n)
	if _, err := f.ReadAt(b, offset); err != nil {
		return nil, fmt.Errorf("read %s: %w", name, err)
	}
	return b, nil
}

// compareShared holds the last records that this server shares with the primary,
// by their positions, against the primary's, byte for byte. A server that somebody
// opened in place writes on under the primary's timeline and positions: only the
// content tells. It changes an examination that found kin.
func (e *Engine) compareShared(ctx context.Context, x *verb.Examination, o *observation.Server, primary verb.Peer) {
	at, err := position.ParseLSN(x.Fork)
	if x.Kinship != string(position.Kin) || err != nil || at == 0 || primary.Name == e.cfg.Name {
		return
	}
	from := max((at-1)&^(position.LSN(max(e.segmentBytes(), 1<<20))-1), at-min(at, sharedLog))
	mine, err := e.logBytes(o, from, at)
	var theirs []byte
	if err == nil {
		theirs, err = e.fetchLog(ctx, primary, from, at)
	}
	switch {
	case err != nil:
		x.Kinship, x.Rewindable = string(position.Unknown), false
		x.WhyNot = fmt.Sprintf("the log before %s could not be compared with %s's: %v", at, primary.Name, err)
	case !bytes.Equal(mine, theirs):
		x.Kinship, x.Rewindable = string(position.Stranger), false
		x.WhyNot = fmt.Sprintf("the log before %s is not %s's: it was written here", at, primary.Name)
	}
}

func (e *Engine) fetchLog(ctx context.Context, from verb.Peer, begin, end position.LSN) ([]byte, error) {
	r, err := e.peers.Fetch(ctx, from, shareLog, url.Values{"from": {begin.String()}, "to": {end.String()}})
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}
