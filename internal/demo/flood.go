package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/explain"
)

// A flood: somebody who earns by each text asks for codes, for numbers one after the other, each from another address,
// and for others from one address, while passengers sign in, two of whom live in the range that is flooded.

const (
	flooded       = 60 // numbers one after the other
	fromOne       = 30 // numbers that one address asks for
	passengers    = 24
	neighbours    = 2 // of those who flood
	floodedRange  = "+33639982xxx"
	floodedEvery  = 40 * time.Millisecond
	signInWithin  = 20 * time.Second
	alarmedWithin = 10 * time.Second
)

// tried is what came of asking for codes.
type tried struct {
	asked, sent, alarmed, limited, right atomic.Int64
	mu                                   sync.Mutex
	messages                             []string
}

// ask asks for a code.
func (t *tried) ask(ctx context.Context, c *client.Client, number, address string) (client.Passcode, error) {
	t.asked.Add(1)
	p, err := c.Issue(ctx, client.NewPasscode{To: number, Purpose: purpose, Sender: "LH Boarding", Address: address}, "")
	var refused *client.Problem
	switch {
	case err == nil:
		t.sent.Add(1)
		t.mu.Lock()
		t.messages = append(t.messages, p.Message)
		t.mu.Unlock()
	case errors.As(err, &refused) && refused.Title == "Too many passcodes were asked for":
		t.limited.Add(1)
	case errors.As(err, &refused) && (refused.Status == 403 || refused.Status == 429):
		t.alarmed.Add(1)
	default:
		return p, err
	}
	return p, nil
}

// cost is what messages cost, as far as there is a price.
func cost(ctx context.Context, c *client.Client, messages []string) (client.Money, error) {
	micros := int64(0)
	for _, id := range messages {
		m, err := c.Message(ctx, id, false)
		if err != nil {
			return client.Money{}, err
		}
		if m.Price != nil {
			one, err := price.ParseMoney(m.Price.Amount, m.Price.Currency)
			if err != nil {
				return client.Money{}, err
			}
			micros += one.Micros()
		}
	}
	return client.Money{Amount: explain.Amount(micros), Currency: "EUR"}, nil
}

var aCode = regexp.MustCompile(`\b[0-9]{6}\b`)

// signInFor lets a passenger ask for a code, read it on the practice phone, and type it.
func (t *tried) signInFor(ctx context.Context, c *client.Client, at places, number, address string) error {
	p, err := t.ask(ctx, c, number, address)
	if err != nil || p.ID == "" {
		return err
	}
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		for _, phone := range at.ships.Phones.All(number, 5) {
			for _, text := range phone.Texts {
				code := aCode.FindString(text.Text)
				if code == "" || text.At.Before(p.CreatedAt) {
					continue
				}
				v, err := c.Check(ctx, p.ID, code)
				if err == nil && v.Verdict == "right" {
					t.right.Add(1)
				}
				return err
			}
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s waits for its code: %w", number, ctx.Err())
		case <-tick.C:
		}
	}
}

// flood plays it, and says what was stopped and what was lost. It fails if the flood is not stopped, or if a passenger
// who lives elsewhere does not get in.
func flood(ctx context.Context, c *client.Client, at places, out io.Writer) error {
	ctx, cancel := context.WithTimeout(ctx, signInWithin)
	defer cancel()
	fmt.Fprintf(
		out,
		"\nSomebody asks for %d codes for numbers one after the other, each from another address, and for %d more from one;\n"+
			"meanwhile %d passengers sign in, and afterwards %d who live in the range that was flooded.\n\n",
		flooded,
		fromOne,
		passengers,
		neighbours,
	)
	var sequence, one, honest, beside tried
	var all sync.WaitGroup
	var mu sync.Mutex
	var wrong error
	do := func(what func() error) {
		all.Go(func() {
			if err := what(); err != nil {
				mu.Lock()
				wrong = errors.Join(wrong, err)
				mu.Unlock()
			}
		})
	}
	pace := func(n int, what func(i int) error) func() error {
		return func() error {
			tick := time.NewTicker(floodedEvery)
			defer tick.Stop()
			for i := range n {
				if err := what(i); err != nil {
					return err
				}
				<-tick.C
			}
			return nil
		}
	}
	do(pace(flooded, func(i int) error {
		_, err := sequence.ask(ctx, c, fmt.Sprintf("+336399821%02d", i), fmt.Sprintf("2001:db8:%x::1", 256*i))
		return err
	}))
	do(pace(fromOne, func(i int) error {
		_, err := one.ask(ctx, c, fmt.Sprintf("+447700900%d%02d", i%10, (3+i*7)%80), "203.0.113.7")
		return err
	}))
	for i := range passengers {
		do(func() error {
			number := []string{"+447700900%d%02d", "+46701740%d%02d", "+491713920%d%02d"}[i%3]
			if i%3 == 0 {
				number = fmt.Sprintf(number, 1+i%8, i*5%80)
			} else {
				number = fmt.Sprintf([]string{"", "+467017406%02d", "+4917139200%02d"}[i%3], 5+i*3)
			}
			return honest.signInFor(ctx, c, at, number, fmt.Sprintf("198.51.100.%d", 10+i))
		})
	}
	all.Wait()
	if wrong != nil {
		return wrong
	}
	if _, err := alarmed(ctx, c, 1); err != nil {
		return err
	}
	for i := range neighbours {
		if err := beside.signInFor(ctx, c, at, fmt.Sprintf("+336399827%02d", 11+40*i), fmt.Sprintf("198.51.100.%d", 90+i)); err != nil {
			return err
		}
	}
	alarm, err := alarmed(ctx, c, sequence.alarmed.Load()+beside.alarmed.Load())
	if err != nil {
		return err
	}
	row := func(what string, t *tried, came string) {
		fmt.Fprintf(out, "  %-32s %5d %5d %8d   %s\n", what, t.asked.Load(), t.sent.Load(), t.alarmed.Load()+t.limited.Load(), came)
	}
	fmt.Fprintf(out, "  %-32s %5s %5s %8s\n", "", "asked", "sent", "stopped")
	row("numbers one after the other", &sequence, "an alarm: "+alarm.About+", in the "+alarm.What+" "+alarm.Value)
	row("many numbers from one address", &one, "a limit: 5 a minute for each address")
	row("passengers", &honest, fmt.Sprintf("%d signed in", honest.right.Load()))
	row("passengers of the same range", &beside, fmt.Sprintf("%d signed in; who did not is told to wait", beside.right.Load()))
	lost, err := cost(ctx, c, slices.Concat(sequence.messages, one.messages))
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "\nLost: %s for %d codes that nobody used. The alarm stopped %d, and saved about %s.\n",
		lost, sequence.sent.Load()+one.sent.Load(), alarm.Stopped, moneyOf(alarm.Saved))
	switch {
	case honest.right.Load() != passengers:
		return fmt.Errorf("%d of %d passengers signed in", honest.right.Load(), passengers)
	case sequence.alarmed.Load() == 0 || sequence.sent.Load() > flooded*3/4:
		return fmt.Errorf("of a flood of %d codes %d were sent", flooded, sequence.sent.Load())
	case one.sent.Load() != 5:
		return fmt.Errorf("one address got %d codes within a minute", one.sent.Load())
	}
	return nil
}

func moneyOf(all []client.Money) string {
	if len(all) == 0 {
		return "nothing that has a price"
	}
	return all[0].String()
}

// alarmed waits until the alarm about the flooded range stands, and it is counted that it stopped so many.
func alarmed(ctx context.Context, c *client.Client, least int64) (client.PasscodeAlarm, error) {
	ctx, cancel := context.WithTimeout(ctx, alarmedWithin)
	defer cancel()
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		l, err := c.PasscodeAlarms(ctx, false)
		if err != nil {
			return client.PasscodeAlarm{}, err
		}
		for _, a := range l.Items {
			if a.Value == floodedRange && a.Stopped >= least {
				return a, nil
			}
		}
		select {
		case <-ctx.Done():
			return client.PasscodeAlarm{}, fmt.Errorf("no alarm about the range that is flooded: %w", ctx.Err())
		case <-tick.C:
		}
	}
}
