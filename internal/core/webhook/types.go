package webhook

import (
	"fmt"
	"slices"
	"strings"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
)

// Type is what an event is about: message.delivered.
type Type string

// The types that are none of a state.
const (
	Contested Type = "message.contested"
	Reply     Type = "reply.received"
	Raised    Type = "attention.raised"
	Settled   Type = "attention.settled"
	Test      Type = "test"
)

// OfMessage is the type of a message that comes to be in a state; empty for states that pass by themselves in a moment.
func OfMessage(s delivery.State) Type {
	if s == delivery.Sending {
		return ""
	}
	return Type("message." + s)
}

// OfBatch is the type of a batch that comes to be in a state; empty for those in which it is being made.
func OfBatch(s batch.State) Type {
	if s == batch.Open || s == batch.Checking {
		return ""
	}
	return Type("batch." + s)
}

// Types are all that one can choose.
var Types = types()

func types() (all []Type) {
	for _, s := range delivery.States {
		if t := OfMessage(s); t != "" {
			all = append(all, t)
		}
	}
	all = append(all, Contested)
	for _, s := range batch.States {
		if t := OfBatch(s); t != "" {
			all = append(all, t)
		}
	}
	return append(all, Reply, Raised, Settled)
}

// Family is all types that begin alike: message.* of message.delivered.
func (t Type) Family() string {
	family, _, _ := strings.Cut(string(t), ".")
	return family + ".*"
}

// Text says of a type in a few words when it is told.
func (t Type) Text() string {
	family, what, _ := strings.Cut(string(t), ".")
	switch {
	case t == Contested:
		return "two different endings of a message are claimed"
	case t == Reply:
		return "somebody wrote to one of your senders"
	case t == Raised:
		return "something wants somebody"
	case t == Settled:
		return "what wanted somebody does so no more"
	case t == Test:
		return "somebody wanted to see that it arrives"
	case family == "message":
		return "a message is " + what
	}
	return "a batch is " + what
}

// ParseTypes reads a choice of types: their names, or message.* for all that begin so. None is all.
func ParseTypes(chosen []string) ([]string, error) {
	var families []string
	for _, t := range Types {
		if f := t.Family(); !slices.Contains(families, f) {
			families = append(families, f)
		}
	}
	all := make([]string, 0, len(chosen))
	for i, c := range chosen {
		c = strings.TrimSpace(c)
		if !slices.Contains(families, c) && !slices.Contains(Types, Type(c)) {
			return nil, fault.New(fmt.Sprintf("types[%d]", i), fmt.Sprintf("%q is no type of events", c),
				fault.Words(families)+", or one of "+fault.Words(Types))
		}
		if !slices.Contains(all, c) {
			all = append(all, c)
		}
	}
	return all, nil
}
