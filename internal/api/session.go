package api

import (
	"errors"
	"net/http"
	"net/url"
	"strings"

	"github.com/labstack/echo/v4"

	"crosstwin/internal/apitype"
	"crosstwin/internal/core/access"
	"crosstwin/internal/service"
)

// sessionCookie holds a session's secret. Scripts cannot read it and other
// sites cannot send it along.
const sessionCookie = "crosstwin_session"

// pageHeader is set by the console's own script on every request that changes
// something. A form of another site cannot set it.
const pageHeader = "X-Crosstwin-Page"

func (a *API) setSession(c echo.Context, secret string, age int) {
	c.SetCookie(&http.Cookie{Name: sessionCookie, Value: secret, Path: "/", MaxAge: age, HttpOnly: true, Secure: c.IsTLS(),
		SameSite: http.SameSiteStrictMode})
}

// openSession trades a token or a one-time code for a session cookie.
func (a *API) openSession(c echo.Context) error {
	r, err := body[apitype.NewSession](c)
	if err != nil {
		return err
	}
	if err := sameSite(c); err != nil {
		return err
	}
	secret, name, err := a.service.OpenSession(c.Request().Context(), r.Token, r.Code, c.RealIP())
	if err != nil {
		return err
	}
	a.setSession(c, secret, 0)
	return c.JSON(http.StatusCreated, a.sessionOf(c, name))
}

func (a *API) showSession(c echo.Context) error {
	// Open to everybody: a page asks it before anybody has logged in.
	var name string
	if k, err := c.Cookie(sessionCookie); err == nil {
		name, _ = a.service.SessionName(c.Request().Context(), k.Value)
	}
	return c.JSON(http.StatusOK, a.sessionOf(c, name))
}

// sessionOf says who is logged in, and what the console may offer.
func (a *API) sessionOf(c echo.Context, name string) apitype.Session {
	out := apitype.Session{Name: name, May: []access.Scope{}}
	if name == "" {
		return out
	}
	t, err := a.service.Token(c.Request().Context(), name)
	if err != nil {
		return apitype.Session{May: []access.Scope{}}
	}
	for _, s := range access.Scopes {
		if t.May(s) {
			out.May = append(out.May, s)
		}
	}
	return out
}

func (a *API) closeSession(c echo.Context) error {
	if k, err := c.Cookie(sessionCookie); err == nil {
		if err := a.service.CloseSession(c.Request().Context(), k.Value); err != nil {
			return err
		}
	}
	a.setSession(c, "", -1)
	return c.NoContent(http.StatusNoContent)
}

func (a *API) noteLogin(c echo.Context) error {
	name, from := who(c)
	a.service.NoteLogin(c.Request().Context(), name, from)
	return c.JSON(http.StatusCreated, a.sessionOf(c, name))
}

func (a *API) newSessionLink(c echo.Context) error {
	name, from := who(c)
	code, err := a.service.NewSessionLink(c.Request().Context(), name, from)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, apitype.SessionLink{Path: "/enter#" + code})
}

// sameSite refuses a changing request that another site's page may have made.
func sameSite(c echo.Context) error {
	r := c.Request()
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		return nil
	}
	origin, err := url.Parse(r.Header.Get("Origin"))
	foreign := r.Header.Get("Origin") != "" && (err != nil || origin.Host != r.Host)
	if foreign || r.Header.Get(pageHeader) == "" {
		return apitype.Problem{Status: http.StatusForbidden, Code: apitype.CodeForeign, Title: "Not from this console",
			Detail: "this request did not come from the console's own page: reload the page and try again"}
	}
	return nil
}

// identify tells who asks: by a token in the header, or by a session.
// stillIn reports whether whoever made a request would still be let in. That the
// records cannot be read right now ends nothing.
func (a *API) stillIn(c echo.Context) bool {
	token, _ := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
	_, err := a.identify(c, token)
	var p apitype.Problem
	return err == nil || !errors.As(err, &p) && !errors.Is(err, service.ErrUnknownToken)
}

func (a *API) identify(c echo.Context, header string) (string, error) {
	ctx := c.Request().Context()
	if header != "" {
		return a.service.TokenName(ctx, header, c.RealIP())
	}
	k, err := c.Cookie(sessionCookie)
	if err != nil {
		return "", apitype.Problem{Status: http.StatusUnauthorized, Code: apitype.CodeUnauthorized, Title: "No token",
			Detail: "this needs a token: crosstwin login, or the header Authorization: Bearer TOKEN"}
	}
	name, err := a.service.SessionName(ctx, k.Value)
	if err != nil {
		return "", err // the records cannot be read, at the service's end perhaps: that ends no session
	}
	if name == "" {
		return "", apitype.Problem{Status: http.StatusUnauthorized, Code: apitype.CodeUnauthorized,
			Title: "The session has ended", Detail: "log in again with a token"}
	}
	return name, sameSite(c)
}
