package e2e

import (
	"fmt"
	"net"
	"net/url"
	"os/exec"
	"strings"
)

// likeDirectly: applications with other drivers see through a gate what they see at the server.
func (w *world) likeDirectly() {
	w.t.Helper()
	programs := [][]string{{"python3", "drive_psycopg2.py"}, {"perl", "dbdpg.pl"}}
	if w.mariadb() {
		programs = [][]string{{"python3", "drive_pymysql.py"}, {"perl", "dbdmysql.pl", "0"}, {"perl", "dbdmysql.pl", "1"}}
	}
	s := w.server("gull")
	for _, p := range programs {
		direct := w.driven(net.JoinHostPort(s.Host, fmt.Sprint(s.Port)), p)
		gate := w.driven(w.Writers()[0], p)
		if direct != gate || strings.Count(direct, "\n") < 10 {
			w.t.Errorf("%s: directly it says\n%s\nand through a gate\n%s", p[1], direct, gate)
		}
	}
}

// driven runs one of the programs against an address.
func (w *world) driven(address string, program []string) string {
	w.t.Helper()
	u, err := url.Parse(w.server("gull").ApplicationURI)
	if err != nil {
		w.t.Fatal(err)
	}
	password, _ := u.User.Password()
	host, port, _ := net.SplitHostPort(address)
	args := append([]string{"testdata/drivers/" + program[1], host, port, u.User.Username(), password}, program[2:]...)
	// Debian's own: the drivers are its packages.
	out, err := exec.CommandContext(w.ctx, "/usr/bin/"+program[0], args...).CombinedOutput()
	if err != nil {
		w.t.Errorf("%s at %s: %v\n%s", program[1], address, err, out)
	}
	return string(out)
}
