package schedule

import (
	"testing"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
)

var noon = time.Date(2026, 11, 15, 12, 0, 0, 0, time.UTC)

// plain, honours, asks and silent differ in what may be done in doubt.
var (
	plain   = Gateway{AskAfter: 10 * time.Second, GiveUpAfter: time.Hour, Timeout: 30 * time.Second}
	honours = with(plain, func(g *Gateway) { g.Honours = true })
	asks    = with(plain, func(g *Gateway) { g.Asks, g.CanAsk = true, true })
	blind   = with(plain, func(g *Gateway) { g.Asks = true }) // it can be asked, but not about this one
)

func with(g Gateway, change func(*Gateway)) Gateway {
	change(&g)
	return g
}

func TestNext(t *testing.T) {
	t.Parallel()
	at := func(d time.Duration) *time.Time { when := noon.Add(d); return &when }
	for name, tt := range map[string]struct {
		g        Gateway
		kind     pace.Kind
		state    delivery.State
		validFor time.Duration
		askAt    *time.Time
		giveUpAt *time.Time
		refused  bool
	}{
		"being sent":                            {asks, "bulk", delivery.Sending, time.Hour, at(10 * time.Second), at(time.Hour), false},
		"taken, and can be asked about":         {asks, "bulk", delivery.Accepted, time.Hour, at(10 * time.Second), at(time.Hour), false},
		"taken, and nobody can be asked":        {plain, "bulk", delivery.Accepted, time.Hour, at(time.Hour), at(time.Hour), false},
		"taken without an id to ask by":         {blind, "bulk", delivery.Accepted, time.Hour, at(time.Hour), at(time.Hour), false},
		"in doubt, the reference is honoured":   {honours, "bulk", delivery.Doubtful, time.Hour, at(doubtPause), at(time.Hour), false},
		"in doubt, honoured, but of no use now": {honours, "bulk", delivery.Doubtful, -time.Second, at(doubtEnd), at(doubtEnd), false},
		"in doubt, a passcode":                  {plain, "otp", delivery.Doubtful, time.Minute, at(doubtPause), at(time.Hour), false},
		"in doubt, and can be asked about":      {asks, "transactional", delivery.Doubtful, time.Hour, at(doubtAsk), at(time.Hour), false},
		"in doubt, and nothing can be done":     {plain, "transactional", delivery.Doubtful, time.Hour, at(doubtEnd), at(doubtEnd), false},
		"in doubt, a code refused since":        {plain, "otp", delivery.Doubtful, time.Minute, at(doubtEnd), at(doubtEnd), true},
		"delivered":                             {asks, "bulk", delivery.Delivered, time.Hour, nil, at(time.Hour), false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m := Message{State: tt.state, Attempts: 1, Kind: tt.kind, ValidUntil: noon.Add(tt.validFor), Refused: tt.refused}
			next := Next(delivery.Queued, true, m, tt.g, noon, nil, 0)
			if !same(next.AskAt, tt.askAt) || !same(next.GiveUpAt, tt.giveUpAt) {
				t.Errorf("asked at %v, given up at %v; want %v and %v", next.AskAt, next.GiveUpAt, tt.askAt, tt.giveUpAt)
			}
		})
	}
}

func same(a, b *time.Time) bool { return a == nil && b == nil || a != nil && b != nil && a.Equal(*b) }

func TestTriesAndQueries(t *testing.T) {
	t.Parallel()
	again := Message{State: delivery.Queued, Attempts: 3}
	if wait := Next(delivery.Sending, false, again, asks, noon, nil, 0.5).DueAt.Sub(noon); wait < 3*time.Second || wait > 4*time.Second {
		t.Errorf("the fourth try waits %v, want 3 to 4 s", wait)
	}
	told := 42 * time.Second
	if wait := Next(delivery.Sending, false, again, asks, noon, &told, 0).DueAt.Sub(noon); wait != told {
		t.Errorf("told to wait 42 s, it waits %v", wait)
	}
	// What was planned while it was being sent holds when it is taken.
	soon := noon.Add(3 * time.Second)
	taken := Message{State: delivery.Accepted, Attempts: 1, Times: Times{AskAt: &soon}}
	if next := Next(delivery.Sending, false, taken, asks, noon, nil, 0); !same(next.AskAt, &soon) {
		t.Errorf("asked at %v, planned was %v", next.AskAt, soon)
	}
	end := noon.Add(time.Hour)
	var last time.Duration
	for n := range 12 {
		wait := AskAgain(Times{Asks: n, GiveUpAt: &end}, asks.AskAfter, noon, 0.3).Sub(noon)
		if wait > time.Hour || wait < last*3/4 {
			t.Errorf("query %d waits %v after %v", n, wait, last)
		}
		last = wait
	}
	if last != time.Hour {
		t.Errorf("the last query waits %v, want until the time is over", last)
	}
}
