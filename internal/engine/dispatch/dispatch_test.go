package dispatch

import (
	"log/slog"
	"testing"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

func TestUnderstand(t *testing.T) {
	read := func(item dialect.Item) dialect.Reading {
		return dialect.Reading{Meaning: dialect.Read, Items: []dialect.Item{item}}
	}
	for name, tt := range map[string]struct {
		reading dialect.Reading
		source  delivery.Source
		claim   delivery.State
		cause   delivery.Cause
		wait    time.Duration
	}{
		"taken":                       {read(dialect.Item{GatewayRef: "h-1", State: delivery.Accepted}), delivery.Reply, delivery.Accepted, "", 0},
		"refused for good":            {read(dialect.Item{State: delivery.Rejected, Cause: delivery.ContentRefused}), delivery.Reply, delivery.Rejected, delivery.ContentRefused, 0},
		"read, but it claims nothing": {read(dialect.Item{Code: "ADRIFT"}), delivery.Own, delivery.Doubtful, "", 0},
		"cannot be read":              {dialect.Reading{Note: "no rule"}, delivery.Own, delivery.Doubtful, "", 0},
		"no such message, it says":    {dialect.Reading{Meaning: dialect.Absent}, delivery.Own, delivery.Doubtful, "", 0},
		"slower, please":              {dialect.Reading{Meaning: dialect.NotTaken, Cause: delivery.Limited, RetryAfter: 3 * time.Second}, delivery.Reply, delivery.Queued, delivery.Limited, 3 * time.Second},
		"the key is not accepted":     {dialect.Reading{Meaning: dialect.NotTaken, Cause: delivery.CredentialsRefused}, delivery.Reply, delivery.Queued, delivery.CredentialsRefused, 0},
	} {
		e, wait := understand(store.Message{}, 2, time.Now(), tt.reading)
		given := time.Duration(0)
		if wait != nil {
			given = *wait
		}
		if e.Source != tt.source || e.Claim != tt.claim || e.Cause != tt.cause || e.Attempt != 2 || given != tt.wait {
			t.Errorf("%s: %+v, wait %v", name, e, given)
		}
		if e.Claim == delivery.Doubtful && e.Note == "" && e.Code == "" {
			t.Errorf("%s: doubtful, and it does not say why", name)
		}
	}
}

func result1(claim delivery.State, wait *time.Duration) result {
	return result{evidence: store.Evidence{Claim: claim}, wait: wait}
}

// A gateway that keeps failing rests, is probed with one message, and is used
// fully again once that succeeds.
func TestGatewayRestsAndIsProbed(t *testing.T) {
	d := &Dispatch{Log: discard}
	k := newKeeper(d, &roster.Gateway{Gateway: store.Gateway{PerSecond: 100, InFlight: 8}}, watch.NewKick())
	for range faultsBeforeRest - 1 {
		k.learn(result1(delivery.Doubtful, nil))
	}
	if n, _ := k.free(); n != 8 {
		t.Errorf("after a few faults %d may go, want 8", n)
	}
	k.learn(result1(delivery.Queued, nil))
	if n, wait := k.free(); n != 0 || wait <= 0 || wait > time.Second {
		t.Errorf("it rests, and %d may go after %v", n, wait)
	}
	k.restUntil = time.Now().Add(-time.Millisecond) // the rest is over
	if n, _ := k.free(); n != 1 {
		t.Errorf("it is probed with %d", n)
	}
	k.slots <- struct{}{}
	if n, _ := k.free(); n != 0 {
		t.Errorf("while the probe is out %d more may go", n)
	}
	<-k.slots
	k.learn(result1(delivery.Queued, nil))
	if _, wait := k.free(); wait <= time.Second {
		t.Errorf("after a failed probe it rests for %v, want longer than before", wait)
	}
	k.restUntil = time.Now().Add(-time.Millisecond)
	k.learn(result1(delivery.Accepted, nil))
	if n, _ := k.free(); n != 8 {
		t.Errorf("after a good probe %d may go, want 8", n)
	}
	asked := 400 * time.Millisecond
	k.learn(result1(delivery.Queued, &asked))
	if n, wait := k.free(); n != 0 || wait > asked {
		t.Errorf("asked to wait %v, %d may go after %v", asked, n, wait)
	}
}

func TestKeeperHoldsOnlyWhileTheLeaseSurelyLasts(t *testing.T) {
	k := newKeeper(&Dispatch{Lease: time.Hour}, &roster.Gateway{Gateway: store.Gateway{InFlight: 1}}, watch.NewKick())
	if k.holds() {
		t.Error("it holds a lease that it never took")
	}
	k.until.Store(int64(time.Since(k.began) + time.Hour))
	if !k.holds() {
		t.Error("it does not hold a lease of an hour")
	}
	k.until.Store(int64(time.Since(k.began)))
	if k.holds() {
		t.Error("it holds a lease that is over")
	}
}

var discard = slog.New(slog.DiscardHandler)
