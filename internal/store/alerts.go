package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"crosstwin/internal/core/alert"
)

type alertRow struct {
	ID             int64          `db:"id"`
	Cluster        string         `db:"cluster"`
	Server         string         `db:"server"`
	Rule           string         `db:"rule"`
	Level          string         `db:"level"`
	Text           string         `db:"text"`
	Mend           string         `db:"mend"`
	RaisedAt       string         `db:"raised_at"`
	ClearedAt      sql.NullString `db:"cleared_at"`
	AcknowledgedAt sql.NullString `db:"acknowledged_at"`
	AcknowledgedBy string         `db:"acknowledged_by"`
	Note           string         `db:"note"`
}

func (r alertRow) alert() alert.Alert {
	return alert.Alert{ID: r.ID, Cluster: r.Cluster, Server: r.Server, Rule: r.Rule, Level: r.Level, Text: r.Text,
		Mend: r.Mend, RaisedAt: must(r.RaisedAt),
		ClearedAt: parseTime(r.ClearedAt), AcknowledgedAt: parseTime(r.AcknowledgedAt), AcknowledgedBy: r.AcknowledgedBy,
		Note: r.Note}
}

// RaiseAlert records an alert and gives it its number.
func (s *Store) RaiseAlert(ctx context.Context, a alert.Alert) (alert.Alert, error) {
	a.RaisedAt = must(now())
	res, err := s.w.ExecContext(ctx,
		"insert into alerts (cluster, server, rule, level, text, mend, raised_at) values (?, ?, ?, ?, ?, ?, ?)",
		a.Cluster, a.Server, a.Rule, a.Level, a.Text, a.Mend, a.RaisedAt.Format(timeText))
	if unique(err) {
		return a, fmt.Errorf("alert %s of %s: %w", a.Rule, a.Cluster, ErrTaken)
	}
	if err != nil {
		return a, err
	}
	a.ID, err = res.LastInsertId()
	return a, err
}

// ClearAlert records that the open alert of a rule is over and gives it.
func (s *Store) ClearAlert(ctx context.Context, cluster, server, rule string) (alert.Alert, error) {
	var r alertRow
	err := s.w.GetContext(ctx, &r,
		"update alerts set cleared_at = ? where cluster = ? and server = ? and rule = ? and cleared_at is null returning *",
		now(), cluster, server, rule)
	return r.alert(), notFound(err)
}

// Acknowledge records that somebody has taken an alert on.
func (s *Store) Acknowledge(ctx context.Context, id int64, who, note string) (alert.Alert, error) {
	var r alertRow
	err := s.w.GetContext(ctx, &r,
		"update alerts set acknowledged_at = ?, acknowledged_by = ?, note = ? where id = ? returning *", now(), who, note, id)
	return r.alert(), notFound(err)
}

// Alerts lists alerts: the open ones first, each part newest first. Empty
// cluster means all.
func (s *Store) Alerts(ctx context.Context, cluster string, onlyOpen bool, limit int) ([]alert.Alert, error) {
	return s.alerts(ctx,
		"select * from alerts where (? = '' or cluster = ?) and (not ? or cleared_at is null) order by cleared_at is "+
			"not null, raised_at desc limit ?", cluster, cluster, onlyOpen, limit)
}

// AlertsBetween returns a cluster's alerts that were open between two times.
func (s *Store) AlertsBetween(ctx context.Context, cluster string, from, to time.Time) ([]alert.Alert, error) {
	return s.alerts(ctx,
		"select * from alerts where cluster = ? and raised_at <= ? and coalesce(cleared_at, '9') >= ? order by raised_at",
		cluster, to.UTC().Format(timeText), from.UTC().Format(timeText))
}

func (s *Store) alerts(ctx context.Context, query string, args ...any) ([]alert.Alert, error) {
	var rows []alertRow
	if err := s.r.SelectContext(ctx, &rows, query, args...); err != nil {
		return nil, err
	}
	out := []alert.Alert{}
	for _, r := range rows {
		out = append(out, r.alert())
	}
	return out, nil
}

type deliveryRow struct {
	ID        int64          `db:"id"`
	ChannelID int64          `db:"channel_id"`
	AlertID   sql.NullInt64  `db:"alert_id"`
	Body      string         `db:"body"`
	Attempts  int            `db:"attempts"`
	NextAt    sql.NullString `db:"next_at"`
	DoneAt    sql.NullString `db:"done_at"`
	Error     string         `db:"error"`
}

func (r deliveryRow) delivery() alert.Delivery {
	return alert.Delivery{ID: r.ID, ChannelID: r.ChannelID, Body: r.Body, Attempts: r.Attempts,
		NextAt: parseTime(r.NextAt), DoneAt: parseTime(r.DoneAt), Error: r.Error}
}

// AddChannel keeps a channel.
func (s *Store) AddChannel(ctx context.Context, c alert.Channel) error {
	_, err := s.w.ExecContext(ctx, "insert into channels (name, url, secret, created_at) values (?, ?, ?, ?)", c.Name,
		c.URL, s.seal(c.Name, c.Secret), now())
	if unique(err) {
		return fmt.Errorf("channel %s: %w", c.Name, ErrTaken)
	}
	return err
}

// RemoveChannel removes a channel; what was still to be sent to it is dropped.
func (s *Store) RemoveChannel(ctx context.Context, name string) error {
	if _, err := s.w.ExecContext(ctx, "delete from deliveries where channel_id = (select id from channels where name = ?)",
		name); err != nil {
		return err
	}
	return s.one(ctx, "delete from channels where name = ?", name)
}

// Channels lists all channels with what became of their newest delivery.
func (s *Store) Channels(ctx context.Context) ([]alert.Channel, error) {
	var rows []struct {
		ID        int64  `db:"id"`
		Name      string `db:"name"`
		URL       string `db:"url"`
		Secret    string `db:"secret"`
		CreatedAt string `db:"created_at"`
	}
	err := s.r.SelectContext(ctx, &rows, "select * from channels order by name")
	if err != nil {
		return nil, err
	}
	out := []alert.Channel{}
	for _, r := range rows {
		c := alert.Channel{ID: r.ID, Name: r.Name, URL: r.URL, CreatedAt: must(r.CreatedAt)}
		if c.Secret, err = s.unseal(r.Name, r.Secret); err != nil {
			c.Problem = "its secret cannot be read: " + err.Error() + "; remove the channel and add it again"
		}
		var d deliveryRow
		if err := s.r.GetContext(ctx, &d, "select * from deliveries where channel_id = ? order by id desc limit 1",
			r.ID); err == nil {
			last := d.delivery()
			c.Last = &last
		}
		out = append(out, c)
	}
	return out, nil
}

// AddDelivery puts a message in the queue of a channel, due now. alert 0 is a
// test, which its caller sends at once and nobody else.
func (s *Store) AddDelivery(ctx context.Context, channel, alert int64, body string) (int64, error) {
	var of, due any
	if alert != 0 {
		of, due = alert, now()
	}
	res, err := s.w.ExecContext(ctx, "insert into deliveries (channel_id, alert_id, body, next_at) values (?, ?, ?, ?)",
		channel, of, body, due)
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
}

// DueDeliveries returns what is to be sent by now, oldest first.
func (s *Store) DueDeliveries(ctx context.Context, limit int) ([]alert.Delivery, error) {
	var rows []deliveryRow
	if err := s.r.SelectContext(ctx, &rows, "select * from deliveries where next_at <= ? order by id limit ?", now(),
		limit); err != nil {
		return nil, err
	}
	out := []alert.Delivery{}
	for _, r := range rows {
		out = append(out, r.delivery())
	}
	return out, nil
}

// Delivered records how an attempt ended: an empty problem is success; again is
// when it is tried once more, nil never.
func (s *Store) Delivered(ctx context.Context, id int64, problem string, again *time.Time) error {
	var next, done any
	if problem == "" {
		done = now()
	} else if again != nil {
		next = again.UTC().Format(timeText)
	}
	_, err := s.w.ExecContext(ctx,
		"update deliveries set attempts = attempts + 1, error = ?, next_at = ?, done_at = ? where id = ?", problem, next,
		done, id)
	return err
}

// Delivery returns one delivery.
func (s *Store) Delivery(ctx context.Context, id int64) (alert.Delivery, error) {
	var r deliveryRow
	if err := s.r.GetContext(ctx, &r, "select * from deliveries where id = ?", id); err != nil {
		return alert.Delivery{}, notFound(err)
	}
	return r.delivery(), nil
}
