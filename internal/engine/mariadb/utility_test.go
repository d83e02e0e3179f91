package mariadb

import (
	"strings"
	"testing"
)

// What cannot be loaded is said by the server's words alone: the statement holds values.
func TestLoadShowsNoStatement(t *testing.T) {
	t.Parallel()
	_, wren, _ := newPair(t)
	err := wren.execute(wren.ctx(), strings.NewReader("use d;\ninsert into parent values (1);\n"+
		"insert into t (id, v) values (1, 'planted secret');\n"))
	if err == nil || !strings.Contains(err.Error(), "mariadb on wren: ERROR 1062 (23000) at line 2: ") {
		t.Errorf("%v", err)
	}
	err = wren.execute(wren.ctx(), strings.NewReader("use d;\n"+
		"insert into t (id, v) values (77, 'planted secret'), (1, 'x');\n"))
	if err == nil || strings.Contains(err.Error(), "planted secret") || !strings.Contains(err.Error(), "ERROR 1062") {
		t.Errorf("%v", err)
	}
}
