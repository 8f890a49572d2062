package passcodes

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/core/route"
	"calmpigeon.example/internal/store"
)

// fates reads what became of the passcodes that stand open in ledgers, and returns what notes it there.
func (p *Passcodes) fates(ctx context.Context, of []store.Counted) (func(*fraud.Ledger, time.Time), error) {
	var open []uuid.UUID
	for _, c := range of {
		for _, a := range c.Ledger.Asked {
			if a.Fate != fraud.Used {
				open = append(open, a.ID)
			}
		}
	}
	fates := map[uuid.UUID]store.PasscodeFate{}
	if len(open) > 0 {
		var err error
		if fates, err = p.Store.PasscodeFates(ctx, open); err != nil {
			return nil, err
		}
	}
	arrived := func(id [16]byte) (yes, known bool) {
		f, is := fates[id]
		switch {
		case !is:
			return false, false
		case f.State == delivery.Delivered:
			return true, true
		case f.State == delivery.Accepted || f.State == delivery.Enroute:
			g := p.Roster.ByID(f.Gateway)
			silent := g != nil && g.Dialect.Receipt == nil && g.Dialect.Query == nil // no more will ever be said
			return silent, silent
		}
		return false, f.State.Final()
	}
	return func(l *fraud.Ledger, now time.Time) {
		l.Settle(now, func(id [16]byte) bool { return fates[id].Used }, arrived)
	}, nil
}

const (
	// lookEvery is how often it is looked whether there is anything to judge, as long as passcodes are asked for;
	// lookSeldom else.
	lookEvery, lookSeldom = time.Second, 15 * time.Second
	// hurryEvery is how soon after another it is looked at once.
	hurryEvery = 200 * time.Millisecond
	// awakeFor is how long after the last passcode.
	awakeFor = 20 * time.Minute
	// cohortEvery is how often it is counted how many were used, and countryEvery countries are judged.
	cohortEvery, countryEvery = 10 * time.Second, time.Minute
	// idleTimes is how much less often where none were issued of late.
	idleTimes = 10
	// soon is how long after it was issued it is counted whether a passcode was used.
	soon = time.Minute
	// judgedMost is how many are judged at once, and judgedAgain after how long at the soonest the same again.
	judgedMost, judgedAgain = 200, time.Minute
	// usualDays is over how many days it is known what is usual, and usualHour how many codes an hour has at least to tell.
	usualDays, usualHour = 7, 20
	// cohortsKept is how long cohorts are kept, and alarmsKept alarms that are over.
	cohortsKept, alarmsKept = 9 * 24 * time.Hour, 400 * 24 * time.Hour
)

// watch looks for fraud, and at how codes fare, until ctx ends.
func (p *Passcodes) watch(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	var looked, counted, countries, hurried time.Time
	failed := false // the last time: it is tried again less often
	for {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
			defer cancel()
			if err := p.flushStops(last); err != nil {
				p.Log.Warn("counting what was stopped", "error", err)
			}
			return
		case <-p.hurry:
			if now := time.Now(); now.Sub(hurried) >= hurryEvery {
				hurried = now
				if err := p.Judge(ctx); err != nil && ctx.Err() == nil {
					p.Log.Error("judging passcodes", "error", err)
				}
			}
			continue
		case <-tick.C:
		}
		now := time.Now()
		awake := now.Unix()-p.issuedAt.Load() < int64(awakeFor.Seconds())
		if (!awake || failed) && now.Sub(looked) < lookSeldom {
			continue
		}
		looked = now
		idle := time.Duration(1)
		if !awake { // who issues passcodes looks; the others for the case that it is gone
			idle = idleTimes
		}
		err := errors.Join(p.flushStops(ctx), p.Judge(ctx))
		if now.Sub(counted) >= idle*cohortEvery {
			counted = now
			err = errors.Join(err, p.Count(ctx))
		}
		if now.Sub(countries) >= idle*countryEvery {
			countries = now
			err = errors.Join(err, p.JudgeCountries(ctx))
		}
		if failed = err != nil; failed && ctx.Err() == nil {
			p.Log.Error("watching passcodes", "error", err)
		}
	}
}

// Judge judges what there is to judge.
func (p *Passcodes) Judge(ctx context.Context) error {
	for {
		now := p.Now()
		due, err := p.Store.SubjectsToJudge(ctx, now, judgedMost)
		if err != nil || len(due) == 0 {
			return err
		}
		settle, err := p.fates(ctx, due)
		if err != nil {
			return err
		}
		var all []fraud.Found
		judged := map[[16]byte]bool{} // the last passcode of each
		for i := range due {
			judged[due[i].Ledger.Last()] = true
			settle(&due[i].Ledger, now)
			all = append(all, due[i].Ledger.Judge(due[i].By, due[i].Value, *p.usual.Load(), now)...)
		}
		// Raised first: who is killed in between judges again, and finds that the alarm stands.
		if err := p.raise(ctx, all, now); err != nil {
			return err
		}
		err = p.Store.Transact(ctx, func(tx *store.Store) error {
			held, err := tx.HoldCounters(ctx, slices.Clone(due), now)
			if err != nil {
				return err
			}
			for i := range held {
				h := &held[i]
				settle(&h.Ledger, now)
				h.JudgeAt = h.Ledger.JudgeAt(h.By, now)
				// What was asked for meanwhile is judged at once if there is anything to it.
				if again := now.Add(judgedAgain); !h.JudgeAt.IsZero() && h.JudgeAt.Before(again) && judged[h.Ledger.Last()] {
					h.JudgeAt = again
				}
			}
			return tx.PutCounters(ctx, held, now)
		})
		if err != nil || len(due) < judgedMost {
			return err
		}
	}
}

// Count counts how many passcodes were used soon after they were issued, and takes over how gateways' codes fare.
func (p *Passcodes) Count(ctx context.Context) error {
	now := p.Now()
	for more := true; more; {
		var err error
		if more, err = p.Store.LookAtPasscodes(ctx, now.Add(-soon), fold); err != nil {
			return err
		}
	}
	if !slices.ContainsFunc(p.Roster.Book().Routes, func(r store.Route) bool { return r.Route.Prefer == route.Conversion }) {
		return nil
	}
	all, err := p.Store.PasscodeConversions(ctx)
	if err != nil {
		return fmt.Errorf("reading how gateways' codes fare: %w", err)
	}
	fared := make(map[[2]string]route.Fared, len(all))
	for _, c := range all {
		if g := p.Roster.ByID(c.Gateway); g != nil {
			fared[[2]string{g.Name, c.Country}] = route.Fared{N: c.N, Used: c.Used, At: c.At}
		}
	}
	p.fared.Store(&fared)
	return nil
}

// Fared is how the last passcodes through a gateway to a country fared.
func (p *Passcodes) Fared(gateway, country string) route.Fared {
	return (*p.fared.Load())[[2]string{gateway, country}]
}

// fold adds cohorts to how the last codes fared; it returns those that changed.
func fold(last []store.Conversion, cohorts []store.Cohort) []store.Conversion {
	changed := make([]store.Conversion, len(cohorts))
	for i, c := range cohorts {
		var f route.Fared
		if at := slices.IndexFunc(last, func(l store.Conversion) bool { return l.Gateway == c.Gateway && l.Country == c.Country }); at >= 0 {
			f = route.Fared{N: last[at].N, Used: last[at].Used, At: last[at].At}
		}
		f = f.With(c.N, c.Used, c.At)
		changed[i] = store.Conversion{Gateway: c.Gateway, Country: c.Country, N: f.N, Used: f.Used, At: f.At}
	}
	return changed
}

// JudgeCountries works out what is usual, and looks whether a country suddenly rises.
func (p *Passcodes) JudgeCountries(ctx context.Context) error {
	now := p.Now()
	hours, err := p.Store.PasscodeCohorts(ctx, "", now.Add(-usualDays*24*time.Hour))
	if err != nil {
		return err
	}
	usual := usualShare(hours)
	p.usual.Store(&usual)
	if p.Roster.Book().Acts[fraud.Rise] == fraud.Off || len(hours) == 0 {
		return nil
	}
	late, err := p.Store.LateCountries(ctx, now.Add(-time.Hour-soon))
	if err != nil {
		return err
	}
	var all []fraud.Found
	for _, c := range late {
		h := fraud.Hours{Arrived: c.N, Used: c.Used, Days: now.Sub(hours[0].At).Hours() / 24}
		if _, is := h.Judge(c.Country, usual, now); !is {
			continue // not even if all of them arrived, and nothing were usual
		}
		of, err := p.Store.PasscodeCohorts(ctx, c.Country, now.Add(-usualDays*24*time.Hour))
		if err != nil {
			return err
		}
		h.UsualLeft, h.UsualUsed = busiest(of, now.Add(-time.Hour-soon), min(h.Days, usualDays))
		delivered, err := p.delivered(ctx, c.Country, now.Add(-time.Hour))
		if err != nil {
			return err
		}
		h.Arrived = min(c.N, max(delivered, c.Used))
		if f, is := h.Judge(c.Country, usual, now); is {
			all = append(all, f)
		}
	}
	return p.raise(ctx, all, now)
}

// usualShare is the share of codes that are used usually: that of the middle one of the hours that tell.
func usualShare(hours []store.Cohort) float64 {
	var shares []float64
	for _, h := range hours {
		if h.N >= usualHour {
			shares = append(shares, float64(h.Used)/float64(h.N))
		}
	}
	if len(shares) < 3 {
		return fraud.UsedAssumed
	}
	slices.Sort(shares)
	return shares[len(shares)/2]
}

// busiest is the hour of the day in which most codes are not used, on the average of days, before a moment.
func busiest(hours []store.Cohort, before time.Time, days float64) (left, used float64) {
	var by [24]struct{ left, used float64 }
	for _, h := range hours {
		if h.At.Before(before.Truncate(time.Hour)) {
			of := &by[h.At.Hour()]
			of.left, of.used = of.left+float64(h.N-h.Used), of.used+float64(h.Used)
		}
	}
	top := slices.MaxFunc(by[:], func(a, b struct{ left, used float64 }) int { return cmp.Compare(a.left, b.left) })
	return top.left / max(days, 1), top.used / max(days, 1)
}

// Tidy forgets what is too old to be judged by. numbers is until when numbers are forgotten; zero: not at all.
func (p *Passcodes) Tidy(ctx context.Context, now, numbers time.Time) error {
	return errors.Join(p.Store.TidyCounters(ctx, now, passcode.LifeMost),
		p.Store.TidyPasscodeWatch(ctx, now.Add(-cohortsKept), numbers, now.Add(-alarmsKept)),
		p.Store.TidyBlocks(ctx, now.Add(-alarmsKept)))
}
