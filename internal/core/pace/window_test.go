package pace

import (
	"math/rand/v2"
	"testing"
	"time"
)

// So many events may happen after the wait, and not before it is over.
func TestWaitForSeveral(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(3, 4))
	for range 200 {
		limit := 1 + random.IntN(20)
		w := NewWindow(limit, time.Second)
		now := time.Date(2026, 11, 15, 12, 0, 0, 0, time.UTC)
		for range random.IntN(3 * limit) {
			if n := 1 + random.IntN(3); w.Free(now, n) == n {
				w.Take(now, n)
			}
			now = now.Add(time.Duration(random.IntN(120)) * time.Millisecond)
		}
		n := 1 + random.IntN(limit)
		wait := w.WaitFor(now, n)
		if free := w.Free(now.Add(wait), n); free < n {
			t.Fatalf("after %v %d are free, want %d", wait, free, n)
		}
		if wait > 0 && w.Free(now.Add(wait-1), n) >= n {
			t.Fatalf("%d were free before %v were over", n, wait)
		}
	}
}
