package pace

import (
	"math/rand/v2"
	"testing"
	"time"
)

// Looked at in random steps, a flow lets its limit through and spreads it: no
// tenth of a second holds more than two tenths' worth and one.
func TestFlowSpreadsItsLimit(t *testing.T) {
	t.Parallel()
	for _, limit := range []int{1, 10, 500, 2000} {
		r := rand.New(rand.NewPCG(uint64(limit), 3))
		f := NewFlow(limit, 1, time.Second)
		start := time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)
		now := start
		type event struct {
			at time.Time
			n  int
		}
		var events []event
		went := 0
		for now.Sub(start) < 20*time.Second {
			if n := f.Free(now, 1+r.IntN(50)); n > 0 {
				f.Take(now, n)
				events = append(events, event{now, n})
				went += n
			}
			now = now.Add(time.Duration(r.IntN(20)) * time.Millisecond)
		}
		if most := limit*20 + 1; went > most+limit/10 || went < most*98/100-1 {
			t.Errorf("at %d a second %d went in 20 s", limit, went)
		}
		for i := range events {
			n := 0
			for _, e := range events[i:] {
				if e.at.Sub(events[i].at) >= 100*time.Millisecond {
					break
				}
				n += e.n
			}
			if n > limit/5+3 {
				t.Fatalf("at %d a second %d went within a tenth of one", limit, n)
			}
		}
	}
}

// What is urgent may overdraw; the rest makes up for it.
func TestFlowMakesUpForWhatIsUrgent(t *testing.T) {
	t.Parallel()
	f := NewFlow(10, 1, time.Second)
	at := time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)
	f.Take(at, 5)
	if wait := f.Wait(at); wait != 500*time.Millisecond {
		t.Errorf("after five at once the next waits %v", wait)
	}
	if n := f.Free(at.Add(300*time.Millisecond), 9); n != 0 {
		t.Errorf("%d may go before that", n)
	}
	if none := NewFlow(0, 1, time.Second); none.Free(at, 7) != 7 || none.Wait(at) != 0 {
		t.Error("without a limit it holds up")
	}
}

// Where many go in one request, they go in portions that fill it.
func TestFlowGoesInPortions(t *testing.T) {
	t.Parallel()
	f := NewFlow(200, 1000, time.Second)
	at := time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)
	var sizes []int
	for range 2000 {
		if n := f.Free(at, 1000); n > 0 {
			f.Take(at, n)
			sizes = append(sizes, n)
		}
		at = at.Add(time.Millisecond)
	}
	for _, n := range sizes {
		if n < 50 || n > 52 {
			t.Errorf("portions of %v, want 50 each", sizes)
			break
		}
	}
}
