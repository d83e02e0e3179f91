package api

import (
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/labstack/echo/v4"

	"crosstwin/web"
)

// policy lets a page run this service's own scripts and styles and talk to this
// service, and nothing else: no inline script, no other host, no frame.
const policy = "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self' data:; " +
	"connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"

// console serves the embedded pages. Every address that is no file is a page of
// the console, which finds its way by itself.
func (a *API) console(c echo.Context) error {
	name := strings.TrimPrefix(path.Clean("/"+c.Request().URL.Path), "/")
	if strings.HasPrefix(name, "api/") || c.Request().Method != http.MethodGet && c.Request().Method != http.MethodHead {
		return echo.ErrNotFound
	}
	files := web.Files()
	h := c.Response().Header()
	h.Set("Content-Security-Policy", policy)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	if _, err := fs.Stat(files, name); name == "" || err != nil {
		if strings.HasPrefix(name, "assets/") {
			return echo.ErrNotFound
		}
		name = "index.html"
	}
	if _, err := fs.Stat(files, name); err != nil {
		return c.String(http.StatusNotFound, "The console was not built into this binary: make build\n")
	}
	h.Set("Cache-Control", "no-cache")
	if strings.HasPrefix(name, "assets/") {
		h.Set("Cache-Control", "public, max-age=31536000, immutable") // their names change with their content
	}
	http.ServeFileFS(c.Response(), c.Request(), files, name)
	return nil
}
