package store

import (
	"encoding/json"

	"crosstwin/internal/core/operation"
)

// readPlan reads a plan as it was recorded, those of earlier versions too: their
// steps had verb and args side by side, and one action as undo.
func readPlan(b []byte, p *operation.Plan) error {
	var old struct {
		Steps []map[string]json.RawMessage `json:"steps"`
	}
	if err := json.Unmarshal(b, &old); err != nil {
		return err
	}
	if len(old.Steps) == 0 || old.Steps[0]["call"] != nil || old.Steps[0]["verb"] == nil {
		return json.Unmarshal(b, p)
	}
	// Only shown: none of its calls is carried out again.
	for _, s := range old.Steps {
		for _, field := range []string{"verb", "args", "after", "undo", "keep", "needs"} {
			delete(s, field)
		}
	}
	var whole map[string]json.RawMessage
	if err := json.Unmarshal(b, &whole); err != nil {
		return err
	}
	steps, err := json.Marshal(old.Steps)
	if err != nil {
		return err
	}
	whole["steps"] = steps
	if b, err = json.Marshal(whole); err != nil {
		return err
	}
	return json.Unmarshal(b, p)
}
