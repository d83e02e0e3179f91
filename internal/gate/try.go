package gate

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"crosstwin/internal/core/route"
)

// tryLimit bounds the whole try.
const tryLimit = 4 * time.Second

// Try tries from this gate whether each server can be reached, and whether each account could log
// in there, as far as that shows without a password.
func (g *Gate) Try(ctx context.Context) []route.Try {
	ctx, cancel := context.WithTimeout(ctx, tryLimit)
	defer cancel()
	g.mu.Lock()
	servers := append([]route.Server{}, g.orders.Servers...)
	g.mu.Unlock()
	out := []route.Try{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, s := range servers {
		wg.Go(func() {
			list := g.tryServer(ctx, s)
			mu.Lock()
			defer mu.Unlock()
			out = append(out, list...)
		})
	}
	wg.Wait()
	slices.SortFunc(out, func(a, b route.Try) int {
		return cmp.Or(cmp.Compare(a.Server, b.Server), cmp.Compare(a.User, b.User))
	})
	return out
}

func (g *Gate) tryServer(ctx context.Context, s route.Server) []route.Try {
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp", s.Address.String())
	if err != nil {
		return []route.Try{{Server: s.Name, Problem: err.Error()}}
	}
	own, _, _ := net.SplitHostPort(c.LocalAddr().String())
	c.Close()
	out := []route.Try{{Server: s.Name}}
	accounts, err := g.control.Accounts(ctx, s)
	if err != nil {
		return append(out, route.Try{Server: s.Name, Problem: "which accounts there are is not known: " + err.Error()})
	}
	good := map[string]string{} // what is wrong with a user's best account
	for _, a := range accounts {
		why := ""
		switch {
		case !a.Usable:
			why = "it logs in by " + strings.Join(a.Methods, ", ") + ", which no gate can do"
		case g.isMariaDB() && !matches(a.Host, own):
			why = fmt.Sprintf("its account is for %s, and the server sees the gate at %s", a.Host, own)
		case !g.isMariaDB():
			why = g.tryPG(ctx, place{Server: s}, a.User)
		}
		if before, known := good[a.User]; !known || before != "" {
			good[a.User] = why
		}
	}
	for user, why := range good {
		out = append(out, route.Try{Server: s.Name, User: user, Problem: why})
	}
	return out
}

// matches reports whether an account's host lets an address in; of a name that is not known here.
func matches(pattern, address string) bool {
	if strings.Trim(pattern, "0123456789.%_:abcdefABCDEF/") != "" {
		return true
	}
	if ip, mask, found := strings.Cut(pattern, "/"); found {
		m := net.IPMask(net.ParseIP(mask).To4())
		a, b := net.ParseIP(ip).To4(), net.ParseIP(address).To4()
		return len(m) == 4 && a != nil && b != nil && a.Mask(m).Equal(b.Mask(m))
	}
	ok, err := path.Match(strings.NewReplacer("%", "*", "_", "?").Replace(pattern), address)
	return ok && err == nil
}

// tryPG begins a login, to see by which method the server would have the user log in. Access rules
// may be for one database: each that is there is tried until one lets the user in.
func (g *Gate) tryPG(ctx context.Context, p place, user string) string {
	why := ""
	for _, database := range []string{g.cluster, user, "postgres"} {
		if why = g.beginLogin(ctx, p, user, database); why == "" {
			return ""
		}
	}
	return why
}

func (g *Gate) beginLogin(ctx context.Context, p place, user, database string) string {
	w, err := dialPG(ctx, p, g.control.Authorities(), true)
	if err != nil {
		return err.Error()
	}
	defer w.conn.Close()
	if err := w.send(&pgproto3.StartupMessage{ProtocolVersion: pgVersion,
		Parameters: map[string]string{"user": user, "database": database}}); err != nil {
		return err.Error()
	}
	kind, n, err := w.head()
	if err != nil {
		return err.Error()
	}
	body, err := w.body(n)
	switch {
	case err != nil:
		return err.Error()
	case kind == 'E':
		return readError(body).text
	case kind == 'R' && len(body) >= 4:
		if method := binary.BigEndian.Uint32(body); method != 5 && method != 10 {
			return "pg_hba.conf there has it log in from the gate by another method than scram-sha-256 or md5"
		}
	}
	return ""
}
