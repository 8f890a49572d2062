package dispatch

import (
	"context"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/gate"
	"calmpigeon.example/internal/store"
)

// within reports whether a function is being run by this goroutine.
func within(function string) bool {
	callers := make([]uintptr, 50)
	frames := runtime.CallersFrames(callers[:runtime.Callers(1, callers)])
	for {
		frame, more := frames.Next()
		if strings.HasSuffix(frame.Function, function) {
			return true
		}
		if !more {
			return false
		}
	}
}

// When something panics while a message is sent, that message becomes doubtful, and the others go: the keeping begins again.
func TestASendThatPanicsHoldsUpNoOther(t *testing.T) {
	t.Parallel()
	l := &ledger{taken: map[string]int{}}
	var left atomic.Int32
	closing := &gate.Gate{Rewound: func() bool {
		if within("keeper).tryToLeave") && left.Add(1) == 5 {
			panic("a gate that breaks")
		}
		return false
	}}
	r := runsOn(t, l, plainly, 500, func(d *Dispatch) { d.Gate = closing })
	all := r.accept(t, 40, pace.Bulk)
	until(t, "all but one are accepted", func() bool { return r.states(t, all)[delivery.Accepted] == len(all)-1 })
	until(t, "that one is doubtful", func() bool { return r.states(t, all)[delivery.Doubtful] == 1 })
	until(t, "the gateway is kept again", func() bool { return r.Keeps(r.g.ID) })
	more := r.accept(t, 5, pace.OTP)
	until(t, "others go", func() bool { return r.states(t, more)[delivery.Accepted] == len(more) })
}

// breaking are rows of batches that break once.
type breaking struct{ asked atomic.Int32 }

func (b *breaking) Ready(uuid.UUID) (lines, queued int) {
	if b.asked.Add(1) == 3 {
		panic("rows that break")
	}
	return 0, 0
}

func (b *breaking) Draw(context.Context, *store.Store, uuid.UUID, int, int, func(store.Message) bool) (Drawn, error) {
	return Drawn{}, nil
}

func (b *breaking) Failed(uuid.UUID) {}

// A keeper that panics is replaced, and what it had claimed goes or is in doubt.
func TestAKeeperThatPanicsIsReplaced(t *testing.T) {
	t.Parallel()
	l := &ledger{taken: map[string]int{}}
	rows := &breaking{}
	r := runsOn(t, l, plainly, 500, func(d *Dispatch) { d.Rows = rows })
	all := r.accept(t, 40, pace.Bulk)
	until(t, "all have an outcome", func() bool {
		counts := r.states(t, all)
		return counts[delivery.Accepted]+counts[delivery.Doubtful] == len(all)
	})
	more := r.accept(t, 5, pace.Bulk)
	until(t, "others go", func() bool { return r.states(t, more)[delivery.Accepted] == len(more) })
	if rows.asked.Load() < 3 {
		t.Error("nothing broke")
	}
}
