package jq

import (
	"context"
	"errors"
	"fmt"
	"math/big"
	"sync"
	"time"
)

// Limits are what the expressions that share a meter may use.
type Limits struct {
	Time   time.Duration // by the clock, and a machine may be busy with other things
	Memory int           // octets of all values that are made, none of them given back
	Steps  int           // of work within one function, such as characters that a pattern looks at
}

// Usual is far above what any honest reply needs.
var Usual = Limits{Time: 2 * time.Second, Memory: 32 << 20, Steps: 50_000_000}

const (
	lightMemory = 1 << 20 // that everybody may use
	heavyMost   = 4       // who may use more at the same time, in the whole process
	depthMost   = 200     // of a value
)

// ErrTooMuch is the error of an expression that asked for more than it may use.
var ErrTooMuch = errors.New("it asks for more than an expression may use")

// heavy are the places of those that use more memory than everybody may. It is
// one for the whole process, because its memory is.
var heavy = make(chan struct{}, heavyMost)

// Meter counts what expressions use that run for one purpose: to read a reply,
// or to answer a request. It is for one goroutine, but for its ending.
type Meter struct {
	ctx    context.Context
	cancel context.CancelCauseFunc
	clock  *time.Timer
	began  time.Time
	used   time.Duration
	limits Limits
	memory int
	steps  int
	holds  bool // a place among the heavy

	closing sync.Once
}

// NewMeter begins to count. What runs is ended when ctx is, or when the limits
// are reached. Close it at the end.
func NewMeter(ctx context.Context, limits Limits) *Meter {
	m := &Meter{limits: limits, memory: limits.Memory, steps: limits.Steps, began: time.Now()}
	m.ctx, m.cancel = context.WithCancelCause(ctx)
	m.clock = time.AfterFunc(limits.Time, m.late)
	return m
}

func (m *Meter) late() {
	m.cancel(fmt.Errorf("took longer than %v: %w", m.limits.Time, ErrTooMuch))
}

// Close ends what still runs, and gives back what is held.
func (m *Meter) Close() {
	m.closing.Do(func() {
		m.clock.Stop()
		m.cancel(context.Canceled)
		m.leave()
	})
}

func (m *Meter) leave() {
	if m.holds {
		m.holds = false
		<-heavy
	}
}

// err is why nothing may run any more; nil if it may.
func (m *Meter) err() error {
	if m.ctx.Err() == nil {
		return nil
	}
	return context.Cause(m.ctx)
}

// spend counts memory before it is used.
func (m *Meter) spend(octets int) error {
	if err := m.err(); err != nil {
		return err
	}
	if octets < 0 || octets > m.memory {
		m.cancel(fmt.Errorf("its values are larger than %d MiB: %w", m.limits.Memory>>20, ErrTooMuch))
		return m.err()
	}
	m.memory -= octets
	if !m.holds && m.limits.Memory-m.memory > lightMemory {
		return m.queue()
	}
	return nil
}

// Rest stops the clock while something is waited for that is no expression, until
// what it returns is called. Meanwhile nothing is held that others wait for.
func (m *Meter) Rest() (resume func()) {
	if !m.clock.Stop() {
		return func() {}
	}
	m.used += time.Since(m.began)
	m.leave()
	return func() {
		m.began = time.Now()
		m.clock.Reset(max(m.limits.Time-m.used, 0))
	}
}

// queue waits for a place among those that use much.
func (m *Meter) queue() error {
	defer m.Rest()()
	select {
	case heavy <- struct{}{}:
		m.holds = true
		return nil
	case <-m.ctx.Done():
		return m.err()
	}
}

// work counts steps before they are made.
func (m *Meter) work(steps int) error {
	if steps < 0 || steps > m.steps {
		m.cancel(fmt.Errorf("it compares too much with too much: %w", ErrTooMuch))
	} else {
		m.steps -= steps
	}
	return m.err()
}

// keep counts a whole value.
func (m *Meter) keep(value any) error {
	return m.spend(size(value, m.memory, 0))
}

// size is about how many octets a value takes, counted up to a little more than
// most; of one that is nested too deep it is more than most.
func size(value any, most, depth int) int {
	if depth > depthMost {
		return most + 1
	}
	n := 32
	switch v := value.(type) {
	case string:
		n += len(v)
	case *big.Int:
		n += v.BitLen() / 8
	case []any:
		for _, item := range v {
			if n > most {
				break
			}
			n += size(item, most-n, depth+1)
		}
	case map[string]any:
		for key, item := range v {
			if n > most {
				break
			}
			n += 64 + len(key) + size(item, most-n, depth+1)
		}
	}
	return n
}
