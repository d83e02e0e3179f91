package e2e

import (
	"database/sql"
	"fmt"
	"net/url"

	"crosstwin/internal/core/operation"
)

// crowd takes up all connections that applications can have of a server, and gives
// what lets go of them.
func (w *world) crowd(server string) (leave func()) {
	w.t.Helper()
	u, err := url.Parse(w.server(server).ApplicationURI)
	if err != nil {
		w.t.Fatal(err)
	}
	driver, source := "pgx", u.String()
	if w.mariadb() {
		driver, source = "mysql", fmt.Sprintf("%s@tcp(%s)%s", u.User, u.Host, u.Path)
	}
	db, err := sql.Open(driver, source)
	if err != nil {
		w.t.Fatal(err)
	}
	held := 0
	for err == nil && held < 500 {
		_, err = db.Conn(w.ctx) // kept until the pool is closed
		held++
	}
	if held < 10 || held == 500 {
		w.t.Fatalf("%s took %d connections: %v", server, held, err)
	}
	return func() { db.Close() }
}

// throughACrowd moves the primary role while applications hold every connection of the
// primary: nothing more can be tried there, and what follows it follows it.
func (w *world) throughACrowd(primary, to string) {
	w.t.Helper()
	leave := w.crowd(primary)
	defer leave()
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: to})
}
