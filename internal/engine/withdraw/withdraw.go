// Package withdraw takes messages back that have not gone yet.
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

// ErrGone is returned for what can no longer be withdrawn.
var ErrGone = errors.New("the message is not waiting any more")

// Withdraw withdraws a message that still waits to be sent. What a gateway may
// have already cannot be called back: [ErrGone].
func (w *Withdrawal) Withdraw(ctx context.Context, id uuid.UUID, by string) error {
	var changed []store.Message
	err := w.Store.Transact(ctx, func(s *store.Store) error {
		// While it is locked no keeper can claim it.
		m, err := s.Hold(ctx, id)
		if err != nil {
			return err
		}
		if m.State != delivery.Queued && m.State != delivery.Held {
			return fmt.Errorf("message %s is %s: %w", id, m.State, ErrGone)
		}
		if m.Known().MayHaveGone {
			return fmt.Errorf("message %s waits to go again, and may have gone already: %w", id, ErrGone)
		}
		e := course.Own(m, w.Now(), delivery.Cancelled, m.Attempts, "withdrawn with the key "+by)
		e.Source = delivery.Operator
		changed, err = w.Course.Record(ctx, s, []store.Evidence{e}, nil)
		return err
	})
	if err == nil {
		w.Course.Announce(changed)
	}
	return err
}
