package fleet

import (
	"container/heap"
	"context"
	"sync"
	"time"
)

// agenda runs what is due later, on a few workers. It is bounded: a gateway
// whose agenda is full takes nothing more.
type agenda struct {
	mu      sync.Mutex
	items   agendaHeap
	changed chan struct{}
	most    int
}

type agendaItem struct {
	at time.Time
	do func()
}

type agendaHeap []agendaItem

func (h agendaHeap) Len() int           { return len(h) }
func (h agendaHeap) Less(i, j int) bool { return h[i].at.Before(h[j].at) }
func (h agendaHeap) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *agendaHeap) Push(x any)        { *h = append(*h, x.(agendaItem)) }
func (h *agendaHeap) Pop() any {
	old := *h
	last := old[len(old)-1]
	*h = old[:len(old)-1]
	return last
}

func newAgenda(most int) *agenda { return &agenda{changed: make(chan struct{}, 1), most: most} }

func (a *agenda) full() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.items) >= a.most
}

// in puts something down for later.
func (a *agenda) in(wait time.Duration, do func()) {
	a.mu.Lock()
	heap.Push(&a.items, agendaItem{time.Now().Add(wait), do})
	a.mu.Unlock()
	select {
	case a.changed <- struct{}{}:
	default:
	}
}

// run does what is due until ctx ends.
func (a *agenda) run(ctx context.Context, workers int) {
	work := make(chan func())
	var all sync.WaitGroup
	for range workers {
		all.Go(func() {
			for do := range work {
				do()
			}
		})
	}
	defer all.Wait()
	defer close(work)
	for {
		wait := time.Hour
		a.mu.Lock()
		var due func()
		if len(a.items) > 0 {
			if wait = time.Until(a.items[0].at); wait <= 0 {
				due = heap.Pop(&a.items).(agendaItem).do
			}
		}
		a.mu.Unlock()
		if due != nil {
			select {
			case work <- due:
			case <-ctx.Done():
				return
			}
			continue
		}
		timer := time.NewTimer(wait)
		select {
		case <-timer.C:
		case <-a.changed:
		case <-ctx.Done():
			timer.Stop()
			return
		}
		timer.Stop()
	}
}
