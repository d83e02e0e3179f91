package plan

import "crosstwin/internal/core/operation"

// Checks returns only the checks of a plan for a purpose: seed, switchover,
// failover or rejoin. Fuller than the plan's own where the plan needs less.
func Checks(in Input) (*operation.Plan, error) {
	p, err := Make(in)
	if err != nil {
		return nil, err
	}
	if in.Request.Kind == operation.Failover || in.Request.Kind == operation.Seed {
		in.checkAll(p)
	}
	return p, nil
}
