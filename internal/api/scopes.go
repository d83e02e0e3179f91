package api

import (
	"fmt"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v4"

	"crosstwin/internal/apitype"
	"crosstwin/internal/core/access"
	"crosstwin/internal/core/operation"
)

// needs says which scope each route takes, by its id (invariant: what changes something
// stands here; reading takes watch where nothing else is said).
var needs = map[string]access.Scope{
	"metrics": access.Metrics, "version": access.Metrics, "closeSession": access.Metrics, "addSessionLink": access.Metrics,
	"noteLogin": access.Metrics,
	"readLog":   access.ReadData, "tail": access.ReadData, "salvage": access.ReadData, "complaints": access.ReadData,
	"previewOperation": access.Watch,
	"beginOperation":   access.Operate, "cancelOperation": access.Operate, "acknowledgeAlert": access.Operate,
	"addCluster": access.Admin, "setCluster": access.Admin, "removeCluster": access.Admin, "addServer": access.Admin,
	"setServer": access.Admin, "removeServer": access.Admin, "newCode": access.Admin, "audit": access.Admin,
	"listTokens": access.Admin, "addToken": access.Admin, "removeToken": access.Admin, "listChannels": access.Admin,
	"addChannel": access.Admin, "removeChannel": access.Admin, "testChannel": access.Admin, "records": access.Admin,
	"copyRecords": access.Admin, "authority": access.Admin, "rotateAuthority": access.Admin,
}

// ofAll are the routes without a cluster in their path that a token for some clusters
// may use all the same: what they show is limited to those, or belongs to nobody.
var ofAll = map[string]bool{"version": true, "document": true, "closeSession": true, "addSessionLink": true,
	"noteLogin":    true,
	"listClusters": true, "events": true, "listOperations": true, "showOperation": true, "cancelOperation": true,
	"lagLines": true, "listAlerts": true, "acknowledgeAlert": true}

// traced reports whether a request is written into the audit trail before it is done:
// what changes something, and what shows rows or the records.
func (r route) traced(need access.Scope) bool {
	return need == access.ReadData || r.id == "copyRecords" ||
		r.method != http.MethodGet && (need == access.Operate || need == access.Admin)
}

// scoped lets in whose token is good for a route.
func (a *API) scoped(r route, next echo.HandlerFunc) echo.HandlerFunc {
	need := access.Watch
	if s, said := needs[r.id]; said {
		need = s
	}
	return func(c echo.Context) error {
		name, from := who(c)
		if err := admitted(tokenOf(c), r, need, c.Param("cluster")); err != nil {
			a.noteRefusal(c.Request().Context(), name, from, r.id, c.Request().URL.Path, err)
			return err
		}
		if r.traced(need) {
			if err := a.service.NoteRequest(c.Request().Context(), name, from, r.id, c.Request().URL.Path); err != nil {
				return err
			}
		}
		return next(c)
	}
}

// admitted refuses what a token is not good for.
func admitted(t access.Token, r route, need access.Scope, cluster string) error {
	switch {
	case !t.May(need):
		return forbidden("the token %s is not good for this: it takes the scope %s", t.Name, need)
	case cluster == "" && !ofAll[r.id] && !t.Sees(""), cluster != "" && !t.Sees(cluster):
		return forbidden("the token %s is good for other clusters", t.Name)
	}
	return nil
}

func forbidden(format string, args ...any) error {
	return apitype.Problem{Status: http.StatusForbidden, Code: apitype.CodeForbidden, Title: "Not allowed",
		Detail: fmt.Sprintf(format, args...)}
}

func tokenOf(c echo.Context) access.Token {
	t, _ := c.Get("token").(access.Token)
	return t
}

// readable returns an operation as whoever asks may read it: what rows hold is shown to
// those who may read data (invariant: nobody else gets a value of a row).
func readable(c echo.Context, op operation.Operation) operation.Operation {
	if !tokenOf(c).May(access.ReadData) {
		op.Facts, op.Plan.Examination = nil, op.Plan.Examination.WithoutValues()
	}
	return op
}

// readablePlan returns a plan as whoever asks may read it. Its digest is that of the
// whole, by which it is begun.
func readablePlan(c echo.Context, p *apitype.Plan) *apitype.Plan {
	if p != nil && !tokenOf(c).May(access.ReadData) {
		p.Examination = p.Examination.WithoutValues()
	}
	return p
}

// seesOperation reports whether an operation is of a cluster that the token is good for.
func (a *API) seesOperation(c echo.Context, id string) bool {
	t := tokenOf(c)
	if t.Sees("") {
		return true
	}
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return false
	}
	op, err := a.service.Operation(c.Request().Context(), n)
	return err == nil && t.Sees(op.Cluster)
}

// kept returns the elements of clusters that the token is good for.
func kept[T any](c echo.Context, list []T, cluster func(T) string) []T {
	t := tokenOf(c)
	out := []T{}
	for _, x := range list {
		if t.Sees("") || t.Sees(cluster(x)) {
			out = append(out, x)
		}
	}
	return out
}
