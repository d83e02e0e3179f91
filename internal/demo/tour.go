package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// tour tells the story and checks it: every chapter looks at the servers
// themselves, not only at what the service says.
type tour struct {
	w *Cluster
	// first is primary at the beginning, second takes over, third never does.
	first, second, third string
	out                  io.Writer
	load                 *Workload
	// tail is what the crashed primary alone had acknowledged.
	tail []string
	// rests is an application's session that does nothing while the primary crashes.
	rests session
}

// Tour runs the whole story on a freshly built world, once for each cluster.
func Tour(ctx context.Context, w *World, out io.Writer) error {
	for _, c := range w.Clusters {
		fmt.Fprintf(out, "\n%s, on %s\n", c.Name,
			map[string]string{position.EnginePostgres: "PostgreSQL", position.EngineMariaDB: "MariaDB"}[c.Engine])
		if err := tourOf(ctx, c, out); err != nil {
			return fmt.Errorf("%s: %w", c.Name, err)
		}
	}
	return nil
}

func tourOf(ctx context.Context, w *Cluster, out io.Writer) error {
	n := w.Names()
	t := &tour{w: w, first: n[0], second: n[1], third: n[2], out: out}
	began := time.Now()
	chapters := []struct {
		title string
		run   func(context.Context) (string, error)
	}{
		{"Seed two replicas while writes go on", t.seed},
		{"Watch: everybody in step", t.watch},
		{"Switch over to " + t.second, func(ctx context.Context) (string, error) { return t.switchover(ctx, t.second) }},
		{"And back to " + t.first, func(ctx context.Context) (string, error) { return t.switchover(ctx, t.first) }},
		{t.first + " crashes with writes that nobody else got", t.crash},
		{"Fail over", t.failover},
		{"Show and save what only " + t.first + " has", t.showTail},
		{"Rejoin " + t.first, t.rejoin},
		{t.second + " crashes, and nobody is awake", t.byItself},
		{"Compare all data", t.compare},
	}
	t.load = w.Load(2, 20*time.Millisecond)
	defer t.load.Stop()
	for i, c := range chapters {
		fmt.Fprintf(out, "\n%d  %s\n", i+1, c.title)
		from := time.Now()
		text, err := c.run(ctx)
		if err != nil {
			return fmt.Errorf("chapter %d, %s: %w", i+1, c.title, err)
		}
		fmt.Fprintf(out, "   %s  [%.1f s]\n", strings.ReplaceAll(breakLines(text), "\n", "\n   "), time.Since(from).Seconds())
	}
	fmt.Fprintf(out,
		"\nThe whole story of %s took %.0f s. %d writes were acknowledged; none was lost but the %d that only the "+
			"crashed server had, and those were saved.\n", w.Name, time.Since(began).Seconds(), len(t.load.Acked()), len(t.tail))
	return nil
}

// breakLines breaks long lines at a width that fits a terminal.
func breakLines(text string) string {
	const width = 110
	var out []string
	for _, line := range strings.Split(text, "\n") {
		for len(line) > width {
			i := strings.LastIndex(line[:width], " ")
			if i <= 0 {
				break
			}
			out, line = append(out, line[:i]), "  "+line[i+1:]
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}

func (t *tour) seed(ctx context.Context) (string, error) {
	var took []string
	for _, name := range []string{t.second, t.third} {
		op, err := t.w.Operate(ctx, operation.Request{Kind: operation.Seed, Server: name}, nil)
		if err != nil {
			return "", err
		}
		took = append(took, fmt.Sprintf("%s in %s", name, words.Span(op.EndedAt.Sub(op.CreatedAt).Seconds())))
	}
	return "copied, verified, caught up and proven: " + strings.Join(took, ", "), nil
}

func (t *tour) inStep(ctx context.Context) (string, error) {
	var last view.View
	err := t.w.Await(ctx, func(v view.View) bool {
		last = v
		for _, s := range v.Servers {
			if s.Health != view.InStep && s.Health != view.TakesWrites {
				return false
			}
		}
		return true
	})
	return last.Sentence, err
}

func (t *tour) watch(ctx context.Context) (string, error) { return t.inStep(ctx) }

// everywhere checks that no acknowledged write is missing on any server and
// that the promise of the data holds.
func (t *tour) everywhere(ctx context.Context, names ...string) error {
	acked := t.load.Acked()
	lost := map[string]bool{}
	for _, r := range t.tail {
		lost[r] = true
	}
	for _, n := range names {
		s := t.w.Server(n)
		deadline := time.Now().Add(20 * time.Second)
		for {
			missing, err := s.Missing(ctx, acked)
			if err != nil {
				return fmt.Errorf("%s: %w", n, err)
			}
			real := 0
			for _, m := range missing {
				if !lost[m] {
					real++
				}
			}
			if real == 0 {
				break
			}
			if time.Now().After(deadline) {
				return fmt.Errorf("%d acknowledged writes are missing on %s", real, n)
			}
			time.Sleep(50 * time.Millisecond)
		}
		if err := s.Promise(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (t *tour) switchover(ctx context.Context, to string) (string, error) {
	if _, err := t.inStep(ctx); err != nil {
		return "", err
	}
	t.load.Reset()
	before, failed := len(t.load.Acked()), t.load.Failed()
	op, err := t.w.Operate(ctx, operation.Request{Kind: operation.Switchover, To: to}, nil)
	if err != nil {
		return "", err
	}
	if err := t.load.AwaitAcks(ctx, 5); err != nil {
		return "", err
	}
	gap := t.load.Gap()
	if err := t.everywhere(ctx, t.first, t.second, t.third); err != nil {
		return "", err
	}
	text := fmt.Sprintf("%s\nthe workload felt a pause of %d ms; every acknowledged write is on every server", op.Message,
		gap.Milliseconds())
	if len(t.w.Gates) > 0 {
		text += fmt.Sprintf("; of %d transactions through the gates meanwhile %d failed", len(t.load.Acked())-before+
			t.load.Failed()-failed, t.load.Failed()-failed)
	}
	return text, nil
}

// crash stops the senders of the primary, so that its replicas get nothing
// more, lets some writes be acknowledged, and kills every process of it.
func (t *tour) crash(ctx context.Context) (string, error) {
	if _, err := t.inStep(ctx); err != nil {
		return "", err
	}
	if err := t.sit(ctx); err != nil {
		return "", err
	}
	before := len(t.load.Acked())
	if err := t.w.Server(t.first).Starve(ctx); err != nil {
		return "", err
	}
	if err := t.load.AwaitAcks(ctx, 20); err != nil {
		return "", err
	}
	KillDatabase(t.w.Server(t.first))
	after := t.load.Acked()
	err := t.w.Await(ctx, func(v view.View) bool { return v.Find(t.first).Health == view.Stopped })
	if err != nil {
		return "", err
	}
	v, err := t.w.Client.Cluster(ctx, t.w.Name)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%d writes were acknowledged while its replicas got nothing; then kill -9\n%s", len(after)-before,
		v.Sentence), nil
}

// sit has an application sit at a gate and do nothing, for long enough that the gate knows all of
// its session.
func (t *tour) sit(ctx context.Context) (err error) {
	if len(t.w.Gates) == 0 {
		return nil
	}
	if t.rests, err = t.w.house.session(ctx); err == nil {
		sleep(ctx, 2*time.Second)
	}
	return err
}

// whatSessionsGot tells what the loss of the server was to applications at the gates.
func (t *tour) whatSessionsGot(ctx context.Context) string {
	if t.rests == nil {
		return ""
	}
	defer t.rests.close()
	text := "\nthrough the gates: the session that rested went on as if nothing had been"
	if err := t.rests.write(ctx, "RESTED-"+t.w.Name); err != nil {
		text = fmt.Sprintf("\nthrough the gates: the session that rested was told: %v", err)
	}
	told := t.load.Told()
	for _, c := range slices.Sorted(maps.Keys(told)) {
		text += fmt.Sprintf("; %d × %s", told[c], meanings[c])
	}
	return text
}

// meanings are the codes that gates give.
var meanings = map[string]string{"40001": "40001, try again", "1213": "1213, try again",
	"08007": "08007, whether it was committed is not known", "1927": "1927, the session has ended, with the reason",
	"57P01": "57P01, the session has ended and nothing was under way", "57P03": "57P03, there is no server yet",
	"1053": "1053, there is no server yet", "no answer": "nothing in time"}

func (t *tour) failover(ctx context.Context) (string, error) {
	op, err := t.w.Operate(ctx, operation.Request{Kind: operation.Failover}, nil)
	if err != nil {
		return "", err
	}
	if err := t.load.AwaitAcks(ctx, 5); err != nil {
		return "", err
	}
	if t.tail, err = t.w.Server(op.Plan.Candidate).Missing(ctx, t.load.Acked()); err != nil {
		return "", err
	}
	v, err := t.w.Client.Cluster(ctx, t.w.Name)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf(
		"%s\nthe plan had said: %s\nthe workload felt a pause of %.1f s; %d acknowledged writes are not there\n%s%s",
		op.Message, op.Plan.Summary, t.load.Gap().Seconds(), len(t.tail), v.Sentence, t.whatSessionsGot(ctx)), nil
}

func (t *tour) showTail(ctx context.Context) (string, error) {
	x, err := t.w.Client.Tail(ctx, t.w.Name, t.first)
	if err != nil {
		return "", err
	}
	if x.Tail == nil {
		return "", fmt.Errorf("no tail was found on %s, and %d writes are missing", t.first, len(t.tail))
	}
	n, ins, upd, _ := x.Tail.Counts()
	if ins < len(t.tail) {
		return "", fmt.Errorf("the tail shows %d inserts, and %d writes are missing", ins, len(t.tail))
	}
	return fmt.Sprintf("fork at %s; after it %s of log with %d committed transactions: %d inserts, %d updates", x.Fork,
		words.Size(x.TailBytes), n, ins, upd), nil
}

func (t *tour) rejoin(ctx context.Context) (string, error) {
	op, err := t.w.Operate(ctx, operation.Request{Kind: operation.Rejoin, Server: t.first}, nil)
	if err != nil {
		return "", err
	}
	saved, err := t.fetchSalvage(ctx, op)
	if err != nil {
		return "", err
	}
	for _, r := range t.tail {
		if !strings.Contains(saved, r) {
			return "", fmt.Errorf("the lost write %s is not in the saved tail", r)
		}
	}
	if err := t.everywhere(ctx, t.first, t.second, t.third); err != nil {
		return "", err
	}
	way := ""
	for _, w := range op.Plan.Ways {
		if w.Chosen {
			way = w.Name
		}
	}
	return fmt.Sprintf("%s (way: %s)\nall %d lost writes stand in the saved tail", op.Message, way, len(t.tail)), nil
}

func (t *tour) fetchSalvage(ctx context.Context, op operation.Operation) (string, error) {
	var tail tail.Tail
	if err := unmarshal(op.Facts["tail"], &tail); err != nil {
		return "", fmt.Errorf("the rejoin kept no tail: %w", err)
	}
	path := filepath.Join(t.w.Dir, t.first+"-tail.sql")
	f, err := os.Create(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if err := t.w.Client.Salvage(ctx, t.w.Name, t.first, filepath.Base(tail.Saved), f); err != nil {
		return "", err
	}
	b, err := os.ReadFile(path)
	return string(b), err
}

// byItself kills the primary's database while automatic failover and rejoin are on, and does
// nothing more.
func (t *tour) byItself(ctx context.Context) (string, error) {
	err := t.w.SetPolicy(ctx, func(p *cluster.Policy) {
		p.Fencing, p.Automatic.On, p.Automatic.QuietSeconds = true, true, 0
		p.Automatic.Rejoin = cluster.RejoinAfterSaving
	})
	if err != nil {
		return "", err
	}
	err = t.w.Await(ctx, func(v view.View) bool { // the primary has a permission, and another server pledges
		return v.Permission != nil && v.Permission.Seconds > 0 && len(v.Permission.Set) > 0 && len(v.Permission.Silent) == 0
	})
	if err != nil {
		return "", err
	}
	if _, err := t.inStep(ctx); err != nil {
		return "", err
	}
	t.load.Reset()
	if err := t.load.AwaitAcks(ctx, 5); err != nil {
		return "", err
	}
	KillDatabase(t.w.Server(t.second))
	if err := t.w.Await(ctx, func(v view.View) bool { return v.Primary == t.first && v.Operation == nil }); err != nil {
		return "", err
	}
	if err := t.load.AwaitAcks(ctx, 5); err != nil {
		return "", err
	}
	gap := t.load.Gap()
	list, err := t.w.Client.Operations(ctx, t.w.Name, "", string(operation.Failover), 1)
	if err != nil {
		return "", err
	}
	if len(list) == 0 || list[0].Plan.Decided == nil {
		return "", fmt.Errorf("%s is primary, and no failover began by itself", t.first)
	}
	more, err := t.w.Server(t.first).Missing(ctx, t.load.Acked())
	if err != nil {
		return "", err
	}
	for _, r := range more {
		if !slices.Contains(t.tail, r) {
			t.tail = append(t.tail, r)
		}
	}
	err = t.w.Await(ctx, func(v view.View) bool { // the crashed server is back
		return v.Find(t.second).Health == view.InStep && v.Operation == nil
	})
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%s\nit began by itself: %s\nthe workload felt a pause of %.1f s, and %s came back as a replica",
		list[0].Message, list[0].Plan.Decided.Text, gap.Seconds(), t.second), nil
}

func (t *tour) compare(ctx context.Context) (string, error) {
	if _, err := t.inStep(ctx); err != nil {
		return "", err
	}
	op, err := t.w.Operate(ctx, operation.Request{Kind: operation.Compare}, nil)
	if err != nil {
		return "", err
	}
	var c struct {
		Tables []struct{} `json:"tables"`
		Rows   int64      `json:"rows"`
	}
	if err := unmarshal(op.Facts["comparison"], &c); err != nil {
		return "", err
	}
	sentence, err := t.inStep(ctx)
	return fmt.Sprintf("%d tables, %d rows: %s\n%s", len(c.Tables), c.Rows, op.Message, sentence), err
}

// KillDatabase ends every process of a server with kill -9 and waits until
// they are gone.
func KillDatabase(s *Server) {
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); {
		n := 0
		eachProcess(func(pid int, cmdline, cwd string) {
			if cwd == s.DataDir && cmdline != "" {
				n++
				syscall.Kill(pid, syscall.SIGKILL)
			}
		})
		if n == 0 {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
}

func unmarshal(raw json.RawMessage, into any) error {
	if len(raw) == 0 {
		return errors.New("nothing was kept")
	}
	return json.Unmarshal(raw, into)
}

// StopDatabase stops a server cleanly, as a person would.
func StopDatabase(s *Server) { stopDatabases(filepath.Dir(s.DataDir)) }
