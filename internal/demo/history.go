package demo

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/engine"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/store"
)

// The demo has a past, so that there is something to be seen over time: a week of crossings moved, passcodes, and a
// storm, as it would have gone. It is written as it would have been by the engine, by plans that intake made and evidence
// that was added and folded, with times of the past; only that nothing went anywhere.

const (
	// historyDays is how long the past is, and historyEnds how long before the demo's start it ends: gateways'
	// statements of what the demo sends begin after it.
	historyDays = 7
	historyEnds = 20 * time.Minute
)

// historyLabel tells messages of the past apart, and historyFilter chooses them.
var historyLabel = map[string]string{"history": "week"}

const historyFilter = "history=week"

// homes are where passengers of the past are from: those countries that take every text from every sender, as
// often as they are.
var homes = func() (all []port) {
	often := map[string]int{"GB": 6, "FR": 3, "SE": 1, "DE": 2, "NO": 1, "GR": 1, "PL": 1}
	for _, p := range ports {
		for range often[p.country] {
			all = append(all, p)
		}
	}
	return all
}()

// way is how a gateway of the practice fleet did in the past.
type way struct {
	seconds float64 // in which half of the messages arrive, in a quiet hour
	fails   float64
}

var ways = map[string]way{
	"commonquay":  {2.1, 0.012},
	"harbourline": {3.8, 0.025},
	"longshore":   {14, 0.04},
	"sandbank":    {9, 0.05},
	"stillwater":  {6, 0.03},
	"waxseal":     {5, 0.03},
}

// chargesTold are the gateways of the practice fleet that tell with their replies what a message costs.
var chargesTold = []string{"longshore", "sandbank", "stillwater", "waxseal"}

// charge is what a gateway told that a message costs; nil if it tells nothing. Longshore charges a fifth more for
// France than its price list says.
func charge(gateway, country string, estimated int64) *int64 {
	switch {
	case !slices.Contains(chargesTold, gateway):
		return nil
	case gateway == "longshore" && country == "FR":
		estimated += estimated / 5
	}
	return &estimated
}

// curly is a text as a word processor writes it: its quote makes two segments of one.
const curly = "Lanternholm Ferries: today’s 0740 crossing leaves from berth 3. Please be at the gate 15 minutes before."

// elsewhereWay is that of the others.
var elsewhereWay = way{7, 0.04}

// justNow is the end of the past, in which a crossing to France moves and messages about it fail.
const justNow = 100 * time.Minute

// season is what happened in an hour: how many messages there were, how much longer they took, and how much more
// failed.
func season(gateway, country string, at, start time.Time) (longer, fails float64) {
	switch before := start.Sub(at); {
	case gateway == "harbourline" && before > 27*time.Hour && before < 31*time.Hour: // an evening on which it was slow
		return 7, 0
	case gateway == "harbourline" && country == "FR" && before < justNow: // it fails in France
		return 1, 0.6
	case before > 75*time.Hour && before < 76*time.Hour: // the night of the storm
		return 2.5, 0.05
	}
	return 1, 0
}

// busy is how many messages an hour has.
func busy(at, start time.Time) int {
	daylight := math.Pow(math.Sin(math.Pi*float64(at.UTC().Hour())/24), 2)
	n := 25 + int(190*daylight)
	switch before := start.Sub(at); {
	case before > 75*time.Hour && before <= 76*time.Hour:
		n += 900
	case before < justNow: // whatever the hour at which somebody looks
		n += 120
	}
	return n
}

// writeHistory writes what of the past is missing, an hour after the other, and reports how many messages that were. A
// start that was cut short is made good by the next.
func writeHistory(ctx context.Context, e *engine.Engine, start time.Time) (n int, err error) {
	end := start.Add(-historyEnds)
	from := start.Truncate(time.Hour).AddDate(0, 0, -historyDays)
	last, err := e.Store.Find(ctx, store.Filter{Labels: []string{historyFilter}}, uuid.Nil, 1)
	if err != nil {
		return 0, err
	}
	if len(last) == 1 {
		from = last[0].CreatedAt.Truncate(time.Hour).Add(time.Hour)
	}
	keys, err := e.Store.Keys(ctx)
	if err != nil {
		return 0, err
	}
	for at := from; at.Before(end); at = at.Add(time.Hour) {
		random := rand.New(rand.NewPCG(uint64(at.Unix()), 1)) // #nosec G404 -- a made-up past, the same at each start
		var hour []past
		for range busy(at, start) {
			when := at.Add(time.Duration(random.Int64N(int64(time.Hour))))
			if !when.Before(end) {
				continue
			}
			one, err := pastMessage(e, random, when, start, keys[0])
			if err != nil {
				return n, err
			}
			hour = append(hour, one)
		}
		if err := writePast(ctx, e, hour); err != nil {
			return n, fmt.Errorf("writing the past of %s: %w", at.Format(time.RFC3339), err)
		}
		n += len(hour)
	}
	return n, nil
}

// past is a message of the past and what became of it.
type past struct {
	message                store.Message
	begun                  string
	went, answered, ended  store.Evidence
	wentAt, takenAt, endAt time.Time
	steps                  []store.Stepped // of a passcode
}

// pastMessage makes up a message.
func pastMessage(e *engine.Engine, random *rand.Rand, at, start time.Time, key store.Key) (past, error) {
	p := homes[random.IntN(len(homes))]
	if start.Sub(at) < justNow && random.IntN(2) == 0 {
		p = ports[4]
	}
	to := fmt.Sprintf(p.numbers, random.IntN(p.many*8/10))
	draft := intake.Draft{To: to, Text: berth, Kind: "transactional", AtAnyHour: true, Labels: historyLabel}
	switch storm := start.Sub(at) > 75*time.Hour && start.Sub(at) <= 76*time.Hour; {
	case storm && random.IntN(10) > 0:
		draft.Kind, draft.Text = "bulk", "Lanternholm Ferries: a storm is coming. All Sunday crossings are cancelled; tickets stay valid."
	case random.IntN(3) == 0:
		draft.Kind, draft.Sender = "otp", "LH Boarding"
		draft.Labels = map[string]string{"history": historyLabel["history"], "passcode": purpose}
		draft.Text = fmt.Sprintf("%06d signs you in to your boarding pass.", random.IntN(1_000_000))
	case random.IntN(20) == 0:
		draft.Text = curly
	}
	plan, faults, err := e.Intake.Plan(draft, smstext.Level(""), intake.Whole)
	if err == nil && faults != nil {
		err = faults
	}
	if err != nil {
		return past{}, err
	}
	plan.ID = store.IDAt(at)
	one := past{message: e.Intake.Message(plan, draft), begun: intake.Begun(plan)}
	m := &one.message
	m.KeyID, m.CreatedAt, m.ChangedAt, m.DueAt, m.ValidUntil = key.ID, at, at, at, at.Add(plan.ValidFor)
	if _, err := e.Roster.Seal(&m.Content); err != nil {
		return past{}, err
	}
	w, ok := ways[plan.Gateway.Name]
	if !ok {
		w = elsewhereWay
	}
	longer, fails := season(plan.Gateway.Name, m.Country, at, start)
	rush := 1 + 1.4*math.Pow(math.Sin(math.Pi*float64(at.UTC().Hour())/24), 4)
	took := func(seconds, wide float64) time.Duration {
		return time.Duration(seconds * math.Exp(wide*random.NormFloat64()) * float64(time.Second)).Truncate(time.Microsecond)
	}
	one.wentAt = at.Add(took(0.02, 0.5))
	one.takenAt = one.wentAt.Add(took(0.06, 0.4))
	one.endAt = one.takenAt.Add(took(w.seconds*longer*rush, 0.55))
	if latest := start.Add(-time.Second); one.endAt.After(latest) {
		one.endAt = latest
	}
	one.went = course.Own(*m, one.wentAt, delivery.Sending, 1, "")
	said := func(source delivery.Source, claim delivery.State, at time.Time) store.Evidence {
		return store.Evidence{
			ID:        store.IDAt(at),
			MessageID: m.ID,
			At:        at,
			Source:    source,
			Claim:     claim,
			Attempt:   1,
			GatewayID: &m.GatewayID,
		}
	}
	one.answered = said(delivery.Reply, delivery.Accepted, one.takenAt)
	one.answered.GatewayRef = fmt.Sprintf("past-%x", m.ID[:10])
	one.answered.ChargeMicros = charge(plan.Gateway.Name, m.Country, m.Price.Micros())
	if one.answered.ChargeMicros != nil {
		one.answered.ChargeCurrency = m.Price.Currency()
	}
	switch failing := random.Float64() < w.fails+fails; {
	case !failing:
		one.ended = said(delivery.Receipt, delivery.Delivered, one.endAt)
	case random.IntN(4) == 0:
		one.ended = said(delivery.Receipt, delivery.Expired, one.endAt)
	default:
		one.ended = said(delivery.Receipt, delivery.Undeliverable, one.endAt)
		one.ended.Cause = []delivery.Cause{delivery.Absent, delivery.InvalidNumber, delivery.Barred}[random.IntN(3)]
	}
	if m.Kind == "otp" {
		one.steps = pastSteps(m, one.ended.Claim == delivery.Delivered, one.endAt, random)
	}
	return one, nil
}

// pastSteps are how far a passcode of the past came: of those that arrived most are typed, a few wrongly and never
// rightly; what takes long comes too late for some.
func pastSteps(m *store.Message, arrived bool, at time.Time, random *rand.Rand) []store.Stepped {
	p := store.Passcode{CreatedAt: m.CreatedAt, Country: m.Country, Purpose: purpose}
	steps := []store.Stepped{store.SteppedOf(&p, m.GatewayID, store.StepIssued, 0)}
	took := at.Sub(m.CreatedAt)
	if !arrived || random.Float64() < 0.04+0.1*math.Min(took.Minutes(), 1) {
		return steps
	}
	typing := time.Duration((5 + 9*random.ExpFloat64()) * float64(time.Second))
	steps = append(steps, store.SteppedOf(&p, m.GatewayID, store.StepChecked, took+typing))
	if random.IntN(50) > 0 {
		steps = append(steps, store.SteppedOf(&p, m.GatewayID, store.StepRight, took+typing))
	}
	return steps
}

// writePast writes messages of the past with what became of them, in one transaction: nobody sees them wait, and
// nothing is sent.
func writePast(ctx context.Context, e *engine.Engine, all []past) error {
	if len(all) == 0 {
		return nil
	}
	when := map[uuid.UUID]*past{}
	return e.Store.Transact(ctx, func(s *store.Store) error {
		set := make([]store.Acceptance, len(all))
		messages := make([]store.Message, len(all))
		var went, answered, ended []store.Evidence
		var steps []store.Stepped
		for i := range all {
			p := &all[i]
			when[p.message.ID] = p
			set[i] = store.Acceptance{Message: p.message, Begun: p.begun}
			went = append(went, p.went)
			answered, ended = append(answered, p.answered), append(ended, p.ended)
			steps = append(steps, p.steps...)
		}
		if err := s.CountSteps(ctx, steps); err != nil {
			return err
		}
		if _, err := s.Accept(ctx, set); err != nil {
			return err
		}
		for i := range set {
			messages[i] = set[i].Message
		}
		at := all[0].message.CreatedAt
		err := s.AppendTo(ctx, at, messages, went, func(_, m *store.Message, _ delivery.Outcome) {
			m.ChangedAt, m.BeganAt = when[m.ID].wentAt, when[m.ID].wentAt
		})
		if err != nil {
			return err
		}
		err = s.AppendTo(ctx, at, messages, answered, func(_, m *store.Message, _ delivery.Outcome) { m.ChangedAt = when[m.ID].takenAt })
		if err != nil {
			return err
		}
		return s.AppendTo(ctx, at, messages, ended, func(_, m *store.Message, _ delivery.Outcome) {
			m.ChangedAt = when[m.ID].endAt
			m.SettledAt = &when[m.ID].endAt
		})
	})
}
