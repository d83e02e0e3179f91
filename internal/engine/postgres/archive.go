package postgres

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"time"

	"crosstwin/internal/core/position"
)

// Where a server has a restore_command, log of its own that is gone from pg_wal comes back
// from its archive: for a rewind (pg_rewind asks for it itself), and for an examination. What
// looks at a server again and again asks no archive.

// fromArchive marks what may ask the archive.
type fromArchive struct{}

// withArchive lets reads of the log ask the server's archive for files that are gone.
func withArchive(ctx context.Context) context.Context {
	return context.WithValue(ctx, fromArchive{}, true)
}

// restoreLimit bounds one call of a restore_command.
const restoreLimit = time.Minute

// restoreCommand returns the server's restore_command; empty without one.
func (e *Engine) restoreCommand(ctx context.Context) string {
	said, _, err := e.Run(ctx, "postgres", e.serverArgs("-C", "restore_command")...)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(said)
}

// restore fetches a log file from the archive into a directory of the owner's, as the server
// itself would (documentation, "Archive Recovery": %f is the file's name, %p where to put it,
// %r the oldest file that is still needed); false when it is not there.
func (e *Engine) restore(ctx context.Context, name, dir string) bool {
	command := e.restoreCommand(ctx)
	if command == "" {
		return false
	}
	to := filepath.Join(dir, name)
	ctx, cancel := context.WithTimeout(ctx, restoreLimit)
	defer cancel()
	line := strings.NewReplacer("%%", "%", "%f", name, "%p", to, "%r", name).Replace(command)
	if _, _, err := e.Run(ctx, "/bin/sh", "-c", line); err != nil {
		return false
	}
	fi, err := os.Lstat(to)
	return err == nil && fi.Mode().IsRegular() && fi.Size() == int64(e.segmentBytes()) // #nosec G115 -- at most 1 GB
}

// mostRestored bounds what is fetched for one reading: 1 GB with files of the usual size.
const mostRestored = 64

// restoreGap fetches the log files of a timeline into dir that are missing in pg_wal, from
// the one that holds a place up to the first that is there, or to the end of what is read
// (0: no end). Where neither bounds it, nothing is fetched: an archive that servers share
// holds what others wrote on the timeline, and that is no log of this server's.
func (e *Engine) restoreGap(ctx context.Context, timeline uint32, from, to position.LSN, dir string) {
	if ctx.Value(fromArchive{}) == nil {
		return
	}
	size := e.segmentBytes()
	first, newest := position.SegmentName(timeline, from, size), ""
	files, _ := filepath.Glob(e.Path("pg_wal", first[:8]+"????????????????"))
	for _, f := range files {
		newest = max(newest, filepath.Base(f))
	}
	for n := 0; n < mostRestored && ctx.Err() == nil; n++ {
		at := from + position.LSN(n)*position.LSN(size)
		name := position.SegmentName(timeline, at, size)
		if to != 0 && at-at%position.LSN(size) >= to || to == 0 && name > newest {
			return
		}
		if _, err := e.Stat(e.Path("pg_wal", name)); err == nil || !e.restore(ctx, name, dir) {
			return
		}
	}
}

// keeps reports whether a log file is in pg_wal, or in the archive.
func (e *Engine) keeps(ctx context.Context, name string) bool {
	if _, err := e.Stat(e.Path("pg_wal", name)); err == nil {
		return true
	}
	dir, err := e.TempDir("crosstwin-archived-")
	if err != nil {
		return false
	}
	defer e.RemoveAll(dir)
	return e.restore(ctx, name, dir)
}
