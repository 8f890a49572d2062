package batches

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/store"
)

// act does something with a batch, in the name of who asked for it, and notes that.
func (b *Batches) act(
	ctx context.Context,
	id uuid.UUID,
	by, what string,
	do func(s *store.Store, one *store.Batch) error,
) (store.Batch, error) {
	now := b.Now()
	one, err := b.Store.ChangeBatch(ctx, id, now, func(s *store.Store, one *store.Batch) error {
		if err := do(s, one); err != nil {
			return err
		}
		return s.NoteAct(ctx, id, now, by, what)
	})
	if err == nil {
		b.feed.Now()
	}
	return one, err
}

// Pause holds a batch back: what is not on its way to a gateway stays.
func (b *Batches) Pause(ctx context.Context, id uuid.UUID, by string) (store.Batch, error) {
	return b.act(ctx, id, by, "paused", func(s *store.Store, one *store.Batch) error {
		if one.State != batch.Running && one.State != batch.Held {
			return notNow(one, "only what is running can be held back")
		}
		return b.hold(ctx, s, one, batch.Paused, "paused with the key "+by)
	})
}

// PauseAll pauses all batches that are running, for a reason.
func (b *Batches) PauseAll(ctx context.Context, why string) error {
	all, err := b.Store.AtWork(ctx, false)
	if err != nil {
		return err
	}
	for _, one := range all {
		if one.State != batch.Running && one.State != batch.Held {
			continue
		}
		_, err := b.act(ctx, one.ID, "", "paused by itself: "+why, func(s *store.Store, one *store.Batch) error {
			if one.State != batch.Running && one.State != batch.Held {
				return notNow(one, "only what is running can be held back")
			}
			return b.hold(ctx, s, one, batch.Paused, why)
		})
		if err != nil && !errors.Is(err, store.ErrNotNow) {
			return err
		}
	}
	return nil
}

// PausedFor lists the batches that are paused for a reason, by how it begins.
func (b *Batches) PausedFor(ctx context.Context, why string) ([]store.Batch, error) {
	all, err := b.Store.AtWork(ctx, true)
	return slices.DeleteFunc(all, func(one store.Batch) bool {
		return one.State != batch.Paused || !strings.HasPrefix(one.Why, why)
	}), err
}

// stop holds a batch back that does not go as it should, unless somebody else did.
func (b *Batches) stop(ctx context.Context, id uuid.UUID, what batch.Stop, why string) error {
	_, err := b.act(ctx, id, "", "stopped by itself: "+why, func(s *store.Store, one *store.Batch) error {
		if one.State != batch.Running {
			return notNow(one, "only what is running can be held back")
		}
		one.Launch.Stopped, one.Launch.StoppedOn = what, time.Time{}
		if what == batch.ByDay {
			one.Launch.StoppedOn = b.Now().UTC().Truncate(24 * time.Hour)
		}
		return b.hold(ctx, s, one, batch.Held, why)
	})
	if errors.Is(err, store.ErrNotNow) {
		return nil
	}
	return err
}

// hold holds a batch back, for a reason. What was let out within a budget goes.
func (b *Batches) hold(ctx context.Context, s *store.Store, one *store.Batch, as batch.State, why string) error {
	one.State, one.Why = as, why
	if as == batch.Paused || one.Launch.Stopped == batch.ByScouts || one.Launch.Stopped == batch.ByGuard {
		if err := s.Keep(ctx, *one.First); err != nil {
			return err
		}
	}
	return s.CountWaiting(ctx, one.ID, b.Now(), delivery.Held)
}

// Approve lets a batch go that a second person has to look at. The key that launched it cannot approve it, nor can one
// that this key made: whoever makes a key knows it. Both keys have to be older than the batch, so that nobody makes
// one for this.
func (b *Batches) Approve(ctx context.Context, id uuid.UUID, key store.Key) (store.Batch, error) {
	one, err := b.act(ctx, id, key.Name, "approved", func(s *store.Store, one *store.Batch) error {
		if !one.State.Active() || one.Launch.Approval == "" {
			return notNow(one, "nobody has to approve it")
		}
		if one.Launch.KeyID == key.ID.String() {
			return fault.Because(store.ErrNotNow, "it was launched with this key, and a second person has to approve it: with another key")
		}
		if err := secondPerson(ctx, s, one, key); err != nil {
			return err
		}
		one.Launch.Approval = ""
		if one.State != batch.Held {
			return nil
		}
		// Its time counts from now on.
		one.Launch.StartsAt = later(one.Launch.StartsAt, b.Now())
		return b.goOn(ctx, s, one)
	})
	if err == nil {
		b.Bells.RingAll()
	}
	return one, err
}

// secondPerson checks that a key is that of somebody else than who launched a batch, as far as keys can tell.
func secondPerson(ctx context.Context, s *store.Store, one *store.Batch, key store.Key) error {
	chain, err := s.Makers(ctx, key.ID)
	if err != nil {
		return err
	}
	for _, maker := range chain[1:] {
		if maker.ID.String() == one.Launch.KeyID {
			return fault.Because(store.ErrNotNow, "key %q was made by the key that launched it, and whoever makes a key knows it. "+
				"Approve it with a key that another key made, or that was made with: pigeon key new NAME --database-url URL", key.Name)
		}
	}
	if !chain[0].CreatedAt.Before(one.CreatedAt) {
		return fault.Because(store.ErrNotNow, "key %q is newer than the batch. Approve it with a key that was there before", key.Name)
	}
	launcher, err := uuid.Parse(one.Launch.KeyID)
	if err != nil {
		return nil // launched before this was kept
	}
	launched, err := s.Makers(ctx, launcher)
	if err != nil {
		return err
	}
	if !launched[0].CreatedAt.Before(one.CreatedAt) && launched[0].MadeBy != nil {
		return fault.Because(store.ErrNotNow, "it was launched with key %q, which is newer than the batch. "+
			"Cancel it, and launch it with a key that was there before", launched[0].Name)
	}
	return nil
}

// goOn lets a batch go that was held back.
func (b *Batches) goOn(ctx context.Context, s *store.Store, one *store.Batch) error {
	one.State, one.Why = batch.Running, ""
	one.Launch.Stopped, one.Launch.StoppedOn = "", time.Time{}
	if err := s.Release(ctx, *one.First, b.Now()); err != nil {
		return err
	}
	return s.CountWaiting(ctx, one.ID, b.Now(), delivery.Queued)
}

// SetBudget changes what may be spent on a batch; no amounts lift the limit.
func (b *Batches) SetBudget(ctx context.Context, id uuid.UUID, budget batch.Sums, by string) (store.Batch, error) {
	what := "budget of " + budget.String()
	if len(budget) == 0 {
		what = "the limit of its budget lifted"
	}
	return b.act(ctx, id, by, what, func(s *store.Store, one *store.Batch) error {
		if !one.State.Active() {
			return notNow(one, "nothing of it is to be spent any more")
		}
		if len(budget) > 0 {
			if err := priced(one); err != nil {
				return err
			}
			// It may not have had a budget until now. While it is locked nothing of it is spent.
			spent, err := b.spent(ctx, s, one)
			if err != nil {
				return err
			}
			if _, err := s.OpenPurse(ctx, purseOf(one), currencies(budget, spent)); err != nil {
				return err
			}
			if err := s.Spend(ctx, purseOf(one), spent); err != nil {
				return err
			}
		}
		one.Launch.Budget = budget
		return nil
	})
}

// Resume lets a batch go on that was held back.
func (b *Batches) Resume(ctx context.Context, id uuid.UUID, by string) (store.Batch, error) {
	one, err := b.act(ctx, id, by, "let go on", func(s *store.Store, one *store.Batch) error {
		if one.State != batch.Paused && one.State != batch.Held {
			return notNow(one, "only what is held back can go on")
		}
		if one.Launch.Approval != "" {
			return notNow(one, "a second person has to approve it: pigeon batch approve "+id.String())
		}
		switch one.Launch.Stopped { // whoever lets it go on has seen why it stopped
		case batch.ByScouts, batch.ByGuard:
			one.Launch.Guard, one.Launch.ScoutsWait = batch.Guard{}, batch.ScoutsWait{}
		}
		return b.goOn(ctx, s, one)
	})
	if err == nil {
		b.Bells.RingAll()
	}
	return one, err
}

// Release lets the rest go after the scouts.
func (b *Batches) Release(ctx context.Context, id uuid.UUID, by string) (store.Batch, error) {
	return b.act(ctx, id, by, "the rest released after the scouts", func(s *store.Store, one *store.Batch) error {
		if !one.State.Active() {
			return notNow(one, "nothing of it waits for its scouts")
		}
		if one.Launch.Scouts == 0 {
			return notNow(one, "it was launched without scouts")
		}
		if err := s.OpenFeeds(ctx, id); err != nil {
			return err
		}
		if one.State != batch.Running {
			return nil
		}
		return s.CountWaiting(ctx, id, b.Now(), delivery.Queued)
	})
}

// SetPace changes how fast a batch goes at most; no pace lifts the limit.
func (b *Batches) SetPace(ctx context.Context, id uuid.UUID, p batch.Pace, by string) (store.Batch, error) {
	what := "limited to " + p.String()
	if p.N == 0 {
		what = "the limit of its pace lifted"
	}
	return b.act(ctx, id, by, what, func(_ *store.Store, one *store.Batch) error {
		if !one.State.Active() {
			return notNow(one, "it has no pace to be changed")
		}
		one.PaceN, one.PaceMs = p.N, int(p.Per.Milliseconds())
		return nil
	})
}

// Cancel withdraws what of a batch is not on its way. What a gateway may have cannot be
// called back.
func (b *Batches) Cancel(ctx context.Context, id uuid.UUID, by string) (store.Batch, error) {
	return b.act(ctx, id, by, "withdrawn", func(s *store.Store, one *store.Batch) error {
		if !one.State.Active() {
			return notNow(one, "nothing of it waits")
		}
		one.State, one.Why = batch.Cancelled, "withdrawn with the key "+by
		if err := s.Keep(ctx, *one.First); err != nil {
			return err
		}
		return s.CountWaiting(ctx, id, b.Now(), delivery.Cancelled)
	})
}

// withdrawMost is how many messages are withdrawn in one transaction.
const withdrawMost = 1000

// withdraw withdraws messages of a cancelled batch that wait to be sent. What may have gone
// before is left to go on its way, for it cannot be called back.
func (b *Batches) withdraw(ctx context.Context, one store.Batch) error {
	for more := true; more; {
		var changed []store.Message
		err := b.Store.Transact(ctx, func(s *store.Store) error {
			waiting, err := s.WaitingOf(ctx, *one.First, withdrawMost)
			if err != nil {
				return err
			}
			more = len(waiting) == withdrawMost
			var evidence []store.Evidence
			for _, m := range waiting {
				claim := delivery.Cancelled
				if m.Known().MayHaveGone {
					claim = delivery.Unknown
				}
				e := course.Own(m, b.Now(), claim, m.Attempts, fmt.Sprintf("its batch was %s", one.Why))
				e.Source = delivery.Operator
				evidence = append(evidence, e)
			}
			changed, err = b.Course.Record(ctx, s, evidence, nil, waiting...)
			return err
		})
		if err != nil {
			return err
		}
		b.Course.Announce(changed)
	}
	return nil
}
