package client

import (
	"context"
	"io"
	"net/url"
	"strconv"
	"time"

	"crosstwin/internal/apitype"
	"crosstwin/internal/core/access"
	"crosstwin/internal/core/alert"
	"crosstwin/internal/core/authority"
	"crosstwin/internal/core/history"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/view"
)

func span(from, to time.Time, points int) string {
	q := url.Values{"from": {from.UTC().Format(time.RFC3339)}, "to": {to.UTC().Format(time.RFC3339)}}
	if points > 0 {
		q.Set("points", strconv.Itoa(points))
	}
	return "?" + q.Encode()
}

// History returns what was measured of a cluster between two times, in at most
// points bins (0: as it is kept).
func (c *Client) History(ctx context.Context, cluster string, from, to time.Time, points int) (h history.Report,
	err error) {
	return h, c.call(ctx, "GET", at("clusters", cluster, "history")+span(from, to, points), nil, &h)
}

// HistoryTable copies the same as CSV.
func (c *Client) HistoryTable(ctx context.Context, cluster string, from, to time.Time, w io.Writer) error {
	res, err := c.request(ctx, "GET", at("clusters", cluster, "history.csv")+span(from, to, 0), nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(w, res.Body)
	return err
}

// Records says how large the service's records are.
func (c *Client) Records(ctx context.Context) (s history.RecordsSize, err error) {
	return s, c.call(ctx, "GET", at("records"), nil, &s)
}

// Authority returns the service's certificate authority and how far its exchange is.
func (c *Client) Authority(ctx context.Context) (s authority.State, err error) {
	return s, c.call(ctx, "GET", at("authority"), nil, &s)
}

// RotateAuthority begins to exchange the authority of this fingerprint.
func (c *Client) RotateAuthority(ctx context.Context, fingerprint string) (s authority.State, err error) {
	return s, c.call(ctx, "POST", at("authority", "rotate"), apitype.AuthorityRotation{Fingerprint: fingerprint}, &s)
}

// CopyRecords writes a consistent copy of the service's records.
func (c *Client) CopyRecords(ctx context.Context, w io.Writer) error {
	res, err := c.request(ctx, "GET", at("records", "copy"), nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(w, res.Body)
	return err
}

// Audit lists the audit trail, newest first, before an event; 0: from the newest.
func (c *Client) Audit(ctx context.Context, before int64, limit int) ([]access.Event, error) {
	var out apitype.Events
	q := url.Values{"before": {strconv.FormatInt(before, 10)}, "limit": {strconv.Itoa(limit)}}
	return out.Events, c.call(ctx, "GET", at("audit")+"?"+q.Encode(), nil, &out)
}

// Alerts lists alerts; empty cluster means all.
func (c *Client) Alerts(ctx context.Context, cluster string, onlyOpen bool, limit int) ([]alert.Alert, error) {
	var out apitype.Alerts
	q := url.Values{"cluster": {cluster}, "open": {strconv.FormatBool(onlyOpen)}, "limit": {strconv.Itoa(limit)}}
	return out.Alerts, c.call(ctx, "GET", at("alerts")+"?"+q.Encode(), nil, &out)
}

// Acknowledge says that somebody has taken an alert on.
func (c *Client) Acknowledge(ctx context.Context, id int64, note string) (a alert.Alert, err error) {
	return a, c.call(ctx, "POST", at("alerts", strconv.FormatInt(id, 10), "acknowledge"),
		apitype.Acknowledgement{Note: note}, &a)
}

// Channels lists where alerts are sent.
func (c *Client) Channels(ctx context.Context) (l apitype.Channels, err error) {
	return l, c.call(ctx, "GET", at("channels"), nil, &l)
}

// AddChannel adds a web address for alerts.
func (c *Client) AddChannel(ctx context.Context, name, address string) (m apitype.MadeChannel, err error) {
	return m, c.call(ctx, "POST", at("channels"), apitype.NewChannel{Name: name, URL: address}, &m)
}

// RemoveChannel removes one.
func (c *Client) RemoveChannel(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", at("channels", name), nil, nil)
}

// TestChannel sends a test message and says how it went.
func (c *Client) TestChannel(ctx context.Context, name string) (d alert.Delivery, err error) {
	return d, c.call(ctx, "POST", at("channels", name, "test"), nil, &d)
}

// Logs lists the log files of a server; the primary's when none is named.
func (c *Client) Logs(ctx context.Context, cluster, server string) (l apitype.Logs, err error) {
	return l, c.call(ctx, "GET", at("clusters", cluster, "logs")+"?"+url.Values{"server": {server}}.Encode(), nil, &l)
}

// ReadLog reads a part of a server's log; the primary's when none is named.
func (c *Client) ReadLog(ctx context.Context, cluster, server string, a tail.ReadLogArgs) (p apitype.LogPage,
	err error) {
	q := url.Values{"server": {server}, "from": {a.From}, "to": {a.To}, "table": {a.Table}, "shown": {a.Shown}}
	if a.Limit > 0 {
		q.Set("limit", strconv.Itoa(a.Limit))
	}
	if !a.Since.IsZero() {
		q.Set("since", a.Since.UTC().Format(time.RFC3339))
	}
	return p, c.call(ctx, "GET", at("clusters", cluster, "log")+"?"+q.Encode(), nil, &p)
}

// Complaints returns the newest lines of a server's own error log.
func (c *Client) Complaints(ctx context.Context, cluster, server string) ([]tail.Complaint, error) {
	var out apitype.Complaints
	return out.Complaints, c.call(ctx, "GET", at("clusters", cluster, "servers", server, "complaints"), nil, &out)
}

// Drift returns the settings in which the servers of a cluster differ.
func (c *Client) Drift(ctx context.Context, cluster string) (d view.Drift, err error) {
	return d, c.call(ctx, "GET", at("clusters", cluster, "drift"), nil, &d)
}

// Conflicts tells of the queries that replay cancelled.
func (c *Client) Conflicts(ctx context.Context, cluster string) (x view.Conflicts, err error) {
	return x, c.call(ctx, "GET", at("clusters", cluster, "conflicts"), nil, &x)
}
