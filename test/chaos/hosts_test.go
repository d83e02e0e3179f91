package chaos

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"sync/atomic"
	"testing"
	"time"

	"crosstwin/internal/demo"
)

// subnets counts the networks that were given to schedules: 10.200.n.0/24.
var subnets atomic.Int32

// hosts gives each server of a schedule a host of its own, with a link to every
// other one by way of this process's network: so any two of them can be cut from
// each other, in one direction or both.
func hosts(t *testing.T) func(server string) demo.Host {
	subnet, n := subnets.Add(1), 0
	return func(server string) demo.Host {
		n++
		name := fmt.Sprintf("ctchaos-%d-%d-%d", os.Getpid(), subnet, n)
		ours, theirs := fmt.Sprintf("10.200.%d.%d", subnet, 4*n+1), fmt.Sprintf("10.200.%d.%d", subnet, 4*n+2)
		t.Cleanup(func() { exec.Command("ip", "netns", "del", name).Run() })
		link, in := fmt.Sprintf("ct%d-%d", subnet, n), []string{"ip", "-n", name}
		for _, c := range [][]string{
			{"ip", "netns", "add", name},
			{"ip", "link", "add", link, "type", "veth", "peer", "name", "eth0", "netns", name},
			{"ip", "address", "add", ours + "/30", "dev", link},
			{"ip", "link", "set", link, "up"},
			append(in, "link", "set", "lo", "up"),
			append(in, "address", "add", theirs+"/30", "dev", "eth0"),
			append(in, "link", "set", "eth0", "up"),
			append(in, "route", "add", "default", "via", ours),
		} {
			if out, err := exec.Command(c[0], c[1:]...).CombinedOutput(); err != nil {
				t.Fatalf("%v: %v %s", c, err, out)
			}
		}
		return demo.Host{Address: theirs, Namespace: "/run/netns/" + name}
	}
}

var cuts atomic.Int64

// cut drops the packets that match one of the conditions, wherever they pass.
func (s *schedule) cut(what string, long time.Duration, conditions ...string) {
	table := fmt.Sprintf("cut%d", cuts.Add(1)) // two cuts of the same may overlap
	nft := func(rules string) error {
		out, err := exec.Command("nft", rules).CombinedOutput()
		if err != nil {
			return fmt.Errorf("nft %s: %w: %s", rules, err, out)
		}
		return nil
	}
	rules := []string{"add table ip " + table}
	for _, hook := range []string{"output", "forward", "input"} {
		rules = append(rules, fmt.Sprintf("add chain ip %s %s { type filter hook %s priority 0; }", table, hook, hook))
		for _, c := range conditions {
			rules = append(rules, fmt.Sprintf("add rule ip %s %s %s drop", table, hook, c))
		}
	}
	for _, r := range rules {
		if err := nft(r); err != nil {
			s.t.Error(err)
			return
		}
	}
	// By a name of its own: of two of one name the second would never be put right.
	s.during(what+" ("+table+")", long, func() {
		if err := nft("delete table ip " + table); err != nil {
			s.t.Errorf("%s is not over: %v", what, err)
		}
	})
}

// cutPort cuts a port off from everybody.
func (s *schedule) cutPort(what, address string, long time.Duration) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		s.t.Error(err)
		return
	}
	s.cut("cut off "+what, long, "ip daddr "+host+" tcp dport "+port, "ip saddr "+host+" tcp sport "+port)
}

// cutPair cuts two servers' hosts from each other, agents and databases; the service
// and the clients go on reaching both. One way: only what a sends to b is lost.
func (s *schedule) cutPair(a, b *demo.Server, oneWay bool, long time.Duration) {
	conditions := []string{"ip saddr " + a.Host + " ip daddr " + b.Host}
	what := "cut what " + a.Name + " sends to " + b.Name
	if !oneWay {
		conditions = append(conditions, "ip saddr "+b.Host+" ip daddr "+a.Host)
		what = "cut " + a.Name + " and " + b.Name + " from each other"
	}
	s.cut(what, long, conditions...)
}

// cutHost cuts a server's host from everybody, clients too.
func (s *schedule) cutHost(server *demo.Server, long time.Duration) {
	s.cut("cut off the host of "+server.Name, long, "ip saddr "+server.Host, "ip daddr "+server.Host)
}
