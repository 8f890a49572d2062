// Package hold lets messages go that waited for their time, and changes that time.
package hold

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

// Hold looks after messages that wait for their time.
type Hold struct {
	kit.Kit
	Course *course.Course

	due watch.Kick
}

// New makes it ready.
func New(k kit.Kit, c *course.Course) *Hold { return &Hold{k, c, watch.NewKick()} }

// ErrNotHeld is returned for a message that does not wait for a time.
var ErrNotHeld = errors.New("it does not wait for a time")

const (
	// releaseMost is how many messages are let go in one transaction.
	releaseMost = 1000
	// holdMost is how far ahead a message may be held.
	holdMost = 30 * 24 * time.Hour
)

// Wake lets it look whether the time of messages has come.
func (h *Hold) Wake(held bool) {
	if held {
		h.due.Now()
	}
}

// Run lets messages go until ctx ends.
func (h *Hold) Run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-h.due:
		}
		for more := true; more && ctx.Err() == nil && h.Gate.Open(); {
			var err error
			if more, err = h.release(ctx); err != nil && ctx.Err() == nil {
				h.Log.Error("letting messages go", "error", err)
				break
			}
		}
	}
}

func (h *Hold) release(ctx context.Context) (more bool, err error) {
	var changed []store.Message
	err = h.Store.Transact(ctx, func(s *store.Store) error {
		now := h.Now()
		due, err := s.Due(ctx, now, releaseMost)
		if err != nil {
			return err
		}
		more = len(due) == releaseMost
		steps := course.Steps{}
		var evidence []store.Evidence
		for _, m := range due {
			evidence = append(evidence, course.ByClock(m, now, delivery.Queued, "", "its time has come"))
			steps[m.ID] = course.Step{Wait: new(time.Duration)}
		}
		changed, err = h.Course.Record(ctx, s, evidence, steps, due...)
		return err
	})
	if err == nil {
		h.Course.Announce(changed)
	}
	return more, err
}

// Until changes until when a message is held. A time that is over lets it go.
func (h *Hold) Until(ctx context.Context, id uuid.UUID, at time.Time, by string) error {
	now := h.Now()
	if at.After(now.Add(holdMost)) {
		return fault.New("send_at", at.Format(time.RFC3339)+" is too far ahead", "a time within the next 30 days")
	}
	if at.Before(now) {
		at = now
	}
	err := h.Store.Transact(ctx, func(s *store.Store) error {
		m, err := s.Hold(ctx, id)
		if err != nil {
			return err
		}
		if m.State != delivery.Held {
			return fmt.Errorf("message %s is %s: %w", id, m.State, ErrNotHeld)
		}
		if err := s.HoldUntil(ctx, m, at); err != nil {
			return err
		}
		e := course.Own(
			m,
			now,
			delivery.Held,
			0,
			fmt.Sprintf("held until %s, as was asked for with the key %s", at.UTC().Format(time.RFC3339), by),
		)
		e.Source = delivery.Operator
		_, err = h.Course.Record(ctx, s, []store.Evidence{e}, nil)
		return err
	})
	if err == nil {
		h.due.Now()
		h.Hub.Changed(id)
	}
	return err
}
