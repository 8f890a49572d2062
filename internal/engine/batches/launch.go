package batches

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/store"
)

// Orders are how a batch is to be launched.
type Orders struct {
	batch.Launch
	Share float64 // of the rows that go ahead as scouts, in the place of their number
	Again bool    // also if most of those people got the same text of late

	looked map[uuid.UUID]bool // the batches with which it was compared
}

const (
	// sameWithin is how long the same list and text are taken for a mistake.
	sameWithin = 24 * time.Hour
	// startMost is how far ahead a batch may be launched.
	startMost = 30 * 24 * time.Hour
	// hoursMost is how many kinds of rows are let out by themselves that may go at different
	// hours; those of others are held one by one.
	hoursMost = 40
	// perMost is the longest span of a pace that is kept.
	perMost = 20 * 24 * time.Hour
)

// Launch lets a rehearsed batch go: its rows are accepted, in one transaction.
func (b *Batches) Launch(ctx context.Context, id uuid.UUID, o Orders) (store.Batch, error) {
	defer beFrugal()()
	for try := 1; ; try++ {
		one, err := b.launch(ctx, id, o)
		if !errors.Is(err, errLaunchedBeside) || try == launchTries {
			return one, err
		}
	}
}

// launchTries is how often a launch is tried beside which others are launched.
const launchTries = 20

// errLaunchedBeside is returned for a launch that was not compared with one that came beside it.
var errLaunchedBeside = errors.New("another batch was launched at the same time; try again")

// mayLaunchBeside checks that a batch was compared with all that were launched of late. No other is launched until the
// transaction ends.
func mayLaunchBeside(ctx context.Context, s *store.Store, o Orders, now time.Time) error {
	if o.Again {
		return nil
	}
	if err := s.LaunchAlone(ctx); err != nil {
		return err
	}
	launched, err := s.LaunchedSince(ctx, now.Add(-sameWithin))
	if err != nil {
		return err
	}
	for _, id := range launched {
		if !o.looked[id] {
			return errLaunchedBeside
		}
	}
	return nil
}

func (b *Batches) launch(ctx context.Context, id uuid.UUID, o Orders) (store.Batch, error) {
	now := b.Now()
	one, err := b.Store.Batch(ctx, id)
	if err != nil {
		return one, err
	}
	if err := mayLaunch(&one); err != nil {
		return one, err
	}
	if err := b.orders(ctx, &one, &o, now); err != nil {
		return one, err
	}
	first := store.BatchAt(now)
	feeds, waiting, err := b.divide(ctx, one, &o, now)
	if err != nil {
		return one, err
	}
	planned := one
	planned.Launch, planned.PaceN, planned.PaceMs = o.Launch, o.Pace.N, int(o.Pace.Per.Milliseconds())
	if seen, err := b.foresee(ctx, planned, now); err != nil { // that is no reason not to go
		b.Log.Error("forecasting a batch", "batch", id, "error", err)
	} else if seen.Left < 1 {
		o.Foreseen = seen.Ends
	}
	return b.act(ctx, id, o.By, "launched", func(s *store.Store, is *store.Batch) error {
		if err := mayLaunch(is); err != nil {
			return err
		}
		if !is.RehearsedAt.Equal(*one.RehearsedAt) {
			return fault.Because(store.ErrNotNow, "it was rehearsed anew meanwhile")
		}
		if err := mayLaunchBeside(ctx, s, o, now); err != nil {
			return err
		}
		is.State, is.Why, is.First, is.LaunchedAt, is.Launch = batch.Running, "", &first, &now, o.Launch
		state := delivery.Queued
		if o.Approval != "" {
			is.State, is.Why, state = batch.Held, "it waits for a second person: "+o.Approval, delivery.Held
		}
		is.PaceN, is.PaceMs = o.Pace.N, int(o.Pace.Per.Milliseconds())
		return s.PutFeeds(ctx, id, first, state, feeds, waiting)
	})
}

// makerBudgets notes the budgets of the keys that made the one that launches.
func (b *Batches) makerBudgets(ctx context.Context, o *Orders) error {
	id, err := uuid.Parse(o.KeyID)
	if err != nil {
		return nil // no key launches it
	}
	chain, err := b.Store.Makers(ctx, id)
	if err != nil {
		return err
	}
	o.MakerBudgets = nil
	for _, maker := range slices.Backward(chain[1:]) {
		if len(maker.BudgetDay) > 0 {
			o.MakerBudgets = append(o.MakerBudgets, batch.KeyBudget{KeyID: maker.ID.String(), Budget: maker.BudgetDay})
		}
	}
	return nil
}

func mayLaunch(one *store.Batch) error {
	switch {
	case one.State.Launched():
		return notNow(one, "it was launched already")
	case one.State != batch.Rehearsed:
		return notNow(one, "rehearse it first")
	case one.Totals.Goes == 0:
		return notNow(one, "none of its rows can go")
	}
	return nil
}

// orders checks how a batch is to be launched.
func (b *Batches) orders(ctx context.Context, one *store.Batch, o *Orders, now time.Time) error {
	var faults fault.Faults
	if !o.StartsAt.IsZero() && (o.StartsAt.Before(now.Add(-time.Minute)) || o.StartsAt.After(now.Add(startMost))) {
		faults.Add("starts_at", o.StartsAt.Format(time.RFC3339)+" is over, or too far ahead", "a time within the next 30 days")
	}
	starts := o.StartsAt
	if starts.Before(now) {
		starts = now
	}
	if !o.Until.IsZero() && !o.Until.After(starts) {
		faults.Add("until", o.Until.Format(time.RFC3339)+" is before it starts", "a time after its start")
	}
	if !o.Evenly.IsZero() {
		evenly(one, o, starts, &faults)
	}
	if o.Share < 0 || o.Share > 1 {
		faults.Add("scouts", fmt.Sprintf("a share of %v", o.Share), "a number of rows, or a share such as 2%")
	}
	if o.Share > 0 {
		o.Scouts = max(1, int(o.Share*float64(one.Totals.Goes)+0.5))
	}
	if o.Scouts < 0 {
		faults.Add("scouts", fmt.Sprint(o.Scouts), "a number of rows, or a share such as 2%")
	}
	if faults != nil {
		return faults
	}
	if g := o.Guard; g.Failures < 0 || g.Failures > 1 || g.Cause < 0 || g.Cause > 1 || g.Doubt < 0 || g.Doubt > 1 || g.Cost < 0 ||
		g.Cost > 100 {
		faults.Add(
			"guard",
			"a share or a factor that is out of range",
			"failures, one cause and doubt as shares from 0 to 1, cost as a factor up to 100; 0: not watched",
		)
	}
	if w := o.ScoutsWait; w.Least < 0 || w.Least > 1 || w.After < 0 || w.After > startMost || w.After == 0 && w.Least > 0 {
		faults.Add("scouts_wait", "it is out of range", "a span such as 10m, and a share of the scouts up to 1")
	}
	if len(o.Budget) > 0 {
		if err := priced(one); err != nil {
			faults.Add("budget", fault.Why(err), "prices for all of them: pigeon prices put")
		}
	}
	if faults != nil {
		return faults
	}
	if err := b.makerBudgets(ctx, o); err != nil {
		return err
	}
	o.Approval = one.Totals.Above(b.ApproveRows, b.ApproveCost)
	if o.Scouts >= one.Totals.Goes {
		o.Scouts = 0 // all of them
	}
	if o.Again {
		return nil
	}
	repeated, err := b.refuseRepeats(ctx, one, now)
	o.looked = repeated.looked
	return err
}

// priced reports that a budget cannot be kept to, as prices are not known.
func priced(one *store.Batch) error {
	if n := one.Totals.Unpriced; n > 0 {
		return fault.Because(store.ErrNotNow, "of %d messages the price is not known, and no budget can be kept to", n)
	}
	return nil
}

// evenly makes the pace of a batch one that lasts until a moment.
func evenly(one *store.Batch, o *Orders, starts time.Time, faults *fault.Faults) {
	lasts := o.Evenly.Sub(starts).Truncate(time.Millisecond)
	p := batch.Pace{N: one.Totals.Goes, Per: lasts}
	for p.Per > perMost {
		p = batch.Pace{N: (p.N + 1) / 2, Per: p.Per / 2}
	}
	switch {
	case o.Pace.N > 0:
		faults.Add("evenly", "there is a pace, too", "one of the two")
	case lasts < time.Second || lasts > startMost:
		faults.Add(
			"evenly",
			o.Evenly.Format(time.RFC3339)+" is before it starts, or too far ahead",
			"a time after its start, within 30 days",
		)
	case p.Rate() > batch.PaceMost:
		faults.Add("evenly", fmt.Sprintf("%d messages until %s are %.0f a second", p.N, o.Evenly.Format(time.RFC3339), p.Rate()),
			fmt.Sprintf("a time at which %d a second are enough", batch.PaceMost))
	default:
		o.Pace = p
	}
}

// goes yields what was found of the rows that go, in their order.
func (b *Batches) goes(ctx context.Context, id uuid.UUID, wrong *error) iter.Seq2[int, batch.Check] {
	return func(yield func(int, batch.Check) bool) {
		for n := 0; ; n += aheadPacks {
			packs, err := b.Store.BatchPacks(ctx, id, n, aheadPacks, false, true)
			if err != nil || len(packs) == 0 {
				*wrong = err
				return
			}
			for _, p := range packs {
				checks, err := batch.ReadChecks(p.Checks)
				if err != nil {
					*wrong = err
					return
				}
				for i := range checks {
					if checks[i].Goes() && !yield(p.N*batch.PackRows+i+1, checks[i]) {
						return
					}
				}
			}
		}
	}
}

// scoutsOf are the scouts of a batch as it is launched.
func (b *Batches) scoutsOf(ctx context.Context, id uuid.UUID, o batch.Launch) (batch.Scouts, error) {
	if o.Scouts == 0 {
		return batch.Scouts{}, nil
	}
	var wrong error
	scouts := batch.ChooseScouts(o.Seed, o.Scouts, func(yield func(int) bool) {
		for row := range b.goes(ctx, id, &wrong) {
			if !yield(row) {
				return
			}
		}
	})
	return scouts, wrong
}

// kindOf is what decides in which feed a row is.
type kindOf struct {
	gateway string
	scouts  bool
	hours   string
}

// divide divides the rows that go into feeds, and counts them as tallies do.
func (b *Batches) divide(ctx context.Context, one store.Batch, o *Orders, now time.Time) ([]store.Feed, []store.Waiting, error) {
	scouts, err := b.scoutsOf(ctx, one.ID, o.Launch)
	if err != nil {
		return nil, nil, err
	}
	type countedAs struct {
		kindOf
		cut store.Cut
	}
	counts := map[countedAs]int{}
	rows := map[string]int{}
	var wrong error
	for row, c := range b.goes(ctx, one.ID, &wrong) {
		counts[countedAs{kindOf{c.Gateway, scouts.Has(row), c.Hours()}, cutOf(one, c)}]++
		rows[c.Hours()]++
	}
	if wrong != nil {
		return nil, nil, wrong
	}
	delete(rows, "")
	o.Hours = slices.SortedFunc(maps.Keys(rows), func(x, y string) int { return cmp.Or(cmp.Compare(rows[y], rows[x]), cmp.Compare(x, y)) })
	o.Hours = o.Hours[:min(len(o.Hours), hoursMost)]
	all := counts
	counts = make(map[countedAs]int, len(all))
	for c, n := range all {
		c.hours = o.HoursOf(c.hours)
		counts[c] += n
	}
	starts := o.StartsAt
	if starts.Before(now) {
		starts = now
	}
	sums := map[kindOf]int{}
	for c, n := range counts {
		sums[c.kindOf] += n
	}
	kinds := slices.SortedFunc(maps.Keys(sums), func(a, b kindOf) int {
		if a.scouts != b.scouts {
			return map[bool]int{true: -1, false: 1}[a.scouts]
		}
		return cmp.Or(cmp.Compare(a.gateway, b.gateway), cmp.Compare(a.hours, b.hours))
	})
	var feeds []store.Feed
	var waiting []store.Waiting
	for n, k := range kinds {
		feeds = append(feeds, store.Feed{N: n, Gateway: k.gateway, Scouts: k.scouts, Hours: k.hours, Open: k.scouts || o.Scouts == 0,
			OpensAt: starts, Waiting: sums[k]})
		through := uuid.Nil
		if g := b.Roster.ByName(k.gateway); g != nil {
			through = g.ID
		}
		for c, rows := range counts {
			if c.kindOf == k {
				waiting = append(waiting, store.Waiting{Feed: n, Cut: c.cut, Gateway: through, N: rows})
			}
		}
	}
	return feeds, waiting, nil
}

// cutOf is what a row is counted by until it is a message.
func cutOf(one store.Batch, c batch.Check) store.Cut {
	return store.Cut{Key: one.KeyID, Sender: c.Sender, Country: c.Country, Kind: c.Kind, Template: c.Template,
		Labels: one.Wants.AllLabels}
}
