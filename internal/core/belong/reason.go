package belong

import (
	"fmt"

	"calmpigeon.example/internal/core/fault"
)

// Reason is why, most likely, a stray has no message.
type Reason string

// The reasons. Without one it has not been judged yet.
const (
	InDoubt      Reason = "in_doubt"      // it may be about any of several messages
	UnknownID    Reason = "unknown_id"    // nobody knows the id, and nothing is open to which it could belong
	OtherAccount Reason = "other_account" // it is about nothing that was sent through this gateway
	TooOld       Reason = "too_old"       // it speaks of a time of which nothing is kept or waits
	Crowded      Reason = "crowded"       // there are more strays than messages to which they could belong
	TooMany      Reason = "too_many"      // there are more than are looked at
	Incomplete   Reason = "incomplete"    // messages of its time are missing from the database, which was restored
)

var reasons = map[Reason]string{
	InDoubt:      "Nothing tells to which of several messages it belongs.",
	UnknownID:    "No message is known under this id, and none waits to which it could belong.",
	OtherAccount: "It is about nothing that was sent through this gateway: perhaps somebody else uses the account or the receipt address.",
	TooOld:       "It speaks of a time of which no message waits any more.",
	Crowded:      "There are more strays than messages to which they could belong: some are about something else.",
	TooMany:      "There are more strays, or messages in doubt, than can be told apart.",
	Incomplete:   "It may belong to a message that is missing: the database was restored to an earlier moment.",
}

// Reasons lists every reason.
var Reasons = []Reason{InDoubt, UnknownID, OtherAccount, TooOld, Crowded, TooMany, Incomplete}

// Text is one plain sentence.
func (r Reason) Text() string { return reasons[r] }

// ParseReason reads the word of a reason. The error names every word it accepts.
func ParseReason(s string) (Reason, error) {
	if _, known := reasons[Reason(s)]; !known {
		return "", fmt.Errorf("reason %q: not a reason; accepted are %s", s, fault.Words(Reasons))
	}
	return Reason(s), nil
}

// Facts are what is known of a line that was judged in vain.
type Facts struct {
	Verdict
	Crowd   bool // there was more than is looked at
	Absent  bool // the gateway, asked, did not know the id
	Written bool // something was sent to its number through the gateway; true where it bears none
	Old     bool // it speaks of a time before the window
	Lacking bool // the database lacks messages to which it could belong
}

// Why works out the likely reason.
func Why(f Facts) Reason {
	switch {
	case f.Lacking:
		return Incomplete
	case f.Crowd:
		return TooMany
	case f.Verdict.Crowded:
		return Crowded
	case f.Rivals > 0:
		return InDoubt
	case f.Absent || !f.Written:
		return OtherAccount
	case f.Old:
		return TooOld
	}
	return UnknownID
}
