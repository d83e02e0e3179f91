package operation

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"regexp"

	"crosstwin/internal/core/verb"
)

// position texts move on while a plan is read: an LSN or a GTID.
var movingText = regexp.MustCompile(`\b[0-9A-F]{1,8}/[0-9A-F]{1,8}\b|\b\d+-\d+-\d+\b`)

type digestCheck struct {
	Name, Server string
	Result       Result
}

type digestStep struct {
	Name, Server, Call string
	After, Skip        []Condition
	Undo               []digestStep
	Keep               verb.Fact
	Needs              []verb.Fact
	InPause, NoReturn  bool
	OnFail             OnFail
	Gone               string
}

// Digest identifies what a plan does: two plans of one digest differ in times
// and in positions that moved on, and in nothing else. Whoever starts an
// operation names the digest of the plan that was shown.
func (p *Plan) Digest() string {
	request := p.Request
	request.ConfirmName = ""
	x := struct {
		Kind                                Kind
		Cluster, Engine, Primary, Candidate string
		Target, ConfirmName                 string
		Term, OwnerTerm                     int64
		Request                             Request
		Checks                              []digestCheck
		Steps                               []digestStep
		Ways                                []string
		Destroys                            bool
		Loss                                *Loss
	}{p.Kind, p.Cluster, p.Engine, p.Primary, p.Candidate, p.Target, p.ConfirmName, p.Term, p.OwnerTerm, request, nil,
		digestSteps(p.Steps), nil, p.Destroys != "", p.Loss}
	for _, c := range p.Checks {
		x.Checks = append(x.Checks, digestCheck{c.Name, c.Server, c.Result})
	}
	for _, w := range p.Ways {
		if w.Chosen {
			x.Ways = append(x.Ways, w.Name)
		}
	}
	b, err := json.Marshal(x)
	if err != nil {
		panic("operation: a plan cannot be written as JSON: " + err.Error())
	}
	sum := sha256.Sum256(movingText.ReplaceAll(b, []byte("@")))
	return hex.EncodeToString(sum[:16])
}

func digestSteps(steps []Step) []digestStep {
	var out []digestStep
	for _, s := range steps {
		call, _ := json.Marshal(s.Call)
		out = append(out, digestStep{s.Name, s.Server, string(call), s.After, s.Skip, digestSteps(s.Undo), s.Keep, s.Needs,
			s.InPause, s.NoReturn, s.OnFail, s.Gone})
	}
	return out
}
