package hosts

import "strings"

// proved compares both servers, and copies the replica anew, a tablespace of the primary's
// included.
func (w *world) proved(e engineOf, primary, replica string) {
	w.t.Helper()
	w.ct("compare", "orders", "--yes")
	if e.space != nil {
		e.space(w, primary, replica)
	}
	w.settled("orders", primary)
	w.ct("rejoin", "orders", replica, "--way", "rebuild", "--yes", "--accept-loss", replica)
	w.settled("orders", primary)
	w.ct("compare", "orders", "--yes")
}

// removedAndAdopted removes the cluster from Cross Twin, which leaves it running as it is,
// and takes it over again.
func (w *world) removedAndAdopted(e engineOf, primary string) {
	w.t.Helper()
	began := map[string]string{}
	for name := range w.addresses {
		if name != "harbour" {
			began[name] = e.began(w, name)
		}
	}
	w.ct("cluster", "remove", "orders", "--yes")
	e.write(w, primary, 6)
	w.ct("cluster", "add", "orders", "--engine", e.name, "--server", "gull", "--server", "tern")
	for name := range began {
		w.enroll("orders", name, e.dataDir)
	}
	w.until("both are seen", func() bool { return !strings.Contains(w.ct("status", "orders"), "not enrolled") })
	w.ct("adopt", "orders", "--yes")
	w.settled("orders", primary)
	for name, was := range began {
		if now := e.began(w, name); now != was {
			w.t.Errorf("removed and taken over again, %s began %s, and %s before", name, now, was)
		}
		if n := e.count(w, name); n != "6" {
			w.t.Errorf("%s holds %s of 6 rows", name, n)
		}
	}
	w.ct("switchover", "orders", "--yes")
	w.settled("orders", map[string]string{"gull": "tern", "tern": "gull"}[primary])
}
