package passcodes

import (
	"context"
	"crypto/hmac"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/store"
)

// Checked is what is said of a code that was typed.
type Checked struct {
	Verdict passcode.Verdict
	Left    int       // tries
	ID      uuid.UUID // zero: there is none
}

// Check says whether a code is that of a passcode. Of all who bring the right one, at the same time and on whatever
// instance, one is told so. Of what is no passcode it says what it says of a wrong code.
func (p *Passcodes) Check(ctx context.Context, id uuid.UUID, typed string) (Checked, error) {
	return p.check(ctx, id.String(), typed, func(tx *store.Store) (store.Passcode, error) { return tx.HoldPasscode(ctx, id) })
}

// CheckCurrent does so with the newest passcode of a number for a purpose.
func (p *Passcodes) CheckCurrent(ctx context.Context, to, country, purpose, typed string) (Checked, error) {
	r, err := phone.Read(to, country)
	if err != nil {
		return Checked{}, fault.New("to", fault.Why(err), "the number that the code was sent to")
	}
	number := r.Number.String()
	return p.check(ctx, number+" "+purpose, typed, func(tx *store.Store) (store.Passcode, error) {
		return tx.HoldCurrent(ctx, number, purpose)
	})
}

// typedMost is how long a code is that is typed, in octets: as it is shown, with spaces, in other digits.
const typedMost = 200

func (p *Passcodes) check(
	ctx context.Context,
	name, typed string,
	hold func(*store.Store) (store.Passcode, error),
) (c Checked, err error) {
	if len(typed) > typedMost {
		return c, fault.New("code", fmt.Sprintf("it has %d octets", len(typed)), fmt.Sprintf("at most %d", typedMost))
	}
	err = p.Store.Transact(ctx, func(tx *store.Store) error {
		c = Checked{}
		record, err := hold(tx)
		unknown := errors.Is(err, store.ErrNotFound)
		if err != nil && !unknown {
			return err
		}
		// What is unknown costs what a wrong code costs.
		is := hmac.Equal(record.Hash, p.Roster.CodeHash(record.ID.String(), passcode.Read(typed, record.Form)))
		if unknown {
			return nil // it is judged below
		}
		now := p.Now()
		c.ID, c.Verdict = record.ID, record.Standing().Judge(is, now)
		switch c.Verdict {
		case passcode.Right:
			record.UsedAt, record.Sealed = &now, []byte{}
		case passcode.Wrong:
			record.Tries++
		default:
			c.Left = record.Standing().Left()
			return nil
		}
		var steps []store.Stepped
		if record.CheckedAt == nil {
			steps = append(steps, store.SteppedOf(&record, record.Gateway, store.StepChecked, now.Sub(record.CreatedAt)))
		}
		if c.Verdict == passcode.Right {
			steps = append(steps, store.SteppedOf(&record, record.Gateway, store.StepRight, now.Sub(record.CreatedAt)))
		}
		c.Left, record.CheckedAt = record.Standing().Left(), &now
		return errors.Join(tx.PutPasscode(ctx, record), tx.CountSteps(ctx, steps))
	})
	if err == nil && c.Verdict == "" {
		c = p.decoys.judge(name, p.Now())
	}
	return c, err
}

// Sent is a passcode that was sent again.
type Sent struct {
	store.Passcode
	Gateway  string // through which it goes
	Warnings []intake.Warning
}

// Resend is how a passcode is sent again.
type Resend struct {
	Anyway bool // although the last text was delivered
	Voice  bool // spoken in a call
}

// Again sends the same code once more, while it lives: after a pause that grows, a few times, and through another gateway
// than the one that was silent, if there is one, or spoken in a call. Where the last text was delivered it does so only if
// it is meant.
func (p *Passcodes) Again(ctx context.Context, key store.Key, id uuid.UUID, how Resend) (Sent, error) {
	record, err := p.Store.Passcode(ctx, id)
	if err != nil {
		return Sent{}, err
	}
	if err := p.mayGoAgain(record); err != nil {
		return Sent{}, err
	}
	last, err := p.Store.Message(ctx, record.MessageID)
	if err != nil {
		return Sent{}, err
	}
	if last.State == delivery.Delivered && !how.Anyway {
		return Sent{}, ErrDelivered
	}
	plain, err := p.Roster.OpenFor(record.ID.String(), record.Sealed)
	if err != nil {
		return Sent{}, err
	}
	var k kept
	if err := json.Unmarshal(plain, &k); err != nil {
		return Sent{}, fmt.Errorf("opening a passcode: %w", err)
	}
	d := k.Draft
	d.To, d.Country, d.KeyID, d.KeyLabels = record.Number, "", key.ID, key.Labels
	d.ValidFor = span.Format(record.EndsAt.Sub(p.Now()).Truncate(time.Second))
	if last.State != delivery.Delivered {
		if g := p.Roster.ByID(last.GatewayID); g != nil {
			d.Rather = g.Name
		}
	}
	var plan intake.Plan
	var faults fault.Faults
	if how.Voice {
		plan, d, err = p.call(d, key, record, k.Code)
	} else {
		plan, faults, err = p.Intake.Plan(d, smstext.Level(key.Cure), intake.Whole)
	}
	if err != nil {
		return Sent{}, err
	}
	if len(faults) > 0 {
		return Sent{}, faults
	}
	if b := p.blocked(plan, record.Address, p.Now()); b != nil {
		return Sent{}, b
	}
	m := p.Intake.Message(plan, d)
	m.KeyID = key.ID
	sealed, err := p.Roster.Seal(&m.Content)
	if err != nil {
		return Sent{}, err
	}
	acceptance := []store.Acceptance{{Message: m, Begun: intake.Begun(plan), Sealed: sealed}}
	if err := p.Store.PrepareToAccept(ctx, acceptance); err != nil {
		return Sent{}, err
	}
	err = p.Store.Transact(ctx, func(tx *store.Store) error {
		if record, err = tx.HoldPasscode(ctx, id); err != nil { // another may have sent it meanwhile, or used it
			return err
		}
		if err := p.mayGoAgain(record); err != nil {
			return err
		}
		now := p.Now()
		one := issuing{record: record, subjects: p.subjects(record)}
		c, err := p.hold(ctx, tx, []issuing{one}, now)
		if err != nil {
			return err
		}
		full, err := c.admit(one.subjects, now)
		if err != nil {
			return err
		}
		if full != nil {
			return p.slowed(record, full, plan)
		}
		if err := tx.AcceptClaimed(ctx, acceptance); err != nil {
			return err
		}
		record.Sends++
		record.Gateway = m.GatewayID
		record.MessageID, record.AgainAt = m.ID, now.Add(passcode.PauseAfter(record.Sends))
		if record.Sends >= record.SendsMost {
			record.Sealed = []byte{}
		}
		return errors.Join(tx.PutPasscode(ctx, record), tx.PutCounters(ctx, c.held, now),
			tx.CountSteps(ctx, []store.Stepped{store.SteppedOf(&record, m.GatewayID, store.StepAgain, 0)}))
	})
	if err != nil {
		return Sent{}, err
	}
	p.announce(m)
	return Sent{record, plan.Gateway.Name, plan.Warnings}, nil
}

// call plans a draft through the first gateway that speaks it in a call: in its own words, or, where such a gateway takes
// only what is registered with it, in those of a template that is.
func (p *Passcodes) call(d intake.Draft, key store.Key, record store.Passcode, code string) (intake.Plan, intake.Draft, error) {
	var whys []string
	book := p.Roster.Book()
	for _, g := range p.Roster.All() {
		if !g.Dialect.Takes.Voice {
			continue
		}
		drafts := []intake.Draft{d}
		if g.Dialect.Takes.Texts == dialect.Registered {
			drafts = nil
			for _, t := range book.Templates() {
				if t.Template.RegisteredAt(record.Country, g.Name) {
					one := d
					one.Template, one.Text, one.Language = t.Name, "", d.Language
					one.Fields = given(t.Template, nil, code, record.EndsAt.Sub(record.CreatedAt))
					drafts = append(drafts, one)
				}
			}
			slices.SortStableFunc(drafts, func(a, b intake.Draft) int { // its own first
				own := func(d intake.Draft) int { return map[bool]int{true: 0, false: 1}[d.Template == record.Template] }
				return own(a) - own(b)
			})
		}
		why := "no template is registered with it that it could speak"
		for _, one := range drafts {
			one.Gateway, one.Sender = g.Name, ""
			plan, faults, err := p.Intake.Plan(one, smstext.Level(key.Cure), intake.Whole)
			if err != nil {
				return plan, one, err
			}
			if len(faults) == 0 && strings.Contains(plan.Text, code) {
				return plan, one, nil
			}
			if why = "its words do not hold the code"; len(faults) > 0 {
				why = faults[0].Wrong
			}
		}
		whys = append(whys, g.Name+": "+why)
	}
	if whys == nil {
		return intake.Plan{}, d, fault.Because(ErrVoice, "no gateway calls")
	}
	return intake.Plan{}, d, fault.Because(ErrVoice, "%s", strings.Join(whys, "; "))
}

// mayGoAgain says why a passcode may not be sent again now.
func (p *Passcodes) mayGoAgain(record store.Passcode) error {
	now := p.Now()
	switch v := record.Standing().Judge(true, now); {
	case v != passcode.Right:
		return fault.Because(ErrOver, "the passcode is %s", v)
	case record.Sends >= record.SendsMost:
		return fault.Because(ErrOften, "%d times", record.Sends)
	case now.Before(record.AgainAt):
		return &TooSoon{record.AgainAt}
	}
	return nil
}

// End ends a passcode: no code is right any more.
func (p *Passcodes) End(ctx context.Context, id uuid.UUID) (record store.Passcode, err error) {
	err = p.Store.Transact(ctx, func(tx *store.Store) error {
		if record, err = tx.HoldPasscode(ctx, id); err != nil {
			return err
		}
		now := p.Now()
		if !record.Standing().Open(now) {
			return nil
		}
		record.EndedAt, record.Sealed = &now, []byte{}
		return tx.PutPasscode(ctx, record)
	})
	return record, err
}
