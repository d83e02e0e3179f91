package mariadb

import (
	"testing"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

// Several domains: a primary whose own log began behind a domain's transactions has
// them all the same, and they are no tail of the one that wrote them.
func TestDomainOlderThanTheLog(t *testing.T) {
	t.Parallel()
	p, wren, plover := newPair(t)
	wren.sql("set session gtid_domain_id = 7; insert into d.t (id, v) values (70, 'shared'); insert into d.t (id, v) " +
		"values (71, 'too')")
	p.seed(plover, wren, "")
	plover.ok(plover.Follow(plover.ctx(), verb.Follow{}))
	plover.ok(plover.Promote(plover.ctx()))
	plover.sql("insert into d.t (id, v) values (80, 'goes on')")
	wren.sql("insert into d.t (id, v) values (90, 'a tail')")
	wren.sql("set session gtid_domain_id = 7; insert into d.t (id, v) values (91, 'in both domains')")
	wren.leave(true)
	x, err := wren.Examine(wren.ctx(), verb.Examine{Primary: plover.peer()})
	wren.ok(err)
	if x.Kinship != string(position.Kin) || x.Tail == nil || len(x.Tail.Transactions) != 2 || !x.Rewindable {
		t.Fatalf("%+v", x)
	}
	wren.ok(wren.Rewind(wren.ctx(), verb.Rewind{Source: plover.peer(), Fork: x.Fork, End: x.End}, quiet))
	p.follow(wren, plover)
	p.same(plover, wren)
}
