package batches

import (
	"context"
	"errors"
	"time"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/store"
)

// settle sees whether the time of a batch is over, withdraws what is left of one that was
// cancelled, and notes that it has come to its end.
func (f *feeding) settle(ctx context.Context, one store.Batch) error {
	now := f.Now()
	if one.State == batch.Cancelled {
		if err := f.withdraw(ctx, one); err != nil {
			return err
		}
	}
	counts, err := f.Store.CountBatch(ctx, one)
	if err != nil {
		return err
	}
	if err := f.sample(ctx, one, counts, now, f.apart(one, now)); err != nil {
		return err
	}
	late := !one.Launch.Until.IsZero() && !one.Launch.Until.After(now)
	rows, open := 0, false
	for _, c := range counts {
		switch {
		case c.Waiting && !c.State.Final():
			rows++
		case !c.State.Final():
			open = true
		}
	}
	if one.State == batch.Held && one.Launch.Stopped == batch.ByDay && now.Sub(one.Launch.StoppedOn) >= 24*time.Hour {
		if _, err := f.Resume(ctx, one.ID, ""); err != nil && !errors.Is(err, store.ErrNotNow) { // somebody else did
			return err
		}
	}
	if one.State == batch.Running {
		if held, err := f.guard(ctx, one, counts); held || err != nil {
			return err
		}
	}
	switch {
	case rows > 0 && late:
		_, err = f.Store.ChangeBatch(ctx, one.ID, now, func(s *store.Store, is *store.Batch) error {
			if !is.State.Active() {
				return nil
			}
			is.Why = "its time was over"
			return errors.Join(s.CloseFeeds(ctx, one.ID), s.CountWaiting(ctx, one.ID, now, delivery.Expired))
		})
	case rows > 0:
		return f.Store.CountOpened(ctx, one.ID, now)
	case open:
	default:
		if err := f.sample(ctx, one, counts, now, 0); err != nil {
			return err
		}
		_, err = f.Store.ChangeBatch(ctx, one.ID, now, func(_ *store.Store, is *store.Batch) error {
			if is.FinishedAt != nil {
				return nil
			}
			if is.FinishedAt = &now; is.State != batch.Cancelled {
				is.State = batch.Finished
			}
			return nil
		})
	}
	return err
}

// samplesFine is how many samples of a batch are a second apart; after that they are as many
// parts of its time apart.
const samplesFine = 200

// apart is how far apart samples of a batch are.
func (f *feeding) apart(one store.Batch, now time.Time) time.Duration {
	return max(settleEvery, now.Sub(later(*one.LaunchedAt, one.Launch.StartsAt))/samplesFine) - settleEvery/10
}

// sample notes how a batch stands, to be drawn, unless that was noted a moment ago.
func (f *feeding) sample(ctx context.Context, one store.Batch, counts []store.BatchCount, now time.Time, apart time.Duration) error {
	sample := store.BatchSample{At: now, Counts: map[delivery.State]int64{}}
	for _, c := range counts {
		sample.Counts[c.State] += c.N
	}
	if now.Before(one.Launch.StartsAt) && now.Sub(*one.LaunchedAt) > 2*settleEvery {
		return nil // nothing happens until then
	}
	return f.Store.NoteSample(ctx, one.ID, sample, apart)
}

// standing is what a guard looks at.
func standing(counts []store.BatchCount) (s batch.Standing, messages int64) {
	s.Micros, s.Causes = batch.Sums{}, map[delivery.Cause]int64{}
	for _, c := range counts {
		if c.Waiting {
			continue
		}
		messages += c.N
		if c.Cause == delivery.TooLate { // it was not sent, as was asked for
			continue
		}
		switch c.State {
		case delivery.Held, delivery.Queued, delivery.Cancelled:
			continue
		case delivery.Delivered:
			s.Delivered += c.N
		case delivery.Doubtful, delivery.Unknown:
			s.Doubtful += c.N
		case delivery.Undeliverable, delivery.Expired, delivery.Rejected:
			s.Failed += c.N
			if c.Cause != "" {
				s.Causes[c.Cause] += c.N
			}
		}
		s.Gone += c.N
		if c.Currency != "" && c.State != delivery.Rejected {
			s.Micros[c.Currency] += c.Micros
		}
	}
	return s, messages
}

// guard stops a batch that does not go as it should, and lets the rest follow its scouts, or
// says why it does not.
func (f *feeding) guard(ctx context.Context, one store.Batch, counts []store.BatchCount) (held bool, err error) {
	now := f.Now()
	is, messages := standing(counts)
	past := f.stood[one.ID]
	for len(past) > 1 && now.Sub(past[1].at) >= batch.GuardWindow {
		past = past[1:]
	}
	f.stood[one.ID] = append(past, stood{now, is})
	before := batch.Standing{}
	if len(past) > 0 && now.Sub(past[0].at) >= batch.GuardWindow {
		before = past[0].Standing
	}
	if why := one.Launch.Guard.Judge(before, is, one.Totals.Micros); why != "" {
		f.Log.Warn("the guard stopped a batch", "batch", one.ID, "name", one.Name, "why", why)
		return true, f.stop(ctx, one.ID, batch.ByGuard, why)
	}
	if one.Launch.ScoutsWait.After == 0 || int64(one.Launch.Scouts) != messages {
		return false, nil
	}
	goes, why := one.Launch.ScoutsWait.Judge(now.Sub(later(*one.LaunchedAt, one.Launch.StartsAt)), is.Delivered, messages)
	switch {
	case goes:
		_, err = f.Release(ctx, one.ID, "")
	case why != "":
		err = f.stop(ctx, one.ID, batch.ByScouts, why)
	}
	return why != "", err
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
