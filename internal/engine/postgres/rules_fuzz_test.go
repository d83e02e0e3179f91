package postgres

import (
	"net"
	"strings"
	"testing"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/verb"
)

// Whatever a peer says of its name and host, what is written lets in that server's
// account from that host and nothing else, and leaves the rest of the file as it was.
func FuzzRules(f *testing.F) {
	f.Add("tern", "10.0.0.1", "local all all peer\n")
	f.Add("north-1", "fd00::1", "# nothing\n")
	f.Add("a b", "all", hbaBegin)
	f.Add("x", "10.0.0.1/0 trust\nhost all all all", hbaEnd+"\n")
	f.Add("tern", "harbour.skerry.example", hbaBegin+"\n"+hbaEnd)
	f.Fuzz(func(t *testing.T, name, host, content string) {
		for _, kind := range []string{"host", encryptedOnly} {
			peers := []verb.Peer{{Name: name, Host: host}}
			got := hbaRules(content, kind, peers, false)
			if again := hbaRules(got, kind, peers, false); again != got && !strings.Contains(withoutRules(content), hbaBegin) {
				t.Fatalf("written again it changed:\n%q\n%q", got, again)
			}
			block, rest, whole := strings.Cut(strings.TrimPrefix(got, hbaBegin+"\n"), hbaEnd+"\n")
			if !whole || rest != withoutRules(content) {
				t.Fatalf("the rest of the file changed: %q, was %q", rest, content)
			}
			for line := range strings.Lines(block) {
				w := strings.Fields(line)
				if len(w) != 5 || cluster.CheckName(name) != nil || cluster.CheckHost(host) != nil ||
					w[2] != verb.ReplicationUser(name) {
					t.Fatalf("a rule %q for %q at %q", line, name, host)
				}
				from, _, _ := strings.Cut(w[3], "/")
				same := from == host || net.ParseIP(from) != nil && net.ParseIP(from).Equal(net.ParseIP(host))
				if w[4] != "reject" && (w[4] != "scram-sha-256" || w[0] != kind || !same) {
					t.Fatalf("a rule that lets in %q for %q at %q", line, name, host)
				}
			}
		}
	})
}
