package api

import (
	"encoding/csv"
	"fmt"
	"maps"
	"math"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/labstack/echo/v4"

	"crosstwin/internal/apitype"
	"crosstwin/internal/core/alert"
	"crosstwin/internal/core/authority"
	"crosstwin/internal/core/history"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/view"
	"crosstwin/internal/service"
)

// watchRoutes are those of what was seen over time, and of alerts.
func (a *API) watchRoutes() []route {
	const v1 = "/api/v1"
	return []route{
		{method: "GET", path: v1 + "/clusters/:cluster/history", id: "history",
			summary: "What was measured of a cluster between two times", query: []string{"from", "to", "points"}, status: 200,
			out: history.Report{}, handle: a.history},
		{method: "GET", path: v1 + "/clusters/:cluster/history.csv", id: "historyTable",
			summary: "The same as a table, one line a time and server", query: []string{"from", "to", "points"}, status: 200,
			content: "text/csv", handle: a.historyTable},
		{method: "GET", path: v1 + "/clusters/:cluster/logs", id: "listLogs",
			summary: "Log files of a server (the primary's when none is named), with who needs them", query: []string{"server"},
			status: 200, out: apitype.Logs{}, handle: a.listLogs},
		{method: "GET", path: v1 + "/clusters/:cluster/log", id: "readLog", summary: "Transactions of a server's log",
			query: []string{"server", "from", "to", "since", "table", "shown", "limit"}, status: 200, out: apitype.LogPage{},
			handle: a.readLog},
		{method: "GET", path: v1 + "/clusters/:cluster/servers/:server/complaints", id: "complaints",
			summary: "Newest warnings and errors of a server's own error log", status: 200, out: apitype.Complaints{},
			handle: a.complaints},
		{method: "GET", path: v1 + "/clusters/:cluster/drift", id: "drift",
			summary: "Settings in which the servers differ, and why that matters", status: 200, out: view.Drift{},
			handle: a.drift},
		{method: "GET", path: v1 + "/clusters/:cluster/conflicts", id: "conflicts",
			summary: "Queries on replicas that replay cancelled, and the trade", status: 200, out: view.Conflicts{},
			handle: a.conflicts},
		{method: "GET", path: v1 + "/lag-lines", id: "lagLines",
			summary: "Time behind of the last ten minutes, by cluster and server, ten seconds apart", status: 200,
			out: map[string]map[string][]*float64{}, handle: func(c echo.Context) error {
				lines := a.service.LagLines()
				maps.DeleteFunc(lines, func(cluster string, _ map[string][]*float64) bool { return !tokenOf(c).Sees(cluster) })
				return c.JSON(200, lines)
			}},
		{method: "GET", path: v1 + "/records", id: "records", summary: "How large the records are and how they grow",
			status: 200, out: history.RecordsSize{}, handle: a.records},
		{method: "GET", path: v1 + "/authority", id: "authority",
			summary: "The service's certificate authority, and how far its exchange is", status: 200, out: authority.State{},
			handle: func(c echo.Context) error { return c.JSON(200, a.service.AuthorityNow()) }},
		{method: "POST", path: v1 + "/authority/rotate", id: "rotateAuthority",
			summary: "Begin to exchange the authority of this fingerprint for a new one", status: 202,
			in: apitype.AuthorityRotation{}, out: authority.State{}, handle: a.rotateAuthority},
		{method: "GET", path: v1 + "/records/copy", id: "copyRecords", summary: "A consistent copy of the records, as a file",
			status: 200, content: "application/vnd.sqlite3", handle: a.copyRecords},

		{method: "GET", path: v1 + "/alerts", id: "listAlerts", summary: "List alerts, open ones first, newest first",
			query: []string{"cluster", "open", "limit"}, status: 200, out: apitype.Alerts{}, handle: a.listAlerts},
		{method: "POST", path: v1 + "/alerts/:id/acknowledge", id: "acknowledgeAlert", summary: "Acknowledge an alert",
			status: 200, in: apitype.Acknowledgement{}, out: alert.Alert{}, handle: a.acknowledge},
		{method: "GET", path: v1 + "/channels", id: "listChannels", summary: "Where alerts are sent", status: 200,
			out: apitype.Channels{}, handle: a.listChannels},
		{method: "POST", path: v1 + "/channels", id: "addChannel",
			summary: "Add a web address for alerts; its secret is shown once", status: 201, in: apitype.NewChannel{},
			out: apitype.MadeChannel{}, handle: a.addChannel},
		{method: "DELETE", path: v1 + "/channels/:name", id: "removeChannel", summary: "Remove a channel", status: 204,
			handle: a.removeChannel},
		{method: "POST", path: v1 + "/channels/:name/test", id: "testChannel",
			summary: "Send a test message and say how it went", status: 200, out: alert.Delivery{}, handle: a.testChannel},
	}
}

// spanOf reads from and to (RFC 3339; absent: the last hour) and points.
func spanOf(c echo.Context) (from, to time.Time, points int, err error) {
	bad := func(name, form string) error {
		return apitype.Problem{Status: 400, Code: apitype.CodeBadInput, Title: "Bad " + name,
			Detail: fmt.Sprintf("%s is %q: it is %s", name, c.QueryParam(name), form)}
	}
	to = time.Now()
	if s := c.QueryParam("to"); s != "" {
		if to, err = time.Parse(time.RFC3339, s); err != nil {
			return from, to, 0, bad("to", "a time like 2026-11-23T03:00:00Z")
		}
	}
	from = to.Add(-time.Hour)
	if s := c.QueryParam("from"); s != "" {
		if from, err = time.Parse(time.RFC3339, s); err != nil {
			return from, to, 0, bad("from", "a time like 2026-11-23T03:00:00Z")
		}
	}
	if s := c.QueryParam("points"); s != "" {
		if points, err = strconv.Atoi(s); err != nil || points < 1 {
			return from, to, 0, bad("points", "a number from 1 on")
		}
	}
	return from, to, points, nil
}

func (a *API) readHistory(c echo.Context) (history.Report, error) {
	from, to, points, err := spanOf(c)
	if err != nil {
		return history.Report{}, err
	}
	return a.service.History(c.Request().Context(), c.Param("cluster"), from, to, points)
}

func (a *API) history(c echo.Context) error {
	h, err := a.readHistory(c)
	if err != nil {
		return err
	}
	return c.JSON(200, h)
}

func (a *API) historyTable(c echo.Context) error {
	h, err := a.readHistory(c)
	if err != nil {
		return err
	}
	c.Response().Header().Set(echo.HeaderContentType, "text/csv; charset=utf-8")
	c.Response().Header().Set(echo.HeaderContentDisposition,
		fmt.Sprintf("attachment; filename=%q", h.Cluster+"-"+h.From.Format("20060102T150405Z")+".csv"))
	w := csv.NewWriter(c.Response())
	head := []string{"time", "server"}
	for _, m := range history.Metrics {
		head = append(head, string(m))
	}
	w.Write(head)
	for i, at := range h.At {
		for _, s := range h.Servers {
			line := []string{at.Format(time.RFC3339), s.Server}
			for _, m := range history.Metrics {
				text := ""
				if column := s.Values[m]; column != nil && column[i] != nil {
					text = strconv.FormatFloat(math.Round(*column[i]*1000)/1000, 'f', -1, 64)
				}
				line = append(line, text)
			}
			w.Write(line)
		}
	}
	w.Flush()
	return w.Error()
}

func (a *API) rotateAuthority(c echo.Context) error {
	r, err := body[apitype.AuthorityRotation](c)
	if err != nil {
		return err
	}
	state, err := a.service.RotateAuthority(c.Request().Context(), r.Fingerprint)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusAccepted, state)
}

func (a *API) records(c echo.Context) error {
	size, err := a.service.RecordsSize(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(200, size)
}

func (a *API) copyRecords(c echo.Context) error {
	c.Response().Header().Set(echo.HeaderContentType, "application/vnd.sqlite3")
	return a.service.CopyRecords(c.Request().Context(), c.Response())
}

func (a *API) listAlerts(c echo.Context) error {
	n, err := limitOf(c)
	if err != nil {
		return err
	}
	list, err := a.service.Alerts(c.Request().Context(), c.QueryParam("cluster"), c.QueryParam("open") == "true", n)
	if err != nil {
		return err
	}
	return c.JSON(200, apitype.Alerts{Alerts: kept(c, list, func(x alert.Alert) string { return x.Cluster })})
}

func (a *API) acknowledge(c echo.Context) error {
	r, err := body[apitype.Acknowledgement](c)
	if err != nil {
		return err
	}
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return service.NotFound("alert", c.Param("id"))
	}
	if !tokenOf(c).Sees("") {
		list, err := a.service.Alerts(c.Request().Context(), "", false, 1000)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(kept(c, list, func(x alert.Alert) string { return x.Cluster }),
			func(x alert.Alert) bool { return x.ID == id }) {
			return service.NotFound("alert", c.Param("id"))
		}
	}
	name, from := who(c)
	alert, err := a.service.Acknowledge(c.Request().Context(), id, r.Note, name, from)
	if err != nil {
		return err
	}
	return c.JSON(200, alert)
}

func (a *API) listChannels(c echo.Context) error {
	list, err := a.service.Channels(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(200, apitype.Channels{Channels: list, Command: a.service.AlertCommand})
}

func (a *API) addChannel(c echo.Context) error {
	r, err := body[apitype.NewChannel](c)
	if err != nil {
		return err
	}
	name, from := who(c)
	secret, err := a.service.AddChannel(c.Request().Context(), r.Name, r.URL, name, from)
	if err != nil {
		return err
	}
	return c.JSON(201, apitype.MadeChannel{Name: r.Name, URL: r.URL, Secret: secret})
}

func (a *API) removeChannel(c echo.Context) error {
	name, from := who(c)
	if err := a.service.RemoveChannel(c.Request().Context(), c.Param("name"), name, from); err != nil {
		return err
	}
	return c.NoContent(204)
}

func (a *API) testChannel(c echo.Context) error {
	d, err := a.service.TestChannel(c.Request().Context(), c.Param("name"))
	if err != nil {
		return err
	}
	return c.JSON(200, d)
}

func (a *API) listLogs(c echo.Context) error {
	server, files, err := a.service.LogFiles(c.Request().Context(), c.Param("cluster"), c.QueryParam("server"))
	if err != nil {
		return err
	}
	return c.JSON(200, apitype.Logs{Server: server, Files: files})
}

func (a *API) readLog(c echo.Context) error {
	args := tail.ReadLogArgs{From: c.QueryParam("from"), To: c.QueryParam("to"), Table: c.QueryParam("table"),
		Shown: c.QueryParam("shown")}
	var err error
	if args.Limit, err = limitOf(c); err != nil {
		return err
	}
	if s := c.QueryParam("since"); s != "" {
		if args.Since, err = time.Parse(time.RFC3339, s); err != nil {
			return apitype.Problem{Status: 400, Code: apitype.CodeBadInput, Title: "Bad since",
				Detail: fmt.Sprintf("since is %q: it is a time like 2026-11-23T03:00:00Z", s)}
		}
	}
	server, page, err := a.service.ReadLog(c.Request().Context(), c.Param("cluster"), c.QueryParam("server"), args)
	if err != nil {
		return err
	}
	return c.JSON(200, apitype.LogPage{Server: server, LogPage: page})
}

func (a *API) complaints(c echo.Context) error {
	list, err := a.service.Complaints(c.Request().Context(), c.Param("cluster"), c.Param("server"))
	if err != nil {
		return err
	}
	return c.JSON(200, apitype.Complaints{Complaints: list})
}

func (a *API) drift(c echo.Context) error {
	d, err := a.service.Drift(c.Request().Context(), c.Param("cluster"))
	if err != nil {
		return err
	}
	return c.JSON(200, d)
}

func (a *API) conflicts(c echo.Context) error {
	x, err := a.service.Conflicts(c.Request().Context(), c.Param("cluster"))
	if err != nil {
		return err
	}
	return c.JSON(200, x)
}
