package passcodes

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// Alarmed is returned for what gets fewer passcodes, or none, because an alarm stands.
type Alarmed struct {
	store.PasscodeAlarm
	Full *passcode.Full // nil: it gets none
}

func (a *Alarmed) Error() string {
	said := fmt.Sprintf("An alarm stands for the %s %s until %s: %s", a.By, a.Value, a.UntilAt.UTC().Format(time.RFC3339), a.Rule.About())
	if a.Full != nil {
		said += fmt.Sprintf("; it gets %d an hour, one more from %s on", a.Full.Most, a.Full.Until.Format(time.RFC3339))
	}
	return said
}

// raise raises alarms of what was found, where something is to be done about it, none stands, and it is more than what
// is known to be honest.
func (p *Passcodes) raise(ctx context.Context, all []fraud.Found, now time.Time) error {
	book, raised := p.Roster.Book(), false
	for _, f := range all {
		act := book.Acts[f.Rule]
		if act == fraud.Off || stands(book, f, now) || !f.Above(book.Honest(f)) {
			continue
		}
		a := store.PasscodeAlarm{ID: store.IDAt(now), Rule: f.Rule, By: f.By, Value: f.Value, Act: act, RaisedAt: now, PerHour: f.PerHour,
			Evidence: store.AlarmEvidence{Found: f}}
		for _, one := range f.Sample {
			a.Evidence.Sample = append(
				a.Evidence.Sample,
				store.AlarmSample{Passcode: one.ID, Number: fmt.Sprintf("+%d", one.Number), At: one.At,
					Codes: one.Codes},
			)
		}
		is, err := p.Store.RaisePasscodeAlarm(ctx, a)
		if full := (*store.FullError)(nil); errors.As(err, &full) {
			p.Log.Error("an alarm about passcodes is not raised", "rule", f.Rule, "by", f.By, "error", err)
			continue
		}
		if err != nil {
			return err
		}
		if is {
			raised = true
			p.Log.Warn("passcodes look like fraud", "rule", f.Rule, "by", f.By, "value", f.Value, "act", act, "evidence", f.Say())
		}
	}
	if raised {
		return p.Roster.Reload(ctx)
	}
	return nil
}

// stands reports whether an alarm of the same rule and subject stands.
func stands(book *roster.Book, f fraud.Found, now time.Time) bool {
	return slices.ContainsFunc(book.Alarms(f.By, f.Value, now), func(a store.PasscodeAlarm) bool { return a.Rule == f.Rule })
}

// stop is an alarm and the currency of what it stopped.
type stop struct {
	alarm    uuid.UUID
	currency string
}

// stopsMost is of how many alarms it is counted at the same time what they stop.
const stopsMost = 10_000

// noteStop counts what is not sent because of an alarm. It is written later: a flood has to cost nothing.
func (p *Passcodes) noteStop(alarm uuid.UUID, cost price.Money, priced bool) {
	p.stopping.Lock()
	defer p.stopping.Unlock()
	k := stop{alarm: alarm}
	if priced {
		k.currency = cost.Currency()
	}
	s, known := p.stops[k]
	if !known && len(p.stops) >= stopsMost {
		return
	}
	s.AlarmID, s.Currency = k.alarm, k.currency
	s.N++
	if priced {
		s.Micros += cost.Micros()
	}
	p.stops[k] = s
}

func (p *Passcodes) flushStops(ctx context.Context) error {
	p.stopping.Lock()
	set := make([]store.AlarmStop, 0, len(p.stops))
	for _, s := range p.stops {
		set = append(set, s)
	}
	p.stops = map[stop]store.AlarmStop{}
	p.stopping.Unlock()
	if len(set) == 0 {
		return nil
	}
	err := p.Store.AddAlarmStops(ctx, set)
	if err != nil { // they are counted with the next
		p.stopping.Lock()
		defer p.stopping.Unlock()
		for _, s := range set {
			k := stop{s.AlarmID, s.Currency}
			s.N, s.Micros = s.N+p.stops[k].N, s.Micros+p.stops[k].Micros
			p.stops[k] = s
		}
	}
	return err
}

// Errors of alarms.
var (
	ErrNotStanding = errors.New("it does not stand")
	ErrStands      = errors.New("it was not lifted")
)

// Lift ends an alarm as a false one. What it was about raises no other of its rule before there is twice as much.
func (p *Passcodes) Lift(ctx context.Context, id uuid.UUID, by, why string) (store.PasscodeAlarm, error) {
	return p.change(ctx, id, func(a *store.PasscodeAlarm) error {
		if a.LiftedAt != nil {
			return nil
		}
		now := p.Now()
		a.LiftedAt, a.LiftedBy, a.LiftedWhy = &now, by, why
		return nil
	})
}

// Restore takes lifting an alarm back, with what was learnt from it. It stands as long as it would have, unless there is
// a newer one.
func (p *Passcodes) Restore(ctx context.Context, id uuid.UUID) (store.PasscodeAlarm, error) {
	return p.change(ctx, id, func(a *store.PasscodeAlarm) error {
		if a.LiftedAt == nil {
			return ErrStands
		}
		a.LiftedAt, a.LiftedBy, a.LiftedWhy = nil, "", ""
		now := p.Now()
		if a.UntilAt.After(now) && stands(p.Roster.Book(), a.Evidence.Found, now) {
			a.UntilAt = now
		}
		return nil
	})
}

// Act changes what is done because of an alarm that stands.
func (p *Passcodes) Act(ctx context.Context, id uuid.UUID, act fraud.Act) (store.PasscodeAlarm, error) {
	return p.change(ctx, id, func(a *store.PasscodeAlarm) error {
		if !a.Stands(p.Now()) {
			return ErrNotStanding
		}
		a.Act = act
		return nil
	})
}

func (p *Passcodes) change(ctx context.Context, id uuid.UUID, change func(*store.PasscodeAlarm) error) (store.PasscodeAlarm, error) {
	a, err := p.Store.ChangePasscodeAlarm(ctx, id, change)
	if err != nil {
		return a, err
	}
	return a, p.Roster.Reload(ctx)
}
