package guard

// Rule is one sentence of the protocol. The simulation leaves one out at a time, to
// see that it is missed; nothing else does.
type Rule uint64

// The rules, by the number that they have on the handbook's page on safety.
const (
	RecordsFirst    Rule = 1 << iota // 1: what was noted or accepted is on disk first
	GrantOfNoted                     // 2: no grant of a term below the noted one
	GrantOfOwner                     // 2: a grant only for the owner of exactly the accepted term
	PromoteOfNoted                   // 2: no promotion in a term below the noted one
	FromTheNonce                     // 3: a grant counts from when its nonce was issued
	ForTheProcess                    // 3, 10: a nonce of an earlier process is void
	Majority                         // 4: a majority noted the term first
	OthersPast                       // 5: every other server is past W, or proven
	PromiseCounts                    // 5: a promotion that was sent counts as a grant
	NonceRuns                        // 5: a promotion only while its nonce runs
	NewTerm                          // 5: a promotion only above the accepted term
	NoPledge                         // 5: no promotion while the own pledge runs
	OwnRank                          // 5, 9: never means never
	WholeSet                         // 5: all but those that answered this term with never
	DropsAll                         // 6: standing down ends permissions, and what is in flight
	DeadmanFirst                     // 6, 8: the deadman knows a shorter permission before it is answered
	SeenStopped                      // 6: a proof is given when the database is seen to have stopped
	ProofToProcess                   // 6: a proof counts in answer to this process
	ProofOfTerm                      // 6: a proof counts under the present term
	ProofOfOther                     // 6: a proof never counts from the term's owner
	NoQuestionsYet                   // 6: no questions for X
	AskAll                           // 7: all of the set have to pledge
	FromTheQuestion                  // 7: pledges count from before the question was sent
	NotBelow                         // 7: no pledge for a term below the accepted one
	NotWhileWriting                  // 7: no pledge by a server that may write itself
	AcceptFirst                      // 7: a higher term is accepted before its pledge
	PledgesOfTerm                    // 7: pledges end with the term that they were given in
	DeadmanTold                      // 8: the deadman knows a longer permission before it is used
	DeadmanStops                     // 8: the deadman stops the database, agent alive or not
	StartsShut                       // 8: a database starts shut
	EligibleLast                     // 9: a server learns that it is eligible after the owner's set holds it
	LostIsNever                      // 9: an agent that lost its state neither leads nor pledges
	VoidAtStart                      // 10: what was asked before a start is void, and its permission is the deadman's
	StartWait                        // 10: no promotion for V after a start
	AllGranted                       // 11: at the service's start all servers count as granted
	HeardMajority                    // 11: no grant and no promotion before a majority answered
	AdoptsHigher                     // 11: a higher term that an agent noted is the service's too
	VoteOfKnown                      // 9: an agent that lost its state votes again when the others told the newest term
	lastRule
)

// Rules are all rules, in order.
func Rules() []Rule {
	var all []Rule
	for r := Rule(1); r < lastRule; r <<= 1 {
		all = append(all, r)
	}
	return all
}

var ruleWords = map[Rule]string{
	RecordsFirst:    "1 what was noted or accepted is on disk first",
	GrantOfNoted:    "2 no grant of a term below the noted one",
	GrantOfOwner:    "2 a grant only for the owner of exactly the accepted term",
	PromoteOfNoted:  "2 no promotion in a term below the noted one",
	FromTheNonce:    "3 a grant counts from when its nonce was issued",
	ForTheProcess:   "3, 10 a nonce of an earlier process is void",
	Majority:        "4 a majority noted the term before the promotion",
	OthersPast:      "5 every other server is past W, or proven",
	PromiseCounts:   "5 a promotion that was sent counts as a grant",
	NonceRuns:       "5 a promotion only while its nonce runs",
	NewTerm:         "5 a promotion only above the accepted term",
	NoPledge:        "5 no promotion while the own pledge runs",
	OwnRank:         "5, 9 never means never",
	WholeSet:        "5 the set is all but those that answered this term with never",
	DropsAll:        "6 standing down ends permissions, and what is in flight",
	DeadmanFirst:    "6, 8 the deadman knows a shorter permission before it is answered",
	SeenStopped:     "6 a proof is given when the database is seen to have stopped",
	ProofToProcess:  "6 a proof counts in answer to this process",
	ProofOfTerm:     "6 a proof counts under the present term",
	ProofOfOther:    "6 a proof never counts from the term's owner",
	NoQuestionsYet:  "6 no questions for X after standing down",
	AskAll:          "7 all of the set have to pledge",
	FromTheQuestion: "7 pledges count from before the question was sent",
	NotBelow:        "7 no pledge for a term below the accepted one",
	NotWhileWriting: "7 no pledge by a server that may write itself",
	AcceptFirst:     "7 a higher term is accepted before its pledge",
	PledgesOfTerm:   "7 pledges end with the term that they were given in",
	DeadmanTold:     "8 the deadman knows a longer permission before it is used",
	DeadmanStops:    "8 the deadman stops the database, agent alive or not",
	StartsShut:      "8 a database starts shut",
	EligibleLast:    "9 a server learns that it is eligible after the owner's set holds it",
	LostIsNever:     "9 an agent that lost its state neither leads nor pledges",
	VoidAtStart:     "10 an agent starts with no permission but the deadman's",
	StartWait:       "10 no promotion for V after an agent's start",
	AllGranted:      "11 at the service's start all servers count as granted",
	HeardMajority:   "11 no grant and no promotion before a majority answered",
	VoteOfKnown:     "9 an agent that lost its state votes again only once a majority without it answered",
	AdoptsHigher:    "11 a higher term that an agent noted is adopted",
}

func (r Rule) String() string { return ruleWords[r] }
