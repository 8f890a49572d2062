// Package delivery works out what became of a message from the evidence about
// it.
//
// A message's state is never set. It is the result of [Fold] over all evidence
// that is known, and it comes out the same for every order and every
// repetition of that evidence, because receipts arrive late, twice and
// backwards.
package delivery

import (
	"fmt"
	"slices"

	"calmpigeon.example/internal/core/fault"
)

// State is what is known to have become of a message. The zero value means
// that nothing is claimed; it is no state a message can be in.
//
// The words for what networks say are those of message_state in SMPP v3.4
// §5.2.28.
type State string

// The states, in the order in which a tally lists them.
const (
	Held          State = "held"          // waits for a decision or a time
	Queued        State = "queued"        // ours to send
	Sending       State = "sending"       // handed to HTTP, no answer yet
	Doubtful      State = "doubtful"      // submitted, but nobody knows whether the gateway took it
	Accepted      State = "accepted"      // taken by the gateway
	Enroute       State = "enroute"       // in the network
	Delivered     State = "delivered"     // on the handset
	Undeliverable State = "undeliverable" // the network gave up
	Expired       State = "expired"       // its validity ended first
	Rejected      State = "rejected"      // refused by the gateway or the network
	Cancelled     State = "cancelled"     // withdrawn before it was sent
	Unknown       State = "unknown"       // the time in which anyone might have told us is over
)

// States lists every state in the order of the tally.
var States = []State{Held, Queued, Sending, Doubtful, Accepted, Enroute,
	Delivered, Undeliverable, Expired, Rejected, Cancelled, Unknown}

// GatewayStates are the states that a gateway can claim: where a message is
// before a gateway has it, only we know.
var GatewayStates = []State{Accepted, Enroute, Delivered, Undeliverable, Expired, Rejected, Cancelled, Unknown}

// ParseGatewayState reads the word of a state that a gateway can claim. The
// error names every word it accepts.
func ParseGatewayState(s string) (State, error) {
	if slices.Contains(GatewayStates, State(s)) {
		return State(s), nil
	}
	return "", fmt.Errorf("state %q: not a state that a gateway can claim; accepted are %s", s, fault.Words(GatewayStates))
}

// ParseState reads a state's word. The error names every word it accepts.
func ParseState(s string) (State, error) {
	for _, state := range States {
		if string(state) == s {
			return state, nil
		}
	}
	return "", fmt.Errorf("state %q: not a state; accepted are %s", s, fault.Words(States))
}

// Final reports whether nobody is expected to say anything more. Later
// evidence may still change a final state.
func (s State) Final() bool {
	switch s {
	case Delivered, Undeliverable, Expired, Rejected, Cancelled, Unknown:
		return true
	}
	return false
}

// Taken reports whether the state says that a gateway took the message, or
// that there is nothing left to submit.
func (s State) Taken() bool { return s.rank() >= Accepted.rank() }

// rank orders claims about one submission: the highest wins. A handset's
// delivered outranks all; what a gateway says at the end outranks our own
// giving up, which outranks what is said on the way.
func (s State) rank() int {
	switch s {
	case Held:
		return 1
	case Sending:
		return 2
	case Doubtful:
		return 3
	case Queued: // of a submission: it was not taken, or may be made again
		return 4
	case Accepted:
		return 5
	case Enroute:
		return 6
	case Unknown:
		return 7
	case Undeliverable, Expired, Rejected, Cancelled:
		return 8
	case Delivered:
		return 9
	}
	return 0
}

// settles reports whether the state is a final claim that another one can
// contradict. Unknown contradicts nothing: it says that nothing was said.
func (s State) settles() bool { return s.Final() && s != Unknown }

// order is the fixed order of states that breaks the last ties.
func (s State) order() int {
	for i, state := range States {
		if state == s {
			return i
		}
	}
	return -1
}
