package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/synchronous"
)

type operationRow struct {
	ID           int64             `db:"id"`
	Cluster      string            `db:"cluster"`
	Kind         operation.Kind    `db:"kind"`
	State        operation.State   `db:"state"`
	Outcome      operation.Outcome `db:"outcome"`
	Term         int64             `db:"term"`
	Request      string            `db:"request"`
	Plan         string            `db:"plan"`
	Facts        string            `db:"facts"`
	AskedBy      string            `db:"asked_by"`
	AskedFrom    string            `db:"asked_from"`
	Message      string            `db:"message"`
	PauseSeconds float64           `db:"pause_seconds"`
	Cancelled    bool              `db:"cancelled"`
	CreatedAt    string            `db:"created_at"`
	EndedAt      sql.NullString    `db:"ended_at"`
	PastReturn   bool              `db:"past_return"`
}

func (r operationRow) operation() (operation.Operation, error) {
	o := operation.Operation{ID: r.ID, Cluster: r.Cluster, Kind: r.Kind, State: r.State, Outcome: r.Outcome, Term: r.Term,
		AskedBy: r.AskedBy, AskedFrom: r.AskedFrom, Message: r.Message,
		PauseSeconds: r.PauseSeconds, Cancelled: r.Cancelled, PastReturn: r.PastReturn, CreatedAt: must(r.CreatedAt),
		EndedAt: parseTime(r.EndedAt), Facts: map[string]json.RawMessage{}, Steps: []operation.StepRecord{}}
	if err := readPlan([]byte(r.Plan), &o.Plan); err != nil {
		return o, fmt.Errorf("the plan of operation %d cannot be read: %w", r.ID, err)
	}
	return o, json.Unmarshal([]byte(r.Facts), &o.Facts)
}

func operations(rows []operationRow) ([]operation.Operation, error) {
	out := []operation.Operation{}
	for _, r := range rows {
		o, err := r.operation()
		if err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, nil
}

// AddOperation records an operation before its first step. A cluster has one
// that has not ended at most: the file itself keeps that.
func (s *Store) AddOperation(ctx context.Context, p *operation.Plan, who, from string) (int64, error) {
	return s.addOperation(ctx, p, who, from, operation.Running, "", "")
}

// AddRefused records an operation that was refused by a check.
func (s *Store) AddRefused(ctx context.Context, p *operation.Plan, who, from, why string) (int64, error) {
	return s.addOperation(ctx, p, who, from, operation.Ended, operation.OutcomeRefused, why)
}

func (s *Store) addOperation(ctx context.Context, p *operation.Plan, who, from string, state operation.State,
	outcome operation.Outcome, message string) (int64, error) {
	planJSON, err := json.Marshal(p)
	if err != nil {
		return 0, err
	}
	reqJSON, err := json.Marshal(p.Request)
	if err != nil {
		return 0, err
	}
	var ended any
	if state == operation.Ended {
		ended = now()
	}
	var id int64
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if state == operation.Running {
			if err := restsOn(ctx, tx, p); err != nil {
				return err
			}
		}
		res, err := tx.ExecContext(ctx,
			"insert into operations (cluster, kind, state, outcome, term, request, plan, asked_by, asked_from, message, "+
				"created_at, ended_at) values (?,?,?,?,?,?,?,?,?,?,?,?)",
			p.Cluster, p.Kind, state, outcome, p.Term, string(reqJSON), string(planJSON), who, from, message, now(), ended)
		if err != nil {
			return err
		}
		if id, err = res.LastInsertId(); err != nil {
			return err
		}
		for i := range p.Steps {
			if _, err := tx.ExecContext(ctx, "insert into steps (operation_id, seq, state) values (?, ?, ?)", id, i,
				operation.StepWaiting); err != nil {
				return err
			}
		}
		return nil
	})
	if unique(err) {
		return 0, fmt.Errorf("another operation is under way on %s: %w", p.Cluster, ErrTaken)
	}
	return id, err
}

// ErrMoved says that a plan rests on a decision that is not the newest any more.
var ErrMoved = errors.New("the cluster has moved on since the plan was made")

// restsOn compares the decision that a plan rests on with the newest one, the term that it
// opens with the newest term, and what it says nothing is lost by with what is promised, in the
// transaction that records the operation.
func restsOn(ctx context.Context, tx *sqlx.Tx, p *operation.Plan) error {
	var c clusterRow
	if err := tx.GetContext(ctx, &c, "select * from clusters where name = ?", p.Cluster); err != nil {
		return notFound(err)
	}
	switch {
	case c.OwnerTerm != p.OwnerTerm || c.Owner != p.Primary:
		return fmt.Errorf("%w: it was made for %s as owner of term %d, and %s owns term %d", ErrMoved, p.Primary, p.OwnerTerm,
			c.Owner, c.OwnerTerm)
	case p.Opens() && p.Term <= c.Term:
		return fmt.Errorf("%w: it opens term %d, and term %d is open already", ErrMoved, p.Term, c.Term)
	case p.Covered && !slices.EqualFunc(p.Promised, c.cluster().Promised, synchronous.List.Equal):
		return fmt.Errorf("%w: on which servers each acknowledged write is, has changed", ErrMoved)
	}
	return nil
}

// Operation returns one operation with its steps and journal.
func (s *Store) Operation(ctx context.Context, id int64) (operation.Operation, error) {
	var r operationRow
	if err := s.r.GetContext(ctx, &r, "select * from operations where id = ?", id); err != nil {
		return operation.Operation{}, notFound(err)
	}
	o, err := r.operation()
	if err != nil {
		return o, err
	}
	var steps []struct {
		OperationID int64               `db:"operation_id"`
		Seq         int                 `db:"seq"`
		State       operation.StepState `db:"state"`
		StartedAt   sql.NullString      `db:"started_at"`
		EndedAt     sql.NullString      `db:"ended_at"`
		Seen        string              `db:"seen"`
		Error       string              `db:"error"`
		Progress    string              `db:"progress"`
	}
	if err := s.r.SelectContext(ctx, &steps, "select * from steps where operation_id = ? order by seq", id); err != nil {
		return o, err
	}
	for _, x := range steps {
		st := operation.StepRecord{Seq: x.Seq, State: x.State, StartedAt: parseTime(x.StartedAt),
			EndedAt: parseTime(x.EndedAt), Seen: x.Seen, Error: x.Error}
		if x.Progress != "" {
			st.Progress = &operation.Progress{}
			if err := json.Unmarshal([]byte(x.Progress), st.Progress); err != nil {
				return o, err
			}
		}
		o.Steps = append(o.Steps, st)
	}
	var entries []struct {
		ID          int64         `db:"id"`
		OperationID int64         `db:"operation_id"`
		At          string        `db:"at"`
		Seq         sql.NullInt64 `db:"seq"`
		Level       string        `db:"level"`
		Text        string        `db:"text"`
	}
	if err := s.r.SelectContext(ctx, &entries, "select * from journal where operation_id = ? order by id",
		id); err != nil {
		return o, err
	}
	for _, x := range entries {
		e := operation.Entry{ID: x.ID, At: must(x.At), Level: x.Level, Text: x.Text}
		if x.Seq.Valid {
			n := int(x.Seq.Int64)
			e.Seq = &n
		}
		o.Journal = append(o.Journal, e)
	}
	return o, nil
}

// Operations lists operations, newest first, without steps and journal. Empty
// cluster and state mean all.
func (s *Store) Operations(ctx context.Context, cluster, state, kind string, limit int) ([]operation.Operation, error) {
	var rows []operationRow
	err := s.r.SelectContext(ctx, &rows,
		"select * from operations where ? in ('', cluster) and ? in ('', state, outcome) and ? in ('', kind) order by "+
			"id desc limit ?", cluster, state, kind, limit)
	if err != nil {
		return nil, err
	}
	out, err := operations(rows)
	for i := range out {
		out[i].Facts = nil
	}
	return out, err
}

// Unfinished returns the operations that have not ended.
func (s *Store) Unfinished(ctx context.Context) ([]int64, error) {
	var ids []int64
	return ids, s.r.SelectContext(ctx, &ids, "select id from operations where state <> 'ended' order by id")
}

// ErrCancelled says that an operation was cancelled before the step that it
// would have begun.
var ErrCancelled = errors.New("it was cancelled")

// ErrPastReturn says that an operation has begun its point of no return.
var ErrPastReturn = errors.New("the operation is past its point of no return")

// StartStep journals that a step begins, before anything is asked of a server.
// The point of no return does not begin in a cancelled operation: that is one
// atomic change with the cancellation.
func (s *Store) StartStep(ctx context.Context, id int64, seq int, title string, noReturn bool,
	before *operation.StepEnd) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if before != nil {
			if err := endStep(ctx, tx, id, *before); err != nil {
				return err
			}
		}
		if noReturn {
			var cancelled bool
			if err := tx.GetContext(ctx, &cancelled, "select cancelled from operations where id = ?", id); err != nil {
				return notFound(err)
			}
			if cancelled {
				return ErrCancelled
			}
			if _, err := tx.ExecContext(ctx, "update operations set past_return = 1 where id = ?", id); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx,
			"update steps set state = ?, started_at = ?, ended_at = null, error = '', seen = '' where operation_id = ? and "+
				"seq = ?", operation.StepRunning, now(), id, seq); err != nil {
			return err
		}
		return addEntry(ctx, tx, id, &seq, "info", "starting: "+title)
	})
}

// EndStep journals how a step ended.
func (s *Store) EndStep(ctx context.Context, id int64, e operation.StepEnd) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error { return endStep(ctx, tx, id, e) })
}

func endStep(ctx context.Context, tx *sqlx.Tx, id int64, e operation.StepEnd) error {
	level := "info"
	if e.Problem != "" {
		level = "error"
	}
	if _, err := tx.ExecContext(ctx,
		"update steps set state = ?, ended_at = ?, seen = ?, error = ? where operation_id = ? and seq = ?", e.State, now(),
		e.Seen, e.Problem, id, e.Seq); err != nil {
		return err
	}
	if e.Facts != nil {
		b, err := json.Marshal(e.Facts)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "update operations set facts = ? where id = ?", string(b), id); err != nil {
			return err
		}
	}
	return addEntry(ctx, tx, id, &e.Seq, level, e.Text)
}

// SetProgress records how far a long step has come.
func (s *Store) SetProgress(ctx context.Context, id int64, seq int, p operation.Progress) error {
	b, err := json.Marshal(p)
	if err != nil {
		return err
	}
	_, err = s.w.ExecContext(ctx, "update steps set progress = ? where operation_id = ? and seq = ?", string(b), id, seq)
	return err
}

// SetUndoing says that the steps done are being undone, and why.
func (s *Store) SetUndoing(ctx context.Context, id int64, why string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "update operations set state = ?, message = ? where id = ?", operation.Undoing, why,
			id); err != nil {
			return err
		}
		return addEntry(ctx, tx, id, nil, "warn", "undoing what was done: "+why)
	})
}

// SetTerm records that an operation goes on under a newer term.
func (s *Store) SetTerm(ctx context.Context, id, term int64) error {
	return s.one(ctx, "update operations set term = ? where id = ?", term, id)
}

// EndOperation records the outcome.
func (s *Store) EndOperation(ctx context.Context, id int64, outcome operation.Outcome, message string,
	pause float64) error {
	level := "info"
	if outcome != operation.OutcomeFinished {
		level = "warn"
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx,
			"update operations set state = ?, outcome = ?, message = ?, pause_seconds = ?, ended_at = ? where id = ?",
			operation.Ended, outcome, message, pause, now(), id); err != nil {
			return err
		}
		return addEntry(ctx, tx, id, nil, level, string(outcome)+": "+message)
	})
}

// Reopen has an operation that needs a person go on: only the newest one of its
// cluster, and only while no other is under way.
func (s *Store) Reopen(ctx context.Context, id int64) error {
	err := s.one(ctx, `update operations set state = ?, outcome = '', message = '', ended_at = null where id = ?
		and state = ? and outcome = ? and id = (select max(o.id) from operations o
			where o.cluster = operations.cluster and o.outcome <> 'refused')`,
		operation.Running, id, operation.Ended, operation.OutcomeNeedsYou)
	if unique(err) {
		return ErrTaken
	}
	return err
}

// Cancel asks an operation to stop before its point of no return. Once that has
// begun it is refused.
func (s *Store) Cancel(ctx context.Context, id int64) error {
	err := s.one(ctx, "update operations set cancelled = 1 where id = ? and state <> 'ended' and past_return = 0", id)
	if err != ErrNotFound {
		return err
	}
	op, err := s.Operation(ctx, id)
	if err == nil && op.State != operation.Ended {
		return ErrPastReturn
	}
	return cmp.Or(err, ErrNotFound)
}

// Cancelled reports whether that was asked.
func (s *Store) Cancelled(ctx context.Context, id int64) bool {
	var c bool
	return s.r.GetContext(ctx, &c, "select cancelled from operations where id = ?", id) == nil && c
}

// Note adds a line to an operation's journal.
func (s *Store) Note(ctx context.Context, id int64, seq *int, level, text string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error { return addEntry(ctx, tx, id, seq, level, text) })
}

func addEntry(ctx context.Context, tx *sqlx.Tx, id int64, seq *int, level, text string) error {
	_, err := tx.ExecContext(ctx, "insert into journal (operation_id, at, seq, level, text) values (?, ?, ?, ?, ?)", id,
		now(), seq, level, text)
	return err
}

// OperationsBetween returns a cluster's operations that were under way between
// two times, oldest first, without steps and journal; refused ones changed
// nothing and are left out.
func (s *Store) OperationsBetween(ctx context.Context, cluster string, from, to time.Time) ([]operation.Operation,
	error) {
	var rows []operationRow
	err := s.r.SelectContext(ctx, &rows,
		"select * from operations where cluster = ? and outcome <> 'refused' and created_at <= ? and coalesce(ended_at, "+
			"'9') >= ? order by id",
		cluster, to.UTC().Format(timeText), from.UTC().Format(timeText))
	if err != nil {
		return nil, err
	}
	return operations(rows)
}

// NeedYou returns the clusters whose newest operation did not come to its end,
// with that operation's number and kind.
func (s *Store) NeedYou(ctx context.Context, cluster string) (map[string]operation.Operation, error) {
	var rows []operationRow
	err := s.r.SelectContext(ctx, &rows,
		`select * from operations where id in (select max(o.id) from operations o
		  join clusters c on c.name = o.cluster and c.created_at <= o.created_at
		where o.outcome <> 'refused' and ? in ('', o.cluster) group by o.cluster) and outcome = ?`, cluster,
		operation.OutcomeNeedsYou)
	if err != nil {
		return nil, err
	}
	list, err := operations(rows)
	out := map[string]operation.Operation{}
	for _, o := range list {
		out[o.Cluster] = o
	}
	return out, err
}

// Deposed returns, by cluster, the servers whose role as primary a failover took and that
// have not become a part of their cluster again since.
func (s *Store) Deposed(ctx context.Context, cluster string) (map[string]map[string]bool, error) {
	var rows []struct {
		Cluster string `db:"cluster"`
		Server  string `db:"server"`
	}
	err := s.r.SelectContext(ctx, &rows, `
		with lost as (select o.cluster, json_extract(o.plan, '$.primary') as server, max(o.id) as id from operations o
		  join clusters c on c.name = o.cluster and c.created_at <= o.created_at
		  where o.kind = 'failover' and ? in ('', o.cluster) and o.outcome in ('finished', 'needs you')
		    and json_extract(o.plan, '$.candidate') <> json_extract(o.plan, '$.primary') group by 1, 2)
		select l.cluster, l.server from lost l where not exists (select 1 from operations b
		  where b.cluster = l.cluster and b.id > l.id and b.outcome = 'finished'
		    and (b.kind in ('rejoin', 'seed', 'follow', 'adopt') and json_extract(b.plan, '$.target') = l.server
		      or b.kind in ('failover', 'switchover') and json_extract(b.plan, '$.candidate') = l.server))`, cluster)
	if err != nil {
		return nil, err
	}
	out := map[string]map[string]bool{}
	for _, r := range rows {
		if out[r.Cluster] == nil {
			out[r.Cluster] = map[string]bool{}
		}
		out[r.Cluster][r.Server] = true
	}
	return out, nil
}
