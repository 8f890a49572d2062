package store

import (
	"context"
	"errors"
	"time"
)

// ErrBusy is returned when too many callers are waiting already.
var ErrBusy = errors.New("too much at once")

// Gather makes sets of what many callers bring one by one: while one set is
// being written the next one collects, so that under load a statement carries
// hundreds of rows, and a single row does not wait.
type Gather[T, R any] struct {
	calls chan call[T, R]
	most  int
	write func(context.Context, []T) ([]R, error)
}

type call[T, R any] struct {
	item T
	done chan result[R]
}

type result[R any] struct {
	value R
	err   error
}

// NewGather makes a gatherer that writes at most so many items a set. Run must
// be running for Do to return.
func NewGather[T, R any](most int, write func(context.Context, []T) ([]R, error)) *Gather[T, R] {
	return &Gather[T, R]{calls: make(chan call[T, R], 4*most), most: most, write: write}
}

// Do brings one item and waits until its set is written. When ctx ends first
// the item may be written all the same. When the queue is full it waits at
// most until ctx ends, a second at most, and returns [ErrBusy].
func (g *Gather[T, R]) Do(ctx context.Context, item T) (R, error) {
	var none R
	c := call[T, R]{item, make(chan result[R], 1)}
	full := time.NewTimer(time.Second)
	defer full.Stop()
	select {
	case g.calls <- c:
	case <-ctx.Done():
		return none, ctx.Err()
	case <-full.C:
		return none, ErrBusy
	}
	select {
	case r := <-c.done:
		return r.value, r.err
	case <-ctx.Done():
		return none, ctx.Err()
	}
}

// Run writes sets until ctx ends, then what has been brought by then.
func (g *Gather[T, R]) Run(ctx context.Context) {
	for {
		select {
		case first := <-g.calls:
			g.flush(first)
		case <-ctx.Done():
			for {
				select {
				case first := <-g.calls:
					g.flush(first)
				default:
					return
				}
			}
		}
	}
}

func (g *Gather[T, R]) flush(first call[T, R]) {
	set := []call[T, R]{first}
	for len(set) < g.most {
		select {
		case next := <-g.calls:
			set = append(set, next)
			continue
		default:
		}
		break
	}
	g.settle(set)
}

// settle writes a set. When the database refuses a set, one item spoils it for
// the others, and each is written by itself.
func (g *Gather[T, R]) settle(set []call[T, R]) {
	items := make([]T, len(set))
	for i, c := range set {
		items[i] = c.item
	}
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	values, err := g.write(ctx, items)
	cancel()
	if err != nil && len(set) > 1 && Refused(err) {
		for _, c := range set {
			g.settle([]call[T, R]{c})
		}
		return
	}
	for i, c := range set {
		r := result[R]{err: err}
		if err == nil {
			r.value = values[i]
		}
		c.done <- r
	}
}
