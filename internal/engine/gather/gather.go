// Package gather makes sets of what many callers bring one by one.
package gather

import (
	"context"
	"errors"
	"time"

	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/store"
)

// ErrBusy is returned when too many callers are waiting already.
var ErrBusy = errors.New("too much at once")

// Gather makes sets of what many callers bring one by one: while one set is
// being written the next one collects, so that under load a statement carries
// hundreds of rows, and a single row does not wait.
type Gather[T, R any] struct {
	calls  chan call[T, R]
	many   chan struct{} // so many calls wait that a set can be written before its time
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
	// Overlap is how many items must wait for a second set to be written while one is being
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
	return &Gather[T, R]{
		calls: make(chan call[T, R], 4*limits.Rows), many: make(chan struct{}, 1),
		limits: limits, size: size, write: write,
	}
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
	if len(g.calls) >= g.early() {
		select {
		case g.many <- struct{}{}:
		default:
		}
	}
	select {
	case r := <-c.done:
		return r.value, r.err
	case <-ctx.Done():
		return none, ctx.Err()
	}
}

// early is how many calls must wait for a set to be written before its time.
func (g *Gather[T, R]) early() int {
	if g.limits.Overlap > 0 {
		return g.limits.Overlap
	}
	return g.limits.Rows
}

// Run writes sets until ctx ends, then what has been brought by then. While it cannot write what
// comes it takes none of it, so that not every call wakes it.
func (g *Gather[T, R]) Run(ctx context.Context) {
	most := 1 // sets at once
	if g.limits.Overlap > 0 {
		most = 2
	}
	// Goroutines that stay have the stack that writing needs.
	write, written := make(chan []call[T, R]), make(chan struct{})
	defer close(write)
	for range most {
		go func() {
			for calls := range write {
				g.settle(calls)
				written <- struct{}{}
			}
		}()
	}
	writing, several := 0, false
	var left *call[T, R] // did not fit into the last set
	for {
		if writing == most || writing > 0 && len(g.calls) < g.limits.Overlap {
			select {
			case <-written:
				writing--
			case <-g.many:
			}
			continue
		}
		first, ok := g.first(ctx, left)
		if !ok {
			return // only where nothing is being written
		}
		var set []call[T, R]
		set, left = g.collect(first, several && writing == 0 && ctx.Err() == nil)
		several = len(set) > 1
		writing++
		write <- set
	}
}

// first waits for the first call of a set; false if ctx has ended and there is none.
func (g *Gather[T, R]) first(ctx context.Context, left *call[T, R]) (first call[T, R], ok bool) {
	if left != nil {
		return *left, true
	}
	select {
	case first = <-g.calls:
		return first, true
	case <-ctx.Done():
	}
	select {
	case first = <-g.calls:
		return first, true
	default:
		return first, false
	}
}

// collect makes a set of what is there, and of what comes while it lingers.
func (g *Gather[T, R]) collect(first call[T, R], linger bool) (set []call[T, R], left *call[T, R]) {
	if linger && g.limits.Linger > 0 {
		over := time.NewTimer(g.limits.Linger)
		for waiting := true; waiting && len(g.calls) < g.limits.Rows; {
			select {
			case <-over.C:
				waiting = false
			case <-g.many:
			}
		}
		over.Stop()
	}
	set = []call[T, R]{first}
	rows, bytes := g.size(first.item)
	for rows < g.limits.Rows {
		select {
		case next := <-g.calls:
			r, b := g.size(next.item)
			if rows+r > g.limits.Rows || g.limits.Bytes > 0 && bytes+b > g.limits.Bytes {
				return set, &next
			}
			rows, bytes = rows+r, bytes+b
			set = append(set, next)
		default:
			return set, nil
		}
	}
	return set, nil
}

// Hopeless reports whether an item cannot be written, however often it is brought: the database refuses it,
// or writing it panics.
func Hopeless(err error) bool {
	panicked := (*guard.PanicError)(nil)
	return store.Refused(err) || errors.As(err, &panicked)
}

// guarded writes a set, and survives what it is made of.
func (g *Gather[T, R]) guarded(ctx context.Context, items []T) (values []R, err error) {
	err = guard.Try(func() (err error) {
		values, err = g.write(ctx, items)
		return err
	})
	return values, err
}

// settle writes a set. When the database refuses it, or writing it panics, one item spoils it for the
// others: it is halved until that one stands alone.
func (g *Gather[T, R]) settle(set []call[T, R]) {
	items := make([]T, len(set))
	for i, c := range set {
		items[i] = c.item
	}
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	values, err := g.guarded(ctx, items)
	cancel()
	if err != nil && len(set) > 1 && Hopeless(err) {
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
