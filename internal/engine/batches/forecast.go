package batches

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// carries is how many messages a second are taken to be carried at most, whatever gateways
// take.
const carries = 3000

// The lanes of a forecast: what waits already was let out before, and goes first.
const (
	laneQueue = iota
	laneTransactional
	laneBulk
)

// Foresight is how a batch is going to go.
type Foresight struct {
	pace.Forecast
	Before  int64  // messages that have gone already
	Waiting int    // rows that wait until somebody releases them; they are forecast as if that were now
	Stands  string // why it does not go now, if it does not: it is forecast as if it did
}

// Forecast works out how a batch is going to go, beside all that waits now. One that was
// launched goes as it was; else as it is ordered.
func (b *Batches) Forecast(ctx context.Context, one store.Batch, o Orders) (Foresight, error) {
	now := b.Now()
	if !one.State.Launched() {
		if err := mayLaunch(&one); err != nil {
			return Foresight{}, err
		}
		o.Again = true
		if err := b.orders(ctx, &one, &o, now); err != nil {
			return Foresight{}, err
		}
		one.Launch = o.Launch
		one.PaceN, one.PaceMs = o.Pace.N, int(o.Pace.Per.Milliseconds())
	}
	return b.foresee(ctx, one, now)
}

func (b *Batches) foresee(ctx context.Context, one store.Batch, now time.Time) (Foresight, error) {
	f := foreseeing{Batches: b, now: now, limits: map[pace.LimitOf]pace.Limit{}, queued: map[uuid.UUID]int64{}}
	f.limits[pace.LimitOf{Kind: "service"}] = pace.Limit{PerSecond: carries}
	var out Foresight
	rivals, err := b.Store.AtWork(ctx, true)
	if err != nil {
		return out, err
	}
	for _, rival := range rivals {
		if rival.ID != one.ID && rival.State == batch.Running {
			if _, err := f.add(ctx, rival); err != nil {
				return out, err
			}
		}
	}
	switch {
	case one.State == batch.Paused || one.State == batch.Held:
		out.Stands = cmp.Or(one.Why, "it is "+string(one.State))
	case one.State.Launched() && one.State != batch.Running:
		return out, notNow(&one, "nothing of it is to go any more")
	}
	if out.Before, err = f.add(ctx, one); err != nil {
		return out, err
	}
	if l := one.Launch; l.Scouts > 0 && l.ScoutsWait.After == 0 {
		out.Waiting = one.Totals.Goes - l.Scouts
		if one.State.Launched() {
			out.Waiting = f.closed
		}
	}
	if err := f.addQueues(ctx); err != nil {
		return out, err
	}
	out.Forecast = pace.Foresee(one.ID.String(), f.loads, f.limits, now)
	for i := range out.Points {
		out.Points[i].Gone += float64(out.Before)
	}
	return out, nil
}

// Limit is how many messages of a batch can go in a second at most, by its own pace and the
// gateways that it goes through; 0 if nothing limits it.
func (b *Batches) Limit(one store.Batch) float64 {
	if one.Totals == nil {
		return 0
	}
	f := foreseeing{Batches: b, now: b.Now(), limits: map[pace.LimitOf]pace.Limit{}}
	all := 0.0
	for name := range one.Totals.ByGateway {
		if g := b.Roster.ByName(name); g != nil {
			all += f.limits[f.under(g, "", oneText(&one))[0]].PerSecond
		}
	}
	if own := one.Pace().Rate(); own > 0 && (all == 0 || own < all) {
		return own
	}
	return all
}

// foreseeing gathers what a forecast is worked out of.
type foreseeing struct {
	*Batches
	now    time.Time
	loads  []pace.Load
	limits map[pace.LimitOf]pace.Limit
	queued map[uuid.UUID]int64 // messages of batches, by gateway
	closed int                 // rows of the last batch whose feeds are not open
}

// add adds what is left of a batch, and returns how much of it has gone.
func (f *foreseeing) add(ctx context.Context, one store.Batch) (gone int64, err error) {
	if one.Totals == nil {
		return 0, nil
	}
	a := adding{f: f, one: &one, lane: laneBulk, own: []pace.LimitOf{{Kind: "service"}}}
	if one.Wants.Kind == string(pace.Transactional) {
		a.lane = laneTransactional
	}
	if rate := one.Pace().Rate(); rate > 0 {
		name := pace.LimitOf{Kind: "pace", Name: one.ID.String()}
		f.limits[name] = pace.Limit{PerSecond: rate}
		a.own = append(a.own, name)
	}
	starts := later(f.now, one.Launch.StartsAt)
	if one.LaunchedAt != nil {
		starts = later(*one.LaunchedAt, one.Launch.StartsAt)
	}
	follows := starts.Add(one.Launch.ScoutsWait.After)
	if !one.State.Launched() {
		ahead := 1.0 // the share of scouts
		if one.Launch.Scouts > 0 {
			ahead = float64(one.Launch.Scouts) / float64(one.Totals.Goes)
		}
		for _, k := range one.Totals.Alike {
			a.rows(k, float64(k.Rows)*ahead, starts)
			a.rows(k, float64(k.Rows)*(1-ahead), follows)
		}
		return 0, nil
	}
	messages := int64(0)
	counts, err := f.Store.CountBatch(ctx, one)
	if err != nil {
		return 0, err
	}
	for _, c := range counts {
		switch {
		case c.State != delivery.Queued && c.State != delivery.Held:
			gone += c.N
		case !c.Waiting:
			messages += c.N
		}
	}
	left, err := f.Store.LeftOf(ctx, one, messages)
	if err != nil {
		return 0, err
	}
	f.closed = 0
	for _, l := range left {
		name := ""
		if g := f.Roster.ByID(l.Gateway); g != nil {
			name = g.Name
		}
		if l.Queued {
			f.queued[l.Gateway] += int64(l.N)
		}
		switch {
		case !l.Row && l.Until != nil:
			a.load(batch.Alike{Gateway: name, Sender: l.Sender}, l.N, *l.Until)
		case !l.Row:
			a.load(batch.Alike{Gateway: name, Sender: l.Sender}, l.N, starts)
		case l.Open:
			a.spread(name, l, starts)
		default:
			f.closed += int(l.N)
			a.spread(name, l, follows)
		}
	}
	return gone, nil
}

// adding is a batch whose loads are added.
type adding struct {
	f    *foreseeing
	one  *store.Batch
	lane int
	own  []pace.LimitOf
}

// spread adds rows that wait, of a gateway and a sender, by when they may go: of each kind as
// large a part as it has of all.
func (a *adding) spread(gateway string, left store.Left, opens time.Time) {
	of, all := []batch.Alike(nil), 0.0
	for _, k := range a.one.Totals.Alike {
		if k.Gateway == gateway && k.Sender == left.Sender && a.one.Launch.HoursOf(k.Hours()) == left.Hours {
			of, all = append(of, k), all+float64(k.Rows)
		}
	}
	for _, k := range of {
		a.rows(k, left.N*float64(k.Rows)/all, opens)
	}
	if all == 0 {
		a.load(batch.Alike{Gateway: gateway, Sender: left.Sender}, left.N, opens)
	}
}

// rows adds rows of a kind: they go at their hours.
func (a *adding) rows(k batch.Alike, n float64, opens time.Time) {
	if at := a.load(k, n, later(k.At, opens)); at != nil && k.Zones != "" {
		rule, _ := a.f.Roster.Book().Rule(k.Country)
		at.Hours = hours(rule, pace.Kind(cmp.Or(a.one.Wants.Kind, string(pace.Bulk))), strings.Fields(k.Zones))
	}
}

// load adds messages that go from a moment on; nil if there are none, or no gateway is there.
func (a *adding) load(k batch.Alike, n float64, opens time.Time) *pace.Load {
	g := a.f.through(k.Gateway)
	if n <= 0 || g == nil {
		return nil
	}
	a.f.loads = append(a.f.loads, pace.Load{Of: a.one.ID.String(), Lane: a.lane, N: n, Opens: opens, Until: a.one.Launch.Until,
		Under: append(a.f.under(g, k.Sender, oneText(a.one)), a.own...)})
	return &a.f.loads[len(a.f.loads)-1]
}

// oneText reports whether all rows of a batch have the same text.
func oneText(one *store.Batch) bool {
	return one.Wants.Template == "" && !strings.ContainsAny(one.Wants.Text, "{}") &&
		!slices.ContainsFunc(one.Found.Columns, func(c batch.Column) bool { return c.Role == "text" })
}

// hours are those of a rule, worked out once for each stretch.
func hours(rule sender.Rule, kind pace.Kind, zones []string) func(time.Time) (bool, time.Time) {
	var open bool
	var from, until time.Time
	return func(at time.Time) (bool, time.Time) {
		if from.IsZero() || at.Before(from) || !until.IsZero() && !at.Before(until) {
			from = at
			open, until = rule.Hours(kind, zones, at)
		}
		return open, until
	}
}

// under are the limits of a gateway and a sender, the gateway's first.
func (f *foreseeing) under(g *roster.Gateway, from string, sameText bool) []pace.LimitOf {
	name := pace.LimitOf{Kind: "gateway", Name: g.Name}
	if _, known := f.limits[name]; !known {
		each := 1
		if g.Dialect.Limits.Counting == dialect.Requests && (sameText || !slices.Contains(g.Dialect.Submit.Same, "text")) {
			each = max(g.Dialect.Submit.Most, 1)
		}
		l := pace.Limit{PerSecond: float64(g.PerSecond * each)}
		if g.PerSecond == 0 {
			l.PerSecond = carries
		}
		if g.PausedAt != nil {
			l.PerSecond = 0
		}
		for _, q := range []struct {
			n   int
			per time.Duration
		}{{g.PerMinute, time.Minute}, {g.PerDay, 24 * time.Hour}} {
			if q.n > 0 {
				l.Quotas = append(l.Quotas, pace.Quota{N: float64(q.n * each), Per: q.per})
			}
		}
		f.limits[name] = l
	}
	all := []pace.LimitOf{name}
	if n := f.Roster.Book().Paced[from]; n > 0 {
		name := pace.LimitOf{Kind: "sender", Name: from}
		f.limits[name] = pace.Limit{PerSecond: float64(n)}
		all = append(all, name)
	}
	return all
}

// addQueues adds what waits at gateways and is of no batch that was added, and how much of
// their quotas is used.
func (f *foreseeing) addQueues(ctx context.Context) error {
	for name, l := range f.limits {
		if name.Kind != "gateway" {
			continue
		}
		g := f.Roster.ByName(name.Name)
		if g == nil {
			continue
		}
		for i := range l.Quotas {
			used, err := f.Store.WentSince(ctx, g.ID, f.now.Add(-l.Quotas[i].Per))
			if err != nil {
				return err
			}
			l.Quotas[i].Used = min(float64(used), l.Quotas[i].N)
		}
		tally, err := f.Store.Tally(ctx, store.Filter{Gateway: g.ID})
		if err != nil {
			return fmt.Errorf("counting what waits for gateway %s: %w", g.Name, err)
		}
		if n := tally.ByState[delivery.Queued] - f.queued[g.ID]; n > 0 {
			f.loads = append(f.loads, pace.Load{Of: "queue", Lane: laneQueue, Under: []pace.LimitOf{name}, N: float64(n)})
		}
	}
	return nil
}
