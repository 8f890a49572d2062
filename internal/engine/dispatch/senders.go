package dispatch

import (
	"sync"
	"time"
)

// sendersStay is how long a goroutine waits for its next request.
const sendersStay = time.Second

// senders runs requests, each on a goroutine of its own. The goroutines stay for a while: a request
// needs a deep stack, and a new goroutine would grow its stack anew each time.
type senders struct {
	running sync.WaitGroup
	next    chan func()
}

func newSenders() *senders { return &senders{next: make(chan func())} }

// Go runs do at once. Do not call it after [senders.Wait].
func (s *senders) Go(do func()) {
	s.running.Add(1)
	select {
	case s.next <- do:
	default:
		go s.run(do)
	}
}

func (s *senders) run(do func()) {
	stay := time.NewTimer(sendersStay)
	defer stay.Stop()
	for do != nil {
		do()
		s.running.Done()
		stay.Reset(sendersStay)
		select {
		case do = <-s.next: // nil: it is closed
		case <-stay.C:
			return
		}
	}
}

// Wait returns when all has run, and ends the goroutines.
func (s *senders) Wait() {
	s.running.Wait()
	close(s.next)
}
