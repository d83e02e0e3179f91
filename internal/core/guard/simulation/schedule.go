package simulation

import "fmt"

// Schedule gives the run of a seed: of all sizes and kinds, those with much going on
// more often.
func Schedule(seed uint64) Config {
	c := Config{Seed: seed, Servers: 2 + int(seed%4), Referee: seed%3 == 0}
	switch seed % 10 {
	case 5, 6, 7:
		c.Kind = RoleChanges
	case 8:
		c.Kind = ServiceOnly
	case 9:
		c.Kind = PlannedOnly
	}
	return c
}

// String says what a run is made of.
func (c Config) String() string {
	referee := ""
	if c.Referee {
		referee = " and a referee"
	}
	return fmt.Sprintf("%d servers%s, disturbed: %v", c.Servers, referee, c.Kind)
}
