package cluster

// Rule names a kind of problem; alerts are raised by it, and can be muted by it.
type Rule string

// All rules.
const (
	RuleNoPrimary    Rule = "no primary"
	RuleTwoPrimaries Rule = "two primaries"
	RuleNoWrites     Rule = "takes no writes"
	RuleAdrift       Rule = "adrift"
	RuleLinkDown     Rule = "link down"
	RuleStalled      Rule = "stalled"
	RuleBehind       Rule = "behind"
	RuleDown         Rule = "down"
	RuleUnseen       Rule = "unseen"
	RuleAtRisk       Rule = "at risk"
	RuleSlotFilling  Rule = "slot filling"
	RuleLogFilling   Rule = "log filling"
	RuleConflicts    Rule = "conflicts"
	RuleClock        Rule = "clock"
	RuleCertificate  Rule = "certificate"
	RuleNeedsYou     Rule = "needs you"
	RuleOpen         Rule = "open by default"
	RuleClaim        Rule = "false claim"
	RuleAgent        Rule = "agent version"
	RuleRefused      Rule = "refused"
	RuleNoFailover   Rule = "no failover"
	RuleSynchronous  Rule = "synchronous"
	RuleAlone        Rule = "acknowledged alone"
)

// Rules lists all rules, worst first: the order in which problems are shown.
var Rules = []Rule{RuleTwoPrimaries, RuleClaim, RuleNoPrimary, RuleNoWrites, RuleAlone, RuleNoFailover, RuleNeedsYou,
	RuleAdrift, RuleSynchronous,
	RuleLogFilling, RuleRefused, RuleLinkDown, RuleStalled, RuleUnseen, RuleDown, RuleAtRisk,
	RuleSlotFilling, RuleBehind, RuleConflicts, RuleClock, RuleCertificate, RuleAgent, RuleOpen}
