package pace

import (
	"math/rand/v2"
	"testing"
	"time"
)

// However the work arrives, no span of a second holds more than the limit; and
// with work always waiting the limit is used fully.
func TestWindowNeverExceedsAndIsUsedFully(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 3))
		limit := 1 + r.IntN(30)
		w := NewWindow(limit, time.Second)
		start := time.Date(2026, 11, 15, 7, 0, 0, 0, time.UTC)
		now := start
		var events []time.Time
		for now.Before(start.Add(5 * time.Second)) {
			n := w.Free(now, 1+r.IntN(20))
			w.Take(now, n)
			for range n {
				events = append(events, now)
			}
			if n == 0 {
				now = now.Add(w.Wait(now))
			}
		}
		for i := limit; i < len(events); i++ {
			if gap := events[i].Sub(events[i-limit]); gap < time.Second {
				t.Fatalf("seed %d: events %d and %d are %v apart, limit %d a second", seed, i-limit, i, gap, limit)
			}
		}
		if want := 5 * limit; len(events) != want {
			t.Fatalf("seed %d: %d events in five seconds at %d a second, want %d", seed, len(events), limit, want)
		}
	}
}

func TestWindowWithoutLimit(t *testing.T) {
	w := NewWindow(0, time.Second)
	now := time.Now()
	w.Take(now, 1000)
	if w.Free(now, 77) != 77 || w.Wait(now) != 0 {
		t.Errorf("free %d, wait %v", w.Free(now, 77), w.Wait(now))
	}
}

func TestBackoff(t *testing.T) {
	b := Backoff{First: time.Second, Most: 10 * time.Second}
	for tries, want := range map[int]time.Duration{1: 1, 2: 2, 3: 4, 4: 8, 5: 10, 90: 10} {
		if got := b.Wait(tries, 0); got != want*time.Second {
			t.Errorf("after %d tries %v, want %v s", tries, got, want)
		}
		if got := b.Wait(tries, 0.999); got <= want*time.Second*3/4-1 || got > want*time.Second {
			t.Errorf("after %d tries, jittered, %v", tries, got)
		}
	}
}

func TestKinds(t *testing.T) {
	for i, k := range Kinds {
		if got, err := ParseKind(string(k)); err != nil || got != k || k.Lane() != i || k.Validity() <= 0 {
			t.Errorf("kind %q: %v, lane %d, validity %v", k, err, k.Lane(), k.Validity())
		}
	}
	if _, err := ParseKind("urgent"); err == nil {
		t.Error("urgent was taken for a kind")
	}
}
