package console

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"crosstwin/internal/core/words"
)

// The console's pure functions are tried from here, compiled as they stand.
func TestPureFunctions(t *testing.T) {
	t.Parallel()
	dir := compile(t)
	for name, try := range map[string]func(*testing.T, functions){"words": sameWordsAsTheService,
		"ribbon": stagesOnTheRibbon, "live": liveState, "tree": treeOfServers} {
		t.Run(name, func(t *testing.T) { try(t, functions(dir)) })
	}
}

func compile(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	web, err := filepath.Abs("../../web")
	if err != nil {
		t.Fatal(err)
	}
	args := []string{"--outDir", dir, "--rootDir", filepath.Join(web, "src"), "--module", "esnext",
		"--moduleResolution", "bundler", "--target", "es2022", "--jsx", "react-jsx", "--skipLibCheck"}
	for _, f := range []string{"words.ts", "live-state.ts", "parts/ribbon-scale.ts", "parts/tree.ts"} {
		args = append(args, filepath.Join(web, "src", f))
	}
	c := exec.Command(filepath.Join(web, "node_modules", ".bin", "tsc"), args...)
	c.Dir = web
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("tsc: %v\n%s", err, out)
	}
	return dir
}

// functions is the directory of the compiled files.
type functions string

// try carries out JavaScript on them and reads what it yields.
func (dir functions) try(t *testing.T, expression string, into any) {
	t.Helper()
	text := fmt.Sprintf(`globalThis.localStorage = { getItem: () => null };
const load = (name) => import(%q + "/" + name + ".js");
const [words, live, scale, tree] = await Promise.all([
  "words", "live-state", "parts/ribbon-scale", "parts/tree"].map(load));
console.log(JSON.stringify(%s));`, "file://"+string(dir), expression)
	for name, content := range map[string]string{"run.mjs": text, "package.json": `{"type":"module"}`} {
		if err := os.WriteFile(filepath.Join(string(dir), name), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	out, err := exec.Command("node", filepath.Join(string(dir), "run.mjs")).CombinedOutput()
	if err != nil {
		t.Fatalf("node: %v\n%s", err, out)
	}
	if err := json.Unmarshal(out, into); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
}

// The console and the command line say sizes and spans alike.
func sameWordsAsTheService(t *testing.T, f functions) {
	sizes := []int64{0, 1, 1023, 1024, 1536, 1 << 20, 5<<20 + 300000, 1 << 30, 1 << 40, 1 << 45}
	spans := []float64{0, 0.0004, 0.2, 0.999, 1, 12.34, 59.94, 59.96, 60, 61.4,
		3599.6, 3600, 5400, 86399, 86400, 400000, -1}
	var want, got struct{ Sizes, Spans []string }
	for _, n := range sizes {
		want.Sizes = append(want.Sizes, words.Size(n))
	}
	for _, s := range spans {
		want.Spans = append(want.Spans, words.Span(s))
	}
	in, _ := json.Marshal(map[string]any{"sizes": sizes, "spans": spans})
	f.try(t, fmt.Sprintf("(({sizes, spans}) => ({ Sizes: sizes.map(words.size), Spans: spans.map(words.span) }))(%s)", in),
		&got)
	for i, n := range sizes {
		if got.Sizes[i] != want.Sizes[i] {
			t.Errorf("size %d: %q in the console, %q elsewhere", n, got.Sizes[i], want.Sizes[i])
		}
	}
	for i, s := range spans {
		if got.Spans[i] != want.Spans[i] {
			t.Errorf("span %g: %q in the console, %q elsewhere", s, got.Spans[i], want.Spans[i])
		}
	}
}

// What stands on the ribbon ends at "now", in order, and a stage that exists is seen.
func stagesOnTheRibbon(t *testing.T, f functions) {
	type stage struct {
		Name     string
		From, To float64
	}
	cases := [][4]int64{{}, {1}, {0, 0, 0, 1}, {1, 1, 1, 1}, {1 << 30, 1, 0, 1}, {1 << 40, 1 << 40, 1 << 40, 1 << 40}}
	var list []string
	for _, c := range cases {
		for _, width := range []int{300, 900} {
			list = append(list, fmt.Sprintf("scale.stages({stages: {not_applied_bytes: %d, not_safe_bytes: %d, "+
				"not_received_bytes: %d, not_sent_bytes: %d}}, %d)", c[0], c[1], c[2], c[3], width))
		}
	}
	var got [][]stage
	f.try(t, "["+strings.Join(list, ",")+"]", &got)
	for i, stages := range got {
		width := []float64{300, 900}[i%2]
		if last := stages[len(stages)-1]; last.To > width+0.01 || last.To < width-0.01 {
			t.Errorf("%s ends at %g, not at now", list[i], last.To)
		}
		for j, s := range stages {
			if s.To < s.From || j > 0 && (s.From != stages[j-1].To || s.To-s.From < 3.99) {
				t.Errorf("%s: stage %d is from %g to %g, after one to %g", list[i], j, s.From, s.To, stages[max(0, j-1)].To)
			}
		}
	}
	var marks []float64
	f.try(t, "scale.ticks.map((x) => scale.left(x.bytes, 900))", &marks)
	for i := 1; i < len(marks); i++ {
		if marks[i] <= marks[i-1] {
			t.Errorf("the marks are not in order: %v", marks)
		}
	}
}

// What did not change keeps its identity, so that a tick renders only what did.
func liveState(t *testing.T, f functions) {
	var got map[string]any
	f.try(t, `(() => {
  const a = { cluster: "bookings", n: 1 }, b = { cluster: "cargo", n: 1 }, one = live.fresh([a, b]);
  const two = live.withViews(one, new Map([["cargo", { cluster: "cargo", n: 2 }],
    ["mail", { cluster: "mail", n: 1 }]]));
  const three = live.without(two, "bookings");
  return {
    order: two.views.map((v) => v.cluster).join(" "), same: two.views[0] === a, changed: two.byName.get("cargo").n,
    none: live.withViews(one, new Map()) === one, left: three.views.map((v) => v.cluster).join(" "),
    unknown: live.without(one, "mail") === one, before: one.views.length,
  };
})()`, &got)
	want := map[string]any{"order": "bookings cargo mail", "same": true, "changed": 2.0, "none": true,
		"left": "cargo mail", "unknown": true, "before": 2.0}
	for k, v := range want {
		if got[k] != v {
			t.Errorf("%s: %v, not %v", k, got[k], v)
		}
	}
}

// Each server stands once, below the one that it follows; a loop and a stranger's
// follower come last, below nobody.
func treeOfServers(t *testing.T, f functions) {
	var got string
	f.try(t, `tree.tree([{ name: "heron", follows: "tern" }, { name: "tern", follows: "gull" }, { name: "gull" },
  { name: "auk", follows: "10.9.9.9:5432" }, { name: "skua", follows: "smew" },
  { name: "smew", follows: "skua" }], "gull")
  .map((p) => p.server.name + p.depth + "<" + p.parent).join(" ")`, &got)
	if want := "gull0<-1 tern1<0 heron2<1 auk0<-1 skua0<-1 smew1<4"; got != want {
		t.Errorf("%s, not %s", got, want)
	}
}
