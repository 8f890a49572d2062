package delivery

import "time"

// Source is who says something about a message.
type Source string

// The sources.
const (
	Own       Source = "own"       // an act of Calm Pigeon
	Reply     Source = "reply"     // the answer to a submission
	Receipt   Source = "receipt"   // a delivery receipt, pushed
	Query     Source = "query"     // the answer to a status query
	Statement Source = "statement" // a line of the gateway's own list
	Operator  Source = "operator"  // a person's decision
	Clock     Source = "clock"     // time ran out
)

// weight breaks ties between claims of equal rank: what was written down for
// billing before what was pushed, before what was asked, before what was said
// first.
func (s Source) weight() int {
	switch s {
	case Operator:
		return 6
	case Statement:
		return 5
	case Receipt:
		return 4
	case Query:
		return 3
	case Reply:
		return 2
	case Own:
		return 1
	}
	return 0
}

// names orders sources by how early they tell the gateway's id of a submission:
// the reply first.
func (s Source) names() int {
	switch s {
	case Reply:
		return 4
	case Query:
		return 3
	case Receipt:
		return 2
	case Statement:
		return 1
	}
	return 0
}

// Evidence is one recorded fact about a message.
type Evidence struct {
	Source Source
	// Claim is the state that the evidence speaks for. Empty: it claims
	// nothing, and is kept because it happened.
	Claim State
	Cause Cause
	// Attempt is the submission that the evidence speaks of, counted from 1.
	// 0 is the time before the first.
	Attempt int
	// Part counts the segment that the evidence speaks of, from 1; 0 means the
	// whole message. Parts is how many segments there are, 0 if not said.
	Part, Parts int
	// GatewayRef is the gateway's own id of the message.
	GatewayRef string
	// Code and Note are what the gateway said in its own words.
	Code, Note string
	// GatewayAt is the gateway's time, zero if it gave none.
	GatewayAt time.Time
	// Charge is what the gateway says that it costs.
	Charge Charge
	// Ground is what the claim rests on, where that can be withdrawn. What can be
	// withdrawn gives a submission no name.
	Ground Ground
	// Weak: nothing names the message, and the claim can only belong to it. It
	// counts where nobody who names it has said how it ended, and contests nothing.
	Weak bool
	// Over are the endings that a decision knew of, and overrules.
	Over Endings
	// Withdraws is a ground whose claims count no more, whichever comes first.
	Withdraws Ground
}

// Ground tells apart what claims rest on that can be withdrawn: that a stray
// belongs to a message, a statement, a decision. Zero is none.
type Ground uint64
