package postgres

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

var kiloProgress = regexp.MustCompile(`^\s*(\d+)/(\d+) kB`)

// parseProgress reads the progress lines of pg_basebackup and pg_rewind.
func parseProgress(line string) (done, total int64, ok bool) {
	m := kiloProgress.FindStringSubmatch(line)
	if m == nil {
		return 0, 0, false
	}
	done, err1 := strconv.ParseInt(m[1], 10, 64)
	total, err2 := strconv.ParseInt(m[2], 10, 64)
	return done << 10, total << 10, err1 == nil && err2 == nil
}

// Seed implements engine.Seeder. The manifest's sums are of the utility's default kind, which
// finds what a disk or a cable did; that nobody else wrote on the way, the encrypted
// connection sees to. (With SHA-256 the copy of 2 GB ran at a third of the rate: measured.)
// From the first change on the data directory
// counts as unfinished, until Verify has held the copy against its manifest.
func (e *Engine) Seed(ctx context.Context, a verb.Seed, progress engine.Progress) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if left := e.Processes(); len(left) > 0 {
		return fmt.Errorf("%s still runs (processes %v): stop it before its data is replaced", e.cfg.Name, left)
	}
	if !e.Empty() && !a.Replace && e.memory.Unfinished() != "seed" {
		return fmt.Errorf("%s is not empty: nothing was touched; ask with --replace if what is in it may go", e.cfg.DataDir)
	}
	// Looked at in the preview, and once more here: nothing is removed for a copy
	// that has no place.
	fit, err := e.Fit(ctx, verb.Fit{Spaces: a.Spaces, Others: a.Others, Limits: a.Limits, Apart: a.Apart})
	if err != nil {
		return err
	}
	if len(fit.Misfits) > 0 {
		return fmt.Errorf("nothing was touched: %s; %s", fit.Misfits[0].What, fit.Misfits[0].Mend)
	}
	if err := e.beginCopy(ctx, a, progress); err != nil {
		return err
	}
	places, err := e.placeArgs(a.Spaces)
	if err != nil {
		return err
	}
	progress("waiting until nobody reads by the slot any more", 0, 0)
	e.awaitSlot(ctx, a.Source, a.Slot)
	note := "waiting for the primary's checkpoint"
	progress(note, 0, 0)
	err = e.RunWatched(ctx, func(line string) {
		if done, total, ok := parseProgress(line); ok {
			progress("copying", done, total)
		} else if strings.Contains(line, "WAL") {
			progress("copying, log included", 0, 0)
		}
	}, host.Piped{}, "pg_basebackup", append(places, "-D", e.cfg.DataDir, "-d", e.conninfo(a.Source), "-X", "stream", "-S",
		a.Slot, "-c", "fast", "-P", "-v", "-w")...)
	if err != nil {
		return err
	}
	if err := e.takeSettings(a); err != nil {
		return err
	}
	if err := e.adopt(a.Line, a.Past); err != nil {
		return err
	}
	return e.Close()
}

// slotWait bounds the wait for a slot; a primary notices after wal_sender_timeout (60 s)
// that the other end is gone.
const slotWait = 70 * time.Second

// awaitSlot waits until nobody reads by a slot: a copy that was killed a moment ago, or the
// server that stood here, may be connected still in the primary's eyes. What cannot be found
// out, the copy will say.
func (e *Engine) awaitSlot(ctx context.Context, source verb.Peer, slot string) {
	ctx, cancel := context.WithTimeout(ctx, slotWait)
	defer cancel()
	cfg, err := pgx.ParseConfig(e.conninfo(source, "dbname", "postgres", "connect_timeout", "5"))
	if err != nil {
		return
	}
	cfg.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	c, err := pgx.ConnectConfig(ctx, cfg)
	if err != nil {
		return
	}
	defer c.Close(context.Background())
	for {
		var free bool
		if err := c.QueryRow(ctx, "select not exists (select from pg_catalog.pg_replication_slots where slot_name = "+
			literal(slot)+" and active)").Scan(&free); err != nil || free {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// takeSettings gives a fresh copy its upstream. Where the configuration is not part of the
// copy, what the source set by ALTER SYSTEM is not taken over either: the server keeps its
// own.
func (e *Engine) takeSettings(a verb.Seed) error {
	if e.keepsOwn(a.Apart) {
		if err := e.WriteOwned(e.Path(autoFile), nil); err != nil {
			return err
		}
		if err := e.restoreOwnFiles(); err != nil {
			return err
		}
	}
	return e.editAuto(func(s pgtool.Settings) {
		s["primary_conninfo"], s["primary_slot_name"] = e.conninfo(a.Source), a.Slot
	})
}

// beginCopy clears the way for a copy. From here on the data counts as unfinished.
func (e *Engine) beginCopy(ctx context.Context, a verb.Seed, progress engine.Progress) error {
	own, log := e.ownPlaces(), e.logDir()
	if e.keepsOwn(a.Apart) {
		if err := e.saveOwnFiles(e.memory.Unfinished() == "seed"); err != nil {
			return err
		}
	}
	if err := e.memory.SetUnfinished("seed"); err != nil {
		return err
	}
	if err := e.memory.ForgetFingerprints(); err != nil {
		return err
	}
	var fill []string
	for _, s := range a.Spaces {
		fill = append(fill, e.placeOf(s.Path))
	}
	if err := errors.Join(e.memory.SetFingerprint(rememberSpaces, strings.Join(merged(own, fill), "\n")),
		e.memory.SetFingerprint(rememberLogDir, log)); err != nil {
		return err
	}
	if err := e.Make(); err != nil {
		return err
	}
	progress("clearing "+e.cfg.DataDir, 0, 0)
	return e.clear(ctx)
}

// adopt takes over the source's knowledge of its history: the log file with
// its first record is not part of a copy.
func (e *Engine) adopt(l position.Line, past []position.Branch) error {
	e.seen.Lock()
	e.seen.startedAt, e.seen.line, e.seen.lastTimeline = "", lineCache{}, 0
	e.seen.Unlock()
	e.ForgetSize()
	h := position.History{Past: past, Current: l.Number}
	for _, b := range append(past, position.Branch{Timeline: l.Number}) {
		x, _ := h.LineOf(l.System, b.Timeline, l.Fingerprint)
		if x.Fingerprint == "" {
			continue
		}
		if err := e.memory.SetFingerprint(fingerprintKey(x), x.Fingerprint); err != nil {
			return err
		}
	}
	return nil
}

// Verify implements engine.Seeder.
func (e *Engine) Verify(ctx context.Context, progress engine.Progress) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.memory.Unfinished() == "" {
		return nil // verified before
	}
	if _, err := e.Stat(e.Path("backup_manifest")); err != nil {
		return fmt.Errorf("the copy in %s has no manifest: it did not come to its end; seed it again", e.cfg.DataDir)
	}
	progress("reading every file of the copy", 0, 0)
	if _, _, err := e.Run(ctx, "pg_verifybackup", "-q", e.cfg.DataDir); err != nil {
		return fmt.Errorf("the copy differs from its manifest: %w", err)
	}
	if err := errors.Join(e.memory.SetFingerprint(rememberSpaces, ""), e.memory.SetFingerprint(rememberLogDir,
		"")); err != nil {
		return err
	}
	return e.memory.SetUnfinished("")
}
