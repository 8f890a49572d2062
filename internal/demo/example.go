package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/client"
)

// patience is how long the example waits for the last message.
const patience = 2 * time.Minute

// Example plays the scenario in a fresh place, prints what happened, and
// returns an error unless every message became what it should and the tally
// adds up.
func Example(ctx context.Context, o Options) error {
	if o.Service.DatabaseURL != "" {
		return errors.New("the example wants a fresh database and starts its own: unset PIGEON_DATABASE_URL")
	}
	folder, err := os.MkdirTemp("", "pigeon-example-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	if err := os.Chmod(folder, 0o755); err != nil { // #nosec G302 -- the database runs as another user
		return err
	}
	o.Service.Data, o.Service.Listen, o.FleetListen = folder, "127.0.0.1:0", "127.0.0.1:0"
	return together(ctx, o, func(ctx context.Context, at places) error {
		ctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		c, _, err := signIn(ctx, o, at)
		if err != nil {
			return err
		}
		fmt.Fprintf(
			o.Out,
			"Lanternholm Ferries sends %d texts through eight gateways, one of which misbehaves in every way it can.\n\n",
			len(scenario),
		)
		if err := load(ctx, c, at, gatewaySpans{timeout: "2s", askAfter: "1s", giveUp: "10s"}); err != nil {
			return err
		}
		if _, err := play(ctx, c, at); err != nil {
			return err
		}
		if err := account(ctx, c, o); err != nil {
			return err
		}
		if err := accountEvents(ctx, c, o, at); err != nil {
			return err
		}
		one, err := storm(ctx, c, o)
		if err != nil {
			return err
		}
		wrong, err := stormAccount(ctx, c, o, one)
		if err == nil && wrong > 0 {
			err = fmt.Errorf("%d things about the storm are not as they should be", wrong)
		}
		if err != nil {
			return err
		}
		return flood(ctx, c, at, o.Out)
	})
}

// account waits for every act and says what became of it.
func account(ctx context.Context, c *client.Client, o Options) error {
	wrong := 0
	var want client.Tally
	want.States = map[string]int64{}
	fmt.Fprintf(o.Out, "%-43s %-13s %-17s %-20s %-16s %s\n", "what was tried", "to", "through", "became", "cause", "known from")
	for _, act := range scenario {
		// The same key again gives the message that was sent before.
		sent, err := c.SendOnce(ctx, act.Draft, act.token())
		if err != nil {
			return err
		}
		m, err := settle(ctx, c, sent.ID, act)
		if err != nil {
			return fmt.Errorf("%s: %w", act.About, err)
		}
		want.States[act.State]++
		became := m.State
		if len(m.Rivals) > 1 {
			became += ", contested"
		}
		if m.Weak {
			became += ", weakly"
		}
		mark := ""
		if why := act.wrong(m); why != "" {
			wrong++
			mark = "   WRONG: " + why
		}
		fmt.Fprintf(o.Out, "%-43s %-13s %-17s %-20s %-16s %s%s\n", act.About, m.To, m.Gateway, became, m.Cause, knownFrom(m), mark)
	}
	tally, err := c.Tally(ctx, client.Filter{})
	if err != nil {
		return err
	}
	fmt.Fprintf(o.Out, "\n%s\n", tally.Equation)
	var sum int64
	for state, n := range tally.States {
		sum += n
		if n != want.States[state] {
			wrong++
			fmt.Fprintf(o.Out, "WRONG: %d %s, expected %d\n", n, state, want.States[state])
		}
	}
	if sum != tally.Total || tally.Total != int64(len(scenario)) {
		wrong++
		fmt.Fprintf(o.Out, "WRONG: %d messages in all, %d in states, %d were sent\n", tally.Total, sum, len(scenario))
	}
	if wrong > 0 {
		return fmt.Errorf("%d things are not as they should be", wrong)
	}
	fmt.Fprintln(o.Out, "Every message became what it should, and the tally adds up.")
	return nil
}

// accountEvents waits until the booking system was told of where every message stands.
func accountEvents(ctx context.Context, c *client.Client, o Options, at places) error {
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for _, act := range scenario {
		sent, err := c.SendOnce(ctx, act.Draft, act.token())
		if err != nil {
			return err
		}
		for {
			m, err := c.Message(ctx, sent.ID, false)
			if err != nil {
				return err
			}
			_, last := at.ships.Booking.Told(m.ID)
			if last == "message."+m.State || last == "message.contested" && len(m.Rivals) > 1 {
				break
			}
			select {
			case <-ctx.Done():
				return fmt.Errorf("%s: it is %s, and the booking system was told last of %q", act.About, m.State, last)
			case <-tick.C:
			}
		}
	}
	events, _ := at.ships.Booking.Told("")
	fmt.Fprintf(o.Out, "The booking system took %d events, each of them signed, and knows where every message stands.\n", events)
	return nil
}

// settle waits until a message is final and its evidence is complete: receipts
// that repeat or contradict come after the first.
func settle(ctx context.Context, c *client.Client, id string, act Act) (client.Message, error) {
	if err := c.Follow(ctx, id, func(client.Message) bool { return true }); err != nil && ctx.Err() == nil {
		return client.Message{}, err
	}
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	complete, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	for {
		m, err := c.Message(context.WithoutCancel(ctx), id, false)
		if err != nil || act.wrong(m) == "" {
			return m, err
		}
		select {
		case <-complete.Done():
			return m, nil // and it is shown as wrong
		case <-tick.C:
		}
	}
}

// wrong says what is not as it should be; empty if all is.
func (act Act) wrong(m client.Message) string {
	switch {
	case m.State != act.State || m.Cause != act.Cause:
		return fmt.Sprintf("expected %s %s", act.State, act.Cause)
	case (len(m.Rivals) > 1) != act.Contested:
		return fmt.Sprintf("contested: %v", m.Rivals)
	case m.Weak != act.Weak:
		return fmt.Sprintf("weakly known: %v", m.Weak)
	}
	if m.Repeats < act.Repeats {
		return fmt.Sprintf("said again %d times, expected %d", m.Repeats, act.Repeats)
	}
	var have []string
	for _, e := range m.Evidence {
		have = append(have, e.Source+" "+e.Claim)
	}
	for _, claim := range act.Evidence {
		i := slices.Index(have, claim)
		if i < 0 {
			return "no evidence: " + claim
		}
		have = slices.Delete(have, i, i+1)
	}
	return ""
}

// knownFrom lists the sources that spoke for the message, in the order they
// did, without our own acts of queueing and sending.
func knownFrom(m client.Message) string {
	var said []string
	times := map[int]int{}
	for _, e := range m.Evidence {
		if e.Claim == "" || e.Source == "own" && e.Claim != "doubtful" {
			continue
		}
		claim := e.Source + " " + e.Claim
		if e.Source == "own" {
			claim = "doubt"
		}
		if len(said) == 0 || said[len(said)-1] != claim {
			said = append(said, claim)
		}
		times[len(said)-1]++
	}
	for i, n := range times {
		if n > 1 {
			said[i] = fmt.Sprintf("%s ×%d", said[i], n)
		}
	}
	if m.Repeats > 0 {
		said = append(said, fmt.Sprintf("again ×%d", m.Repeats))
	}
	return strings.Join(said, ", ")
}
