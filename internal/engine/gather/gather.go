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

// Run writes sets until ctx ends, then what has been brought by then.
func (g *Gather[T, R]) Run(ctx context.Context) {
	var left *call[T, R] // did not fit into the last set
	several := false
	for {
		var first call[T, R]
		switch {
		case left != nil:
			first = *left
		default:
			select {
			case first = <-g.calls:
			case <-ctx.Done():
				select {
				case first = <-g.calls:
				default:
					return
				}
			}
		}
		var set []call[T, R]
		set, left = g.collect(first, several && ctx.Err() == nil)
		several = len(set) > 1
		g.settle(set)
	}
}

// collect makes a set of what is there, and of what comes while it lingers.
func (g *Gather[T, R]) collect(first call[T, R], linger bool) (set []call[T, R], left *call[T, R]) {
	set = []call[T, R]{first}
	rows, bytes := g.size(first.item)
	var over <-chan time.Time
	if linger && g.limits.Linger > 0 {
		t := time.NewTimer(g.limits.Linger)
		defer t.Stop()
		over = t.C
	}
	for rows < g.limits.Rows {
		var next call[T, R]
		select {
		case next = <-g.calls:
		default:
			if over == nil {
				return set, nil
			}
			select {
			case next = <-g.calls:
			case <-over:
				over = nil
				continue
			}
		}
		r, b := g.size(next.item)
		if rows+r > g.limits.Rows || g.limits.Bytes > 0 && bytes+b > g.limits.Bytes {
			return set, &next
		}
		rows, bytes = rows+r, bytes+b
		set = append(set, next)
	}
	return set, nil
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
