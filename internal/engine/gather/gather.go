// Package gather makes sets of what many callers bring one by one.
package gather

import (
	"context"
	"errors"
	"time"

	"calmpigeon.example/internal/store"
)

// ErrBusy is returned when too many callers are waiting already.
var ErrBusy = errors.New("too much at once")

// Gather makes sets of what many callers bring one by one: while one set is
// being written the next one collects, so that under load a statement carries
// hundreds of rows, and a single row does not wait.
type Gather[T, R any] struct {
	calls  chan call[T, R]
	limits Limits
	size   func(T) (rows, bytes int)
	write  func(context.Context, []T) ([]R, error)
}

// Limits bound a set. Whatever comes alone is written, however large.
type Limits struct {
	Rows, Bytes int
	// Linger is how long a set collects when the one before was no single item:
	// where much comes, larger sets make more of it possible.
	Linger time.Duration
	// Overlap is how many rows a set must have to be written while another set is being
	// written; 0 means that sets are written one after the other. Never more than two are
	// written at once.
	Overlap int
}

type call[T, R any] struct {
	item T
	done chan result[R]
}

type result[R any] struct {
	value R
	err   error
}

// New makes a gatherer. size is how many rows and bytes an item comes to; nil
// stands for one row. Run must be running for Do to return.
func New[T, R any](limits Limits, size func(T) (rows, bytes int), write func(context.Context, []T) ([]R, error)) *Gather[T, R] {
	if size == nil {
		size = func(T) (int, int) { return 1, 0 }
	}
	return &Gather[T, R]{calls: make(chan call[T, R], 4*limits.Rows), limits: limits, size: size, write: write}
}

// Do brings one item and waits until its set is written. When ctx ends first
// the item may be written all the same. When the queue is full it waits at
// most until ctx ends, a second at most, and returns [ErrBusy].
func (g *Gather[T, R]) Do(ctx context.Context, item T) (R, error) {
	var none R
	c := call[T, R]{item, make(chan result[R], 1)}
	select {
	case g.calls <- c:
	default:
		full := time.NewTimer(time.Second)
		defer full.Stop()
		select {
		case g.calls <- c:
		case <-ctx.Done():
			return none, ctx.Err()
		case <-full.C:
			return none, ErrBusy
		}
	}
	select {
	case r := <-c.done:
		return r.value, r.err
	case <-ctx.Done():
		return none, ctx.Err()
	}
}

// set is what is written together.
type set[T, R any] struct {
	calls       []call[T, R]
	rows, bytes int
	left        *call[T, R]      // the first call that does not fit
	lingers     bool             // it collects for a while
	linger      <-chan time.Time // nil when it does not, or no longer
}

// Run writes sets until ctx ends, then what has been brought by then.
func (g *Gather[T, R]) Run(ctx context.Context) {
	var next set[T, R]
	// Goroutines that stay have the stack that writing needs.
	write, written := make(chan []call[T, R]), make(chan struct{})
	defer close(write)
	for range g.writers() {
		go func() {
			for calls := range write {
				g.settle(calls)
				written <- struct{}{}
			}
		}()
	}
	writing := 0
	done := ctx.Done() // nil once it has ended
	for {
		g.fill(&next)
		if len(next.calls) == 0 && writing == 0 && done == nil {
			return
		}
		if g.mayWrite(&next, writing) {
			writing++
			write <- next.calls
			left := next.left
			next = set[T, R]{lingers: len(next.calls) > 1 && g.limits.Linger > 0}
			if left != nil {
				g.add(&next, *left)
			}
			continue
		}
		calls := g.calls
		if g.full(&next) {
			calls = nil
		}
		select {
		case c := <-calls:
			g.add(&next, c)
		case <-next.linger:
			next.linger = nil
		case <-written:
			writing--
		case <-done:
			done = nil
		}
	}
}

// writers is how many sets may be written at once.
func (g *Gather[T, R]) writers() int {
	if g.limits.Overlap > 0 {
		return 2
	}
	return 1
}

// mayWrite reports whether a set is to be written while so many others are.
func (g *Gather[T, R]) mayWrite(s *set[T, R], writing int) bool {
	if len(s.calls) == 0 || s.linger != nil && !g.full(s) {
		return false
	}
	return writing == 0 || writing < g.writers() && (g.full(s) || s.rows >= g.limits.Overlap)
}

func (g *Gather[T, R]) full(s *set[T, R]) bool { return s.left != nil || s.rows >= g.limits.Rows }

// fill adds what has been brought already.
func (g *Gather[T, R]) fill(s *set[T, R]) {
	for !g.full(s) {
		select {
		case c := <-g.calls:
			g.add(s, c)
		default:
			return
		}
	}
}

func (g *Gather[T, R]) add(s *set[T, R], c call[T, R]) {
	rows, bytes := g.size(c.item)
	if len(s.calls) > 0 && (s.rows+rows > g.limits.Rows || g.limits.Bytes > 0 && s.bytes+bytes > g.limits.Bytes) {
		s.left = &c
		return
	}
	if len(s.calls) == 0 && s.lingers {
		s.linger = time.After(g.limits.Linger)
	}
	s.calls, s.rows, s.bytes = append(s.calls, c), s.rows+rows, s.bytes+bytes
}

// settle writes a set. When the database refuses it, one item spoils it for the
// others: it is halved until that one stands alone.
func (g *Gather[T, R]) settle(set []call[T, R]) {
	items := make([]T, len(set))
	for i, c := range set {
		items[i] = c.item
	}
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	values, err := g.write(ctx, items)
	cancel()
	if err != nil && len(set) > 1 && store.Refused(err) {
		g.settle(set[:len(set)/2])
		g.settle(set[len(set)/2:])
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
