// Package withdraw takes messages back that have not gone yet, and takes those
// out of the running that may have.
package withdraw

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/store"
)

// Withdrawal takes messages back.
type Withdrawal struct {
	kit.Kit
	Course *course.Course
}

var (
	// ErrGone is returned for what can no longer be withdrawn.
	ErrGone = errors.New("the message is not waiting any more")
	// ErrMayHaveGone is returned for what cannot be withdrawn because it may have
	// gone, but can be stopped.
	ErrMayHaveGone = errors.New("it may have gone already")
	// ErrNoDoubt is returned for what cannot be stopped because nothing about it
	// is in doubt.
	ErrNoDoubt = errors.New("nothing about it is in doubt")
)

// Withdraw withdraws a message that still waits to be sent. What a gateway may
// have already cannot be called back: [ErrGone], or [ErrMayHaveGone].
func (w *Withdrawal) Withdraw(ctx context.Context, id uuid.UUID, by string) error {
	return w.decide(ctx, id, func(m store.Message) (store.Evidence, error) {
		switch gone := m.Known().MayHaveGone; {
		case gone && m.State == delivery.Queued:
			return store.Evidence{}, fmt.Errorf("message %s waits to go again: %w", id, ErrMayHaveGone)
		case gone:
			return store.Evidence{}, fmt.Errorf("message %s is %s: %w", id, m.State, ErrMayHaveGone)
		case m.State != delivery.Queued && m.State != delivery.Held:
			return store.Evidence{}, fmt.Errorf("message %s is %s: %w", id, m.State, ErrGone)
		}
		return course.Own(m, w.Now(), delivery.Cancelled, m.Attempts, "withdrawn with the key "+by), nil
	})
}

// Stop takes a message out of the running that may have gone: it is not submitted
// again, and not asked about any more. What its gateway says of it later still
// counts. Where nothing is in doubt: [ErrNoDoubt].
func (w *Withdrawal) Stop(ctx context.Context, id uuid.UUID, by string) error {
	return w.decide(ctx, id, func(m store.Message) (store.Evidence, error) {
		if m.State.Final() || !m.Known().MayHaveGone {
			return store.Evidence{}, fmt.Errorf("message %s is %s: %w", id, m.State, ErrNoDoubt)
		}
		return course.Own(m, w.Now(), delivery.Unknown, m.Attempts, "not to be sent again, by decision with the key "+by), nil
	})
}

// decide records a person's decision about a message. While it is locked no
// keeper can claim it.
func (w *Withdrawal) decide(ctx context.Context, id uuid.UUID, decision func(store.Message) (store.Evidence, error)) error {
	var changed []store.Message
	err := w.Store.Transact(ctx, func(s *store.Store) error {
		m, err := s.Hold(ctx, id)
		if err != nil {
			return err
		}
		e, err := decision(m)
		if err != nil {
			return err
		}
		e.Source = delivery.Operator
		changed, err = w.Course.Record(ctx, s, []store.Evidence{e}, nil)
		return err
	})
	if err == nil {
		w.Course.Announce(changed)
	}
	return err
}
