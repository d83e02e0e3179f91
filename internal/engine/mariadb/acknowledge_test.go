package mariadb

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"

	"crosstwin/internal/engine/enginetest"
)

// The states of commits that wait are the installed server's own words.
func TestStatesOfWaitingCommits(t *testing.T) {
	t.Parallel()
	p := &pair{t, enginetest.Peers{}}
	wren := p.create("wren", 11)
	pid, _ := wren.running()
	program, err := os.ReadFile(fmt.Sprintf("/proc/%d/exe", pid))
	wren.ok(err)
	for _, state := range []string{waitsForReplica, waitsForRoom} {
		if !bytes.Contains(program, []byte(state)) {
			t.Errorf("the server shows no state %q", state)
		}
		if !commitWaits(state) || !commitWaits(state+" from slave") || commitWaits("Init") {
			t.Errorf("a commit in state %q is not seen to wait, or another is", state)
		}
	}
}

// A replica that somebody else starts acknowledges what it receives; an administrator's own
// word on that stays.
func TestStartedByHandAcknowledges(t *testing.T) {
	t.Parallel()
	p := &pair{t, enginetest.Peers{}}
	wren := p.create("wren", 11)
	wren.ok(wren.Close())
	text, err := wren.readConfig()
	wren.ok(err)
	if !wren.Closed() || strings.Count(text, acknowledges) != 1 {
		t.Errorf("after closing by default the file says:\n%s", text)
	}
	wren.ok(wren.Fence(wren.ctx(), true))
	wren.ok(wren.Start(wren.ctx(), "replica"))
	if got := wren.one("select @@global." + acknowledges + " + 10 * @@global.read_only"); got != "11" {
		t.Errorf("a server that was started by its file alone: %s", got)
	}
	wren.ok(wren.OpenByDefault())
	if text, _ = wren.readConfig(); strings.Contains(text, acknowledges) || wren.Closed() {
		t.Errorf("after leaving the file says:\n%s", text)
	}
	wren.ok(wren.rewriteConfig(text + "[server]\nloose-rpl-semi-sync-slave-enabled = OFF\n"))
	wren.ok(wren.Close())
	if text, _ = wren.readConfig(); strings.Contains(text, acknowledges) || !wren.Closed() {
		t.Errorf("over the administrator's word the file says:\n%s", text)
	}
}
