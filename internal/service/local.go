package service

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"sort"
	"strings"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/runner"
)

// localVerbs are the steps that touch no one server.
func (s *Service) localVerbs() map[string]runner.Local {
	return map[string]runner.Local{
		verb.OpenTerm: func(ctx context.Context, op *operation.Operation, _ operation.Action, _ map[string]any) (any, int64, error) {
			return nil, 0, s.openTerm(ctx, op, op.Plan.Term)
		},
		verb.Decide: func(ctx context.Context, op *operation.Operation, _ operation.Action, args map[string]any) (any, int64, error) {
			server, _ := args["server"].(string)
			if err := s.Store.Decide(ctx, op.Cluster, op.Term, server); err != nil {
				return nil, 0, err
			}
			return nil, 0, s.reload(ctx)
		},
		plan.Reopen: s.reopen,
		verb.Level:  s.level,
		verb.Judge:  s.judge,
		verb.Reread: s.reread,
	}
}

// openTerm records a term and has every agent that answers note it, so that
// nothing of an older term has any effect from then on.
func (s *Service) openTerm(ctx context.Context, op *operation.Operation, term int64) error {
	if err := s.Store.OpenTerm(ctx, op.Cluster, term); err != nil {
		return err
	}
	if err := s.reload(ctx); err != nil {
		return err
	}
	v, err := s.View(op.Cluster)
	if err != nil {
		return err
	}
	for _, m := range v.Servers {
		nctx, cancel := context.WithTimeout(ctx, observeTimeout)
		_, err := servers{s}.Do(nctx, op.Cluster, m.Name, verb.Note, verb.Request{Operation: op.ID, Step: "open-term", Term: term})
		cancel()
		var far agentapi.Unreachable
		if err != nil && !errors.As(err, &far) {
			return fmt.Errorf("%s does not note term %d: %w", m.Name, term, err)
		}
	}
	return nil
}

// reopen makes the old primary primary again after a failed role change: in a
// further term, so that nothing of the given-up one can take effect any more.
func (s *Service) reopen(ctx context.Context, op *operation.Operation, a operation.Action, _ map[string]any) (any, int64, error) {
	v, err := s.View(op.Cluster)
	if err != nil {
		return nil, 0, err
	}
	term := op.Term
	if v.Term > term {
		term = v.Term // opened before, by this undo interrupted
	}
	owner := v.Primary
	if term == op.Plan.Term || owner != a.Server {
		term++
		if err := s.openTerm(ctx, op, term); err != nil {
			return nil, 0, err
		}
		if err := s.Store.Decide(ctx, op.Cluster, term, a.Server); err != nil {
			return nil, 0, err
		}
		if err := s.reload(ctx); err != nil {
			return nil, 0, err
		}
	}
	if _, err := (servers{s}).Do(ctx, op.Cluster, a.Server, verb.Start, verb.Request{Operation: op.ID, Step: "reopen", Term: term, Args: verb.StartArgs{As: "primary"}}); err != nil {
		return nil, term, err
	}
	o, err := s.observe(ctx, op.Cluster, a.Server, false)
	if err != nil {
		return nil, term, err
	}
	if ok, seen := (operation.Condition{Kind: operation.IsPrimary, Server: a.Server, Term: term}).Holds(op.Plan.Engine, map[string]*observation.Server{a.Server: o}); !ok {
		return nil, term, errors.New(seen)
	}
	return nil, term, nil
}

// level lets the candidate fetch what another detached replica received more.
func (s *Service) level(ctx context.Context, op *operation.Operation, _ operation.Action, args map[string]any) (any, int64, error) {
	cand, _ := args["server"].(string)
	do := func(a verb.FollowArgs) error {
		_, err := servers{s}.Do(ctx, op.Cluster, cand, verb.Follow, verb.Request{Operation: op.ID, Step: "level", Term: op.Term, Args: a})
		return err
	}
	for {
		source, need, err := s.mostAdvanced(ctx, op, cand)
		if err != nil {
			return nil, 0, err
		}
		if source == nil {
			return nil, 0, do(verb.FollowArgs{})
		}
		s.Store.Note(ctx, op.ID, nil, "info", fmt.Sprintf("%s fetches from %s up to %s", cand, source.Name, need))
		if err := do(verb.FollowArgs{Upstream: *source}); err != nil {
			return nil, 0, err
		}
		if err := s.waitReceived(ctx, op, cand, need); err != nil {
			return nil, 0, fmt.Errorf("%s did not get from %s what it lacks: %w", cand, source.Name, err)
		}
	}
}

// mostAdvanced gives a replica of the plan that received more than the
// candidate, and how much; nil when there is none.
func (s *Service) mostAdvanced(ctx context.Context, op *operation.Operation, cand string) (*verb.Peer, string, error) {
	mine, err := s.observe(ctx, op.Cluster, cand, false)
	if err != nil {
		return nil, "", err
	}
	if mine.Received == "" {
		return nil, "", fmt.Errorf("%s says no received position", cand)
	}
	var source *verb.Peer
	need, most := "", int64(0)
	for _, name := range detached(op) {
		if name == cand {
			continue
		}
		o, err := s.observe(ctx, op.Cluster, name, false)
		if err != nil || !o.Accepting {
			continue // the condition of the step tells whether it mattered
		}
		if lacks, known := position.Lacks(op.Plan.Engine, mine.Received, o.Received); known && lacks > most {
			most, need = lacks, o.Received
			source = &verb.Peer{Name: name, Host: o.Address.Host, Port: o.Address.Port}
		}
	}
	return source, need, nil
}

// detached gives the servers that the plan detached.
func detached(op *operation.Operation) []string {
	var out []string
	for _, st := range op.Plan.Steps {
		if strings.HasPrefix(st.Name, "detach-") {
			out = append(out, st.Server)
		}
	}
	return out
}

func (s *Service) waitReceived(ctx context.Context, op *operation.Operation, cand, need string) error {
	for {
		o, err := s.observe(ctx, op.Cluster, cand, false)
		if err == nil {
			if ok, _ := position.Reaches(op.Plan.Engine, o.Received, need); ok {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// reread reads a saved tail back from its agent: the file has to name every
// committed transaction of the listing, before anything is taken out.
func (s *Service) reread(ctx context.Context, op *operation.Operation, _ operation.Action, args map[string]any) (any, int64, error) {
	server, _ := args["server"].(string)
	var t tail.Tail
	if err := unmarshal(op.Facts["tail"], &t); err != nil {
		return nil, 0, fmt.Errorf("the listing of the tail: %w", err)
	}
	r, w := io.Pipe()
	go func() { w.CloseWithError(s.SalvageFile(ctx, op.Cluster, server, path.Base(t.Saved), w)) }()
	defer r.Close()
	named := map[string]bool{}
	lines := bufio.NewReader(r)
	for {
		line, err := lines.ReadString('\n')
		if f := strings.Fields(line); len(f) > 3 && f[0] == "--" && f[1] == "transaction" && f[3] == "committed" {
			named[f[2]] = true
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, 0, fmt.Errorf("read %s back from %s: %w", t.Saved, server, err)
		}
	}
	for _, x := range t.Transactions {
		if x.Outcome == "committed" && !named[x.Name()] {
			return nil, 0, fmt.Errorf("transaction %s is missing in the saved tail %s on %s", x.Name(), t.Saved, server)
		}
	}
	s.completeTail(ctx, op.Cluster, op.Plan.Primary, &t)
	return t, 0, nil
}

// Comparison is the result of comparing all tables.
type Comparison struct {
	Servers []string     `json:"servers"`
	Tables  []TableMatch `json:"tables"`
	Rows    int64        `json:"rows"`
	Differ  int          `json:"differ"`
}

// TableMatch is one table on all servers.
type TableMatch struct {
	Table   string            `json:"table"`
	Rows    map[string]int64  `json:"rows"` // by server; -1: no such table
	Same    bool              `json:"same"`
	Differs map[string]string `json:"differs,omitempty"` // by server, in words
}

// judge compares the sums of all servers with the primary's, table by table,
// and names the rows that differ where the table has a key.
func (s *Service) judge(ctx context.Context, op *operation.Operation, a operation.Action, args map[string]any) (any, int64, error) {
	var want plan.JudgeArgs
	if err := remarshal(a.Args, &want); err != nil {
		return nil, 0, err
	}
	sums := map[string]map[string]verb.TableSum{}
	names := map[string]bool{}
	for _, n := range want.Servers {
		var list []verb.TableSum
		if err := unmarshal(op.Facts["sums "+n], &list); err != nil {
			return nil, 0, fmt.Errorf("the sums of %s: %w", n, err)
		}
		sums[n] = map[string]verb.TableSum{}
		for _, t := range list {
			sums[n][t.Table] = t
			names[t.Table] = true
		}
	}
	c := Comparison{Servers: want.Servers}
	primary := want.Servers[0]
	for t := range names {
		m := TableMatch{Table: t, Rows: map[string]int64{}, Same: true}
		ref, has := sums[primary][t]
		for _, n := range want.Servers {
			x, ok := sums[n][t]
			m.Rows[n] = x.Rows
			if !ok {
				m.Rows[n] = -1
			}
			if ok == has && x.Sum == ref.Sum && x.Rows == ref.Rows {
				continue
			}
			m.Same = false
			if m.Differs == nil {
				m.Differs = map[string]string{}
			}
			m.Differs[n] = s.describeDifference(ctx, op, t, primary, n, ref, x, ok && has)
		}
		c.Rows += max(0, m.Rows[primary])
		if !m.Same {
			c.Differ++
		}
		c.Tables = append(c.Tables, m)
	}
	sort.Slice(c.Tables, func(i, j int) bool {
		if c.Tables[i].Same != c.Tables[j].Same {
			return !c.Tables[i].Same
		}
		return c.Tables[i].Table < c.Tables[j].Table
	})
	raw, err := json.Marshal(c)
	if err != nil {
		return nil, 0, err
	}
	op.Facts["comparison"] = raw
	if c.Differ > 0 {
		var words []string
		for _, t := range c.Tables {
			for n, d := range t.Differs {
				words = append(words, fmt.Sprintf("%s on %s: %s", t.Table, n, d))
			}
		}
		sort.Strings(words)
		return nil, 0, fmt.Errorf("%d of %d tables differ from %s. %s", c.Differ, len(c.Tables), primary, strings.Join(words, ". "))
	}
	return c, 0, nil
}

func (s *Service) describeDifference(ctx context.Context, op *operation.Operation, table, primary, other string, a, b verb.TableSum, both bool) string {
	if !both {
		return "the table is on one of the two only"
	}
	text := fmt.Sprintf("%d rows, %d on %s", b.Rows, a.Rows, primary)
	if a.Rows == b.Rows {
		text = fmt.Sprintf("%d rows on both, other content", a.Rows)
	}
	rows, err := s.differentRows(ctx, op, table, primary, other)
	if err != nil {
		return text + " (the rows cannot be named: " + err.Error() + ")"
	}
	if len(rows) > 0 {
		text += "; rows by key: " + strings.Join(rows, ", ")
	}
	return text
}

// namedRows bounds how many different rows are named.
const namedRows = 20

func (s *Service) differentRows(ctx context.Context, op *operation.Operation, table, primary, other string) ([]string, error) {
	ask := func(server string, buckets []int) (verb.RowsResult, error) {
		var r verb.RowsResult
		a, err := servers{s}.Do(ctx, op.Cluster, server, verb.Rows, verb.Request{Operation: op.ID, Step: "judge", Term: op.Term, Args: verb.RowsArgs{Table: table, Buckets: buckets}})
		if err != nil {
			return r, err
		}
		return r, unmarshal(a.Result, &r)
	}
	a, err := ask(primary, nil)
	if err != nil {
		return nil, err
	}
	b, err := ask(other, nil)
	if err != nil {
		return nil, err
	}
	if a.NoKey || b.NoKey {
		return nil, errors.New("the table has no primary key")
	}
	var buckets []int
	for k := range union(a.Buckets, b.Buckets) {
		if a.Buckets[k] != b.Buckets[k] {
			buckets = append(buckets, k)
		}
	}
	if len(buckets) == 0 {
		return nil, nil
	}
	sort.Ints(buckets)
	buckets = buckets[:min(len(buckets), namedRows)]
	if a, err = ask(primary, buckets); err != nil {
		return nil, err
	}
	if b, err = ask(other, buckets); err != nil {
		return nil, err
	}
	var out []string
	for k := range union(a.Rows, b.Rows) {
		x, on1 := a.Rows[k]
		y, on2 := b.Rows[k]
		switch {
		case on1 && !on2:
			out = append(out, k+" missing on "+other)
		case !on1 && on2:
			out = append(out, k+" only on "+other)
		case x != y:
			out = append(out, k+" changed")
		}
	}
	sort.Strings(out)
	if n := len(out); n > namedRows {
		out = append(out[:namedRows], fmt.Sprintf("and %d more", n-namedRows))
	}
	return out, nil
}

func union[K comparable](a, b map[K]string) map[K]bool {
	out := map[K]bool{}
	for k := range a {
		out[k] = true
	}
	for k := range b {
		out[k] = true
	}
	return out
}

func unmarshal(raw json.RawMessage, into any) error {
	if len(raw) == 0 {
		return errors.New("no answer")
	}
	return json.Unmarshal(raw, into)
}

func remarshal(from, into any) error {
	b, err := json.Marshal(from)
	if err != nil {
		return err
	}
	return json.Unmarshal(b, into)
}

func sortProbes(p []plan.Probe) {
	sort.Slice(p, func(i, j int) bool {
		if p[i].From != p[j].From {
			return p[i].From < p[j].From
		}
		return p[i].To < p[j].To
	})
}
