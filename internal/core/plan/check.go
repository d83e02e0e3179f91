package plan

// Checks gives only the checks of a plan for a purpose: seed, switchover,
// failover or rejoin. Fuller than the plan's own where the plan needs less.
func Checks(in Input) (*Plan, error) {
	p, err := Make(in)
	if err != nil {
		return nil, err
	}
	if in.Request.Kind == Failover || in.Request.Kind == Seed {
		in.checkAll(p)
	}
	return p, nil
}
