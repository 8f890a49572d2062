package dispatch

import (
	"context"
	"sync"
	"time"
)

// A process that stands still, as it is frozen or gets no processor, sees requests time out that a
// gateway answered long ago. That is no fault of the gateway.

const (
	stallTick = 250 * time.Millisecond
	// stallLeast is how much later than it should a tick comes after a stall.
	stallLeast = 400 * time.Millisecond
)

// stalls notices when the process stood still.
type stalls struct {
	mu    sync.Mutex
	tick  time.Time // the last
	ended time.Time // the last stall
}

// run notices stalls until ctx ends.
func (s *stalls) run(ctx context.Context) {
	tick := time.NewTicker(stallTick)
	defer tick.Stop()
	for {
		s.note(time.Now())
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (s *stalls) note(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.tick.IsZero() && now.Sub(s.tick) > stallTick+stallLeast {
		s.ended = now
	}
	s.tick = now
}

// since reports whether the process stood still between a moment and now.
func (s *stalls) since(at, now time.Time) bool {
	s.note(now) // whoever asks may be awake before the ticker is
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ended.After(at)
}
