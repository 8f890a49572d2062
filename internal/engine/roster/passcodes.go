package roster

import (
	"bytes"
	"context"
	"maps"
	"net/netip"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/store"
)

func (r *Roster) readLimits(ctx context.Context, b *Book, _ int64, _ bool) error {
	set, err := r.store.PasscodeLimits(ctx)
	b.Limits = map[passcode.By][]passcode.Limit{}
	for _, l := range Limits(set) {
		b.Limits[l.By] = append(b.Limits[l.By], l)
	}
	return err
}

// readBlocks reads the blocks that stand.
func (r *Roster) readBlocks(ctx context.Context, b *Book, after int64, all bool) error {
	if all || len(b.blocks) > 2*store.StandingMost { // many are over
		after = store.FromTheStart
	}
	blocks, err := r.store.StandingBlocks(ctx, after)
	b.blocks = standing(b.blocks, blocks, after, func(one store.PasscodeBlock) (about, uuid.UUID, bool) {
		return about{one.By, counted(one.By, one.Value)}, one.ID, one.LiftedAt == nil
	})
	return err
}

// standing is what stands about each thing, the newest first: what did before, with the records that were read after a
// count in their places. A new map is made.
func standing[T any](last map[about][]T, records []T, after int64, of func(T) (about, uuid.UUID, bool)) map[about][]T {
	all := make(map[about][]T, len(records))
	if after != store.FromTheStart {
		maps.Copy(all, last)
	}
	for _, one := range records {
		what, id, stands := of(one)
		list := slices.DeleteFunc(slices.Clone(all[what]), func(o T) bool { _, other, _ := of(o); return other == id })
		if stands {
			list = append(list, one)
		}
		slices.SortFunc(list, func(a, b T) int {
			_, x, _ := of(a)
			_, y, _ := of(b)
			return bytes.Compare(y[:], x[:])
		})
		if all[what] = list; len(list) == 0 {
			delete(all, what)
		}
	}
	return all
}

// counted is a value as passcodes are counted by it: addresses of IPv6 were by each of them once.
func counted(by passcode.By, value string) string {
	if by == passcode.Address {
		if at, err := netip.ParseAddr(value); err == nil {
			return passcode.AddressOf(at)
		}
	}
	return value
}

// about is what an alarm is about.
type about struct {
	by    passcode.By
	value string
}

// ruled is that, and the rule.
type ruled struct {
	rule fraud.Rule
	about
}

func (r *Roster) readActs(ctx context.Context, b *Book, _ int64, _ bool) error {
	set, err := r.store.PasscodeRules(ctx)
	b.Acts = maps.Clone(fraud.Usual)
	maps.Copy(b.Acts, set)
	return err
}

// readAlarms reads what rules found, and what was learnt from alarms that were lifted.
func (r *Roster) readAlarms(ctx context.Context, b *Book, after int64, all bool) error {
	if all || len(b.alarms) > 2*store.StandingMost { // many are over
		after = store.FromTheStart
	}
	alarms, err := r.store.StandingAlarms(ctx, after)
	if err != nil {
		return err
	}
	b.alarms = standing(b.alarms, alarms, after, func(a store.PasscodeAlarm) (about, uuid.UUID, bool) {
		return about{a.By, counted(a.By, a.Value)}, a.ID, a.LiftedAt == nil
	})
	rates, err := r.store.HonestRates(ctx)
	b.honest = make(map[ruled]float64, len(rates))
	for _, h := range rates {
		b.honest[ruled{h.Rule, about{h.By, h.Value}}] = h.PerHour
	}
	return err
}

// Alarms are those that stand about something at a moment.
func (b *Book) Alarms(by passcode.By, value string, now time.Time) (standing []store.PasscodeAlarm) {
	for _, a := range b.alarms[about{by, value}] {
		if a.Stands(now) {
			standing = append(standing, a)
		}
	}
	return standing
}

// Stopping is the alarm because of which something gets fewer passcodes, or none, at a moment; false if there is none.
func (b *Book) Stopping(act fraud.Act, by passcode.By, value string, now time.Time) (store.PasscodeAlarm, bool) {
	for _, a := range b.Alarms(by, value, now) {
		if a.Act == act {
			return a, true
		}
	}
	return store.PasscodeAlarm{}, false
}

// Honest is how many numbers an hour there were when an alarm of a rule about something was lifted; zero if none was.
func (b *Book) Honest(f fraud.Found) float64 { return b.honest[ruled{f.Rule, about{f.By, f.Value}}] }

// longer reports whether a block stands longer than another.
func longer(a, b store.PasscodeBlock) bool {
	return a.UntilAt == nil || b.UntilAt != nil && a.UntilAt.After(*b.UntilAt)
}

// Limits are the limits that hold where some are set: those, and the usual ones of what none are set for.
func Limits(set []store.PasscodeLimit) []passcode.Limit {
	var all []passcode.Limit
	for _, l := range passcode.Usual {
		if !slices.ContainsFunc(set, func(s store.PasscodeLimit) bool { return s.By == l.By && s.PerWindow == l.Window.String() }) {
			all = append(all, l)
		}
	}
	for _, s := range set {
		if w, err := passcode.ParseWindow(s.PerWindow); err == nil && s.Most != nil {
			all = append(all, passcode.Limit{By: s.By, Window: w, Most: *s.Most})
		}
	}
	slices.SortFunc(all, func(a, b passcode.Limit) int {
		if by := slices.Index(passcode.Bys, a.By) - slices.Index(passcode.Bys, b.By); by != 0 {
			return by
		}
		return int(a.Window) - int(b.Window)
	})
	return all
}

// Blocked is the block because of which something gets no passcodes at a moment: of several the one that stands longest.
// It is false if there is none.
func (b *Book) Blocked(by passcode.By, value string, now time.Time) (longest store.PasscodeBlock, blocked bool) {
	for _, one := range b.blocks[about{by, value}] {
		if (one.UntilAt == nil || now.Before(*one.UntilAt)) && (!blocked || longer(one, longest)) {
			longest, blocked = one, true
		}
	}
	return longest, blocked
}

// CodeHash is a keyed hash of the code of a passcode.
func (r *Roster) CodeHash(id, code string) []byte {
	return r.sealer.MAC([]byte("passcode " + id + " " + code))
}

// SealFor seals what belongs to a record, and OpenFor opens it.
func (r *Roster) SealFor(id string, plain []byte) []byte { return r.sealer.Seal(plain, id) }

// OpenFor opens what SealFor sealed for the same record.
func (r *Roster) OpenFor(id string, sealed []byte) ([]byte, error) { return r.sealer.Open(sealed, id) }
