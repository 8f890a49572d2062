package roster

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/store"
)

// readPasscodes reads what holds for passcodes.
func (r *Roster) readPasscodes(ctx context.Context, b *Book) error {
	set, err := r.store.PasscodeLimits(ctx)
	if err != nil {
		return fmt.Errorf("reading limits of passcodes: %w", err)
	}
	b.Limits = map[passcode.By][]passcode.Limit{}
	for _, l := range Limits(set) {
		b.Limits[l.By] = append(b.Limits[l.By], l)
	}
	blocks, err := r.store.StandingBlocks(ctx)
	if err != nil {
		return fmt.Errorf("reading blocks of passcodes: %w", err)
	}
	b.blocks = map[passcode.By]map[string]store.PasscodeBlock{}
	for _, one := range blocks {
		if b.blocks[one.By] == nil {
			b.blocks[one.By] = map[string]store.PasscodeBlock{}
		}
		value := counted(one.By, one.Value)
		if other, twice := b.blocks[one.By][value]; !twice || longer(one, other) {
			b.blocks[one.By][value] = one
		}
	}
	return r.readAlarms(ctx, b)
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

// readAlarms reads what rules found, and what was learnt from alarms that were lifted.
func (r *Roster) readAlarms(ctx context.Context, b *Book) error {
	set, err := r.store.PasscodeRules(ctx)
	if err != nil {
		return fmt.Errorf("reading what is done about fraud: %w", err)
	}
	b.Acts = maps.Clone(fraud.Usual)
	maps.Copy(b.Acts, set)
	alarms, err := r.store.StandingAlarms(ctx)
	if err != nil {
		return fmt.Errorf("reading alarms: %w", err)
	}
	b.alarms, b.honest = map[about][]store.PasscodeAlarm{}, map[ruled]float64{}
	for _, a := range alarms {
		of := about{a.By, counted(a.By, a.Value)}
		b.alarms[of] = append(b.alarms[of], a)
	}
	rates, err := r.store.HonestRates(ctx)
	if err != nil {
		return fmt.Errorf("reading what alarms were lifted: %w", err)
	}
	for _, h := range rates {
		b.honest[ruled{h.Rule, about{h.By, h.Value}}] = h.PerHour
	}
	return nil
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

// Blocked is the block because of which something gets no passcodes at a moment; false if there is none.
func (b *Book) Blocked(by passcode.By, value string, now time.Time) (store.PasscodeBlock, bool) {
	one, ok := b.blocks[by][value]
	if !ok || one.UntilAt != nil && !now.Before(*one.UntilAt) {
		return store.PasscodeBlock{}, false
	}
	return one, true
}

// CodeHash is a keyed hash of the code of a passcode.
func (r *Roster) CodeHash(id, code string) []byte {
	return r.sealer.MAC([]byte("passcode " + id + " " + code))
}

// SealFor seals what belongs to a record, and OpenFor opens it.
func (r *Roster) SealFor(id string, plain []byte) []byte { return r.sealer.Seal(plain, id) }

// OpenFor opens what SealFor sealed for the same record.
func (r *Roster) OpenFor(id string, sealed []byte) ([]byte, error) { return r.sealer.Open(sealed, id) }
