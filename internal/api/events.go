package api

import (
	"fmt"
	"strconv"
	"time"

	"github.com/labstack/echo/v4"

	"crosstwin/internal/service"
)

// keepAlive is sent when nothing changes, so that a reader can tell a quiet
// stream from a dead one.
var keepAlive = 5 * time.Second

// events streams changes. A reader that comes back with Last-Event-ID gets
// what it missed, or the event "reset" when that is forgotten: it then fetches
// the state anew.
func (a *API) events(c echo.Context) error {
	after, _ := strconv.ParseInt(c.Request().Header.Get("Last-Event-ID"), 10, 64)
	cluster, operation := c.QueryParam("cluster"), c.QueryParam("operation")
	missed, whole, ch, cancel := a.service.Hub.Subscribe(after)
	defer cancel()
	w := c.Response()
	w.Header().Set(echo.HeaderContentType, "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(200)
	token := tokenOf(c)
	wanted := func(kind service.EventKind, key string) bool {
		switch {
		case !token.Sees("") && kind == service.EventOperation && !a.seesOperation(c, key):
			return false
		case !token.Sees("") && kind != service.EventOperation && !token.Sees(key):
			return false
		case cluster == "" && operation == "":
			return true
		case kind == service.EventOperation:
			return operation == key || operation == "" && cluster != ""
		}
		return cluster == key
	}
	if !whole {
		fmt.Fprintf(w, "id: %d\nevent: reset\ndata: {}\n\n", a.service.Hub.Last())
	} else if after == 0 {
		fmt.Fprintf(w, "id: %d\nevent: hello\ndata: {}\n\n", a.service.Hub.Last())
	}
	for _, e := range missed {
		if wanted(e.Kind, e.Key) {
			fmt.Fprintf(w, "id: %d\nevent: %s\ndata: %s\n\n", e.ID, e.Kind, e.Data)
		}
	}
	w.Flush()
	t := time.NewTicker(keepAlive)
	defer t.Stop()
	for {
		select {
		case <-c.Request().Context().Done():
			return nil
		case e, ok := <-ch:
			if !ok {
				return nil
			}
			if !wanted(e.Kind, e.Key) {
				continue
			}
			if _, err := fmt.Fprintf(w, "id: %d\nevent: %s\ndata: %s\n\n", e.ID, e.Kind, e.Data); err != nil {
				return nil
			}
		case <-t.C:
			if !a.stillIn(c) {
				return nil // the token or the session that opened it is no more
			}
			if _, err := fmt.Fprint(w, ": still here\n\n"); err != nil {
				return nil
			}
		}
		w.Flush()
	}
}
