package store

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"time"

	"github.com/jmoiron/sqlx"

	"crosstwin/internal/core/history"
)

// ServerBlock is a block of one server's samples.
type ServerBlock struct {
	ServerID int64
	history.Block
}

// SaveSamples writes blocks, over older states of the same blocks. Blocks of
// servers that are gone meanwhile are dropped.
func (s *Store) SaveSamples(ctx context.Context, blocks []ServerBlock) error {
	if len(blocks) == 0 {
		return nil
	}
	return inTx(ctx, s.m, func(tx *sqlx.Tx) error {
		for _, b := range blocks {
			data, err := b.Pack()
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx,
				`insert into samples (server_id, step, start, data) select id, ?, ?, ? from servers where id = ?
				on conflict do update set data = excluded.data`, int64(b.Step), b.Start, data, b.ServerID); err != nil {
				return err
			}
		}
		return nil
	})
}

// Samples returns the blocks of a server at a step that hold anything between
// two times (Unix seconds), oldest first.
func (s *Store) Samples(ctx context.Context, server int64, step history.Step, from, to int64) ([]history.Block, error) {
	var rows []struct {
		Start int64  `db:"start"`
		Data  []byte `db:"data"`
	}
	err := s.r.SelectContext(ctx, &rows,
		"select start, data from samples where server_id = ? and step = ? and start between ? and ? order by start",
		server, int64(step), step.BlockStart(from), to)
	if err != nil {
		return nil, err
	}
	out := make([]history.Block, 0, len(rows))
	for _, r := range rows {
		b, err := history.Unpack(step, r.Start, r.Data)
		if err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	return out, nil
}

// UnfinishedSamples returns the block of a server at a step that begins at start,
// if it was saved.
func (s *Store) UnfinishedSamples(ctx context.Context, server int64, step history.Step, start int64) (history.Block,
	bool, error) {
	var data []byte
	err := s.r.GetContext(ctx, &data, "select data from samples where server_id = ? and step = ? and start = ?", server,
		int64(step), start)
	if errors.Is(err, sql.ErrNoRows) {
		return history.Block{}, false, nil
	}
	if err != nil {
		return history.Block{}, false, err
	}
	b, err := history.Unpack(step, start, data)
	return b, err == nil, err
}

// recordsKept is how long ended operations and the audit trail stay: past the
// yearly review after an incident.
const recordsKept = 400 * 24 * time.Hour

// Forget removes samples older than they are kept for, ended operations and alerts that
// are older than 400 days, events older than audit, and of operations that ended longer
// ago than rows what they hold of rows: tails with their values, differences.
func (s *Store) Forget(ctx context.Context, keep history.Keep, audit, rows time.Duration, now time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		for step, seconds := range keep {
			if _, err := tx.ExecContext(ctx, "delete from samples where step = ? and start < ?", int64(step),
				now.Unix()-seconds-step.Span()); err != nil {
				return err
			}
		}
		old := now.Add(-recordsKept).UTC().Format(timeText)
		if _, err := tx.ExecContext(ctx, "delete from operations where state = 'ended' and ended_at < ?", old); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "update operations set facts = '{}', plan = json_remove(plan, "+
			"'$.examination.tail') where state = 'ended' and ended_at < ? and (facts <> '{}' or "+
			"json_extract(plan, '$.examination.tail') is not null)", now.Add(-rows).UTC().Format(timeText)); err != nil {
			return err
		}
		until := now.Add(-audit).UTC().Format(timeText)
		if _, err := tx.ExecContext(ctx, "delete from events where at < ?", until); err != nil {
			return err
		}
		for _, q := range []string{"delete from alerts where cleared_at < ?",
			"delete from deliveries where next_at is null and done_at < ?"} {
			if _, err := tx.ExecContext(ctx, q, old); err != nil {
				return err
			}
		}
		return nil
	})
}

// FileBytes returns the size of the file with its write-ahead log.
func (s *Store) FileBytes() (n int64) {
	for _, f := range []string{s.path, s.path + "-wal"} {
		if st, err := os.Stat(f); err == nil {
			n += st.Size()
		}
	}
	return n
}

// Measure sizes the records.
func (s *Store) Measure(ctx context.Context, keep history.Keep, now time.Time) (history.RecordsSize, error) {
	out := history.RecordsSize{Path: s.path, FileBytes: s.FileBytes()}
	var rows []struct {
		Step   int64 `db:"step"`
		Blocks int64 `db:"blocks"`
		Bytes  int64 `db:"bytes"`
		Oldest int64 `db:"oldest"`
	}
	if err := s.r.SelectContext(ctx, &rows,
		"select step, count(*) as blocks, sum(length(data)) as bytes, "+
			"min(start) as oldest from samples group by step"); err != nil {
		return out, err
	}
	for _, q := range []struct {
		into *int64
		sql  string
	}{{&out.Operations, "select count(*) from operations"}, {&out.Events, "select count(*) from events"},
		{&out.Servers, "select count(*) from servers"}} {
		if err := s.r.GetContext(ctx, q.into, q.sql); err != nil {
			return out, err
		}
	}
	for _, r := range rows {
		step := history.Step(r.Step)
		mean := float64(r.Bytes) / float64(r.Blocks)
		full := int64(mean * float64(out.Servers) * float64(keep[step]/step.Span()+1))
		out.SampleBytes += r.Bytes
		out.SampleBytesAtAge += max(full, r.Bytes)
		if now.Unix()-r.Oldest < keep[step] {
			out.GrowthPerDay += min(int64(mean*float64(out.Servers)*86400/float64(step.Span())), max(0, full-r.Bytes))
		}
		if at := time.Unix(r.Oldest, 0).UTC(); out.OldestSample == nil || at.Before(*out.OldestSample) {
			out.OldestSample = &at
		}
	}
	return out, nil
}
