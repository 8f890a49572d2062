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
