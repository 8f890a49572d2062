package pace

import (
	"math/rand/v2"
	"slices"
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

func TestWindowWithAnotherLimit(t *testing.T) {
	now := time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)
	w := NewWindow(3, time.Second)
	w.Take(now, 2)
	w.Take(now.Add(500*time.Millisecond), 1)
	at := now.Add(600 * time.Millisecond)
	for _, step := range []struct{ limit, free, used int }{{5, 2, 3}, {3, 0, 3}, {2, 0, 2}, {1, 0, 1}, {4, 3, 1}} {
		w.Limit(step.limit)
		if free, used := w.Free(at, 9), w.Used(at); free != step.free || used != step.used {
			t.Errorf("with a limit of %d, %d are free and %d used; want %d and %d", step.limit, free, used, step.free, step.used)
		}
	}
	if wait := w.Wait(now.Add(time.Hour)); wait != 0 || w.Used(now.Add(time.Hour)) != 0 {
		t.Errorf("an hour later one waits %v", wait)
	}
}

func TestEaseHalvesAndRecovers(t *testing.T) {
	now := time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)
	var e Ease
	share := func(after time.Duration, want float64) {
		t.Helper()
		if got := e.Share(now.Add(after)); got < want-1e-9 || got > want+1e-9 {
			t.Errorf("after %v the share is %v, want %v", after, got, want)
		}
	}
	share(0, 1)
	e.Slow(now)
	e.Slow(now.Add(10 * time.Millisecond)) // the same asking
	share(0, .5)
	share(5*time.Second, .75)
	share(time.Minute, 1)
	e.Slow(now.Add(5 * time.Second))
	share(5*time.Second, .375)
	for i := range 100 {
		e.Slow(now.Add(time.Duration(i) * 1100 * time.Millisecond))
	}
	if got := e.Share(now.Add(99 * 1100 * time.Millisecond)); got <= 0 || got > .2 {
		t.Errorf("asked again and again, the share is %v", got)
	}
}

// What left later than it was recorded for counts from when it left, and in no
// span do more leave than the limit, whatever the delays.
func TestWindowHoldsForWhatLeavesLate(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(4, 4))
	w := NewWindow(20, time.Second)
	now := time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)
	type late struct {
		ticket *Ticket
		at     time.Time
	}
	var pending []late
	var left []time.Time
	for range 20000 {
		now = now.Add(time.Duration(r.IntN(8)) * time.Millisecond)
		rest := pending[:0]
		for _, l := range pending {
			if l.at.After(now) {
				rest = append(rest, l)
				continue
			}
			w.Amend(l.ticket, l.at)
		}
		pending = rest
		if n := w.Free(now, 1+r.IntN(3)); n > 0 {
			at := now.Add(time.Duration(r.IntN(60)) * time.Millisecond)
			pending = append(pending, late{w.Take(now, n), at})
			for range n {
				left = append(left, at)
			}
		}
	}
	slices.SortFunc(left, time.Time.Compare)
	for i := range left {
		if j := i + 20; j < len(left) && left[j].Sub(left[i]) < time.Second {
			t.Fatalf("21 left within %v", left[j].Sub(left[i]))
		}
	}
}
