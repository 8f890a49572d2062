package delivery

import (
	"fmt"
	"strings"
)

// Tally is the account of a set of messages: how many there are, and how many
// are in each state.
type Tally struct {
	Total   int64
	ByState map[State]int64
	// Contested counts the messages whose final claims contradict each other.
	// They are counted in their state as well.
	Contested int64
}

// Add counts n messages in a state.
func (t *Tally) Add(s State, n int64) {
	if t.ByState == nil {
		t.ByState = map[State]int64{}
	}
	t.Total += n
	t.ByState[s] += n
}

// Failed are the messages that ended and did not arrive, or of which nobody knows it. What was withdrawn never
// was to arrive.
func (t Tally) Failed() int64 {
	return t.ByState[Undeliverable] + t.ByState[Expired] + t.ByState[Rejected] + t.ByState[Unknown]
}

// Gone are the messages that went to a gateway, or were refused.
func (t Tally) Gone() int64 {
	return t.Failed() + t.ByState[Delivered] + t.ByState[Sending] + t.ByState[Doubtful] + t.ByState[Accepted] + t.ByState[Enroute]
}

// DeliveryRate is the share that was delivered of those whose end is known; false if of none is.
func (t Tally) DeliveryRate() (float64, bool) {
	ended := t.ByState[Delivered] + t.Failed()
	if ended == 0 {
		return 0, false
	}
	return float64(t.ByState[Delivered]) / float64(ended), true
}

// Join adds all of another tally.
func (t *Tally) Join(o Tally) {
	for s, n := range o.ByState {
		t.Add(s, n)
	}
	t.Contested += o.Contested
}

// Check returns an error unless the total is the sum over the known states.
func (t Tally) Check() error {
	var sum int64
	for _, s := range States {
		sum += t.ByState[s]
	}
	if sum != t.Total {
		return fmt.Errorf("tally does not add up: %d messages, %d in known states", t.Total, sum)
	}
	return nil
}

// String writes the tally as an equation, in the order of [States]:
// "31 messages = 27 delivered + 4 rejected".
func (t Tally) String() string {
	var terms []string
	for _, s := range States {
		if n := t.ByState[s]; n > 0 {
			terms = append(terms, fmt.Sprintf("%d %s", n, s))
		}
	}
	noun := "messages"
	if t.Total == 1 {
		noun = "message"
	}
	if len(terms) == 0 {
		return "0 messages"
	}
	return fmt.Sprintf("%d %s = %s", t.Total, noun, strings.Join(terms, " + "))
}
