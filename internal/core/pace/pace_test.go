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
	for _, step := range []struct{ limit, free, used int }{{5, 2, 3}, {3, 0, 3}, {2, 0, 3}, {1, 0, 3}, {4, 1, 3}} {
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

// Whenever events happen between when they leave and when that is known, however late
// that is and in whatever order, no span holds more than the limit, also while the limit
// changes; and as long as it is known at once the limit is used.
func TestWindowHoldsForWhatArrivesLate(t *testing.T) {
	t.Parallel()
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 4))
		limit := 20
		w := NewWindow(limit, time.Second)
		start := time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)
		now := start
		type late struct {
			ticket *Ticket
			known  time.Time
		}
		var pending []late
		var arrived []time.Time
		longest := []int{2, 60, 400, 3000}[seed%4] // milliseconds
		for range 20000 {
			now = now.Add(time.Duration(r.IntN(8)) * time.Millisecond)
			pending = slices.DeleteFunc(pending, func(l late) bool {
				if l.known.After(now) {
					return false
				}
				w.Arrived(l.ticket, l.known)
				w.Arrived(l.ticket, l.known.Add(time.Second)) // it is told once more, and later
				return true
			})
			if seed%2 == 1 && r.IntN(500) == 0 {
				w.Limit(1 + r.IntN(limit))
			}
			if n := w.Free(now, 1+r.IntN(3)); n > 0 {
				known := now.Add(time.Duration(r.IntN(longest)) * time.Millisecond)
				pending = append(pending, late{w.Leave(now, n), known})
				for range n {
					arrived = append(arrived, now.Add(time.Duration(r.Int64N(int64(known.Sub(now))+1))))
				}
			}
		}
		slices.SortFunc(arrived, time.Time.Compare)
		for i := range arrived {
			if j := i + limit; j < len(arrived) && arrived[j].Sub(arrived[i]) < time.Second {
				t.Fatalf("seed %d: %d arrived within %v", seed, limit+1, arrived[j].Sub(arrived[i]))
			}
		}
		if took := now.Sub(start).Seconds(); longest == 2 && seed%2 == 0 && float64(len(arrived)) < 0.97*took*float64(limit) {
			t.Errorf("seed %d: %d arrived in %.0f s at %d a second", seed, len(arrived), took, limit)
		}
	}
}

// It is empty a span after the last event, and never while one may still happen.
func TestWindowIsEmpty(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)
	w := NewWindow(5, time.Second)
	if left := w.Empty(now); left != 0 {
		t.Errorf("at first it is empty after %v", left)
	}
	w.Take(now, 2)
	ticket := w.Leave(now.Add(100*time.Millisecond), 1)
	if left := w.Empty(now.Add(10 * time.Second)); left != time.Second {
		t.Errorf("while one may still happen it is empty after %v", left)
	}
	w.Arrived(ticket, now.Add(300*time.Millisecond))
	if left := w.Empty(now.Add(400 * time.Millisecond)); left != 900*time.Millisecond {
		t.Errorf("a moment later it is empty after %v", left)
	}
}
