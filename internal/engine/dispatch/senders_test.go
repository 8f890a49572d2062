package dispatch

import (
	"sync"
	"sync/atomic"
	"testing"
)

// No request waits for another one, and all have run at the end.
func TestSenders(t *testing.T) {
	t.Parallel()

	s := newSenders()
	for range 3 {
		var began, ended sync.WaitGroup
		for range 50 { // each ends only when all have begun
			began.Add(1)
			ended.Add(1)
			s.Go(func() {
				defer ended.Done()
				began.Done()
				began.Wait()
			})
		}
		ended.Wait()
	}
	var ran atomic.Int32
	for range 200 {
		s.Go(func() { ran.Add(1) })
	}
	s.Wait()
	if n := ran.Load(); n != 200 {
		t.Errorf("%d of 200 ran", n)
	}
}
