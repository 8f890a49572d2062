package receipts

import (
	"context"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/store"
)

const (
	// strayEnd is how long the message of a stray is looked for.
	strayEnd = 72 * time.Hour
	// strayPause is the longest pause between two looks.
	strayPause = 10 * time.Minute
)

// lookForStrays settles strays, whenever there are some, until ctx ends.
func (r *Receipts) lookForStrays(ctx context.Context) {
	said := time.Time{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-r.look:
		}
		for more := true; more && ctx.Err() == nil; {
			var err error
			if more, err = r.settleStrays(ctx); err != nil {
				if ctx.Err() == nil && time.Since(said) > 10*time.Second {
					said = time.Now()
					r.Log.Error("settling strays", "error", err)
				}
				break
			}
		}
	}
}

// settleStrays looks for the messages of strays whose time to look has come, in
// all months that there are.
func (r *Receipts) settleStrays(ctx context.Context) (more bool, err error) {
	var changed []store.Message
	err = r.Store.Transact(ctx, func(s *store.Store) error {
		now := r.Now()
		taken, err := s.TakeStrays(ctx, now, settleMost)
		if err != nil || len(taken) == 0 {
			return err
		}
		more = len(taken) == settleMost
		matched, err := s.Match(ctx, taken, time.Time{})
		if err != nil {
			return err
		}
		akin, err := s.Akin(ctx, taken)
		if err != nil {
			return err
		}
		var evidence []store.Evidence
		var postponed, settled []uuid.UUID
		var fated []store.Stray
		for _, stray := range taken {
			m, ok := matched[stray.ID]
			kin, has := akin[stray.ID]
			switch {
			case ok:
				stray.Looks++
				settled = append(settled, stray.ID)
				evidence = append(evidence, evidenceOf(stray, m, now))
				if stray.Ground != nil {
					evidence = append(evidence, course.Withdrawn(*stray.MessageID, stray.GatewayID, stray.On(), now, delivery.Own,
						"the stray bears the name of a message that is known now"))
				}
			case has:
				stray.Fate, stray.Ground, stray.MessageID, stray.Attempt = kin.Fate, kin.Ground, kin.MessageID, kin.Attempt
				stray.ByWhom, stray.Why = kin.ByWhom, kin.Why
				fated = append(fated, stray)
				evidence = append(evidence, course.OfStray(stray, now))
			default:
				postponed = append(postponed, stray.ID)
			}
		}
		if err := s.FateStrays(ctx, now, fated); err != nil {
			return err
		}
		if changed, err = r.Course.Record(ctx, s, evidence, nil); err != nil {
			return err
		}
		if err := s.DropStrays(ctx, settled); err != nil {
			return err
		}
		return s.PostponeStrays(ctx, now, postponed, strayPause, now.Add(-strayEnd))
	})
	if err == nil {
		r.Course.Announce(changed)
	}
	return more, err
}
