// Package money tells what messages cost: as estimated, as gateways told, and as their statements bill, side by side.
package money

import (
	"cmp"
	"context"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/store"
)

// By is what is held side by side.
type By string

// What can be held side by side.
const (
	Month   By = "month"
	Day     By = "day"
	Gateway By = "gateway"
	Country By = "country"
	Kind    By = "kind"
)

// Bys are all of them.
var Bys = []By{Month, Day, Gateway, Country, Kind}

// Group is what those messages cost that have something in common.
type Group struct {
	At      time.Time // when the month or day began
	Gateway uuid.UUID
	Country string
	Kind    string
	price.Account
	// Kinds: it is of messages of one kind. Statements do not tell kinds apart, so nothing is known of what they bill.
	Kinds bool
}

// Money tells what messages cost.
type Money struct{ kit.Kit }

// Side tells what messages cost, all together and side by side: the latest first, then those that cost most messages.
func (m *Money) Side(ctx context.Context, f store.Spending, by []By) (all Group, groups []Group, err error) {
	has := func(one By) bool { return slices.Contains(by, one) }
	f.ByMonth, f.ByDay, f.ByGateway, f.ByCountry, f.ByKind = has(Month), has(Day), has(Gateway), has(Country), has(Kind)
	spent, err := m.Store.Spent(ctx, f)
	if err != nil {
		return all, nil, err
	}
	all.Kinds = f.ByKind || f.Kind != ""
	var billed []store.BilledSum
	if !all.Kinds {
		if billed, err = m.Store.Billed(ctx, f); err != nil {
			return all, nil, err
		}
	}
	found := map[store.Along]*Group{}
	of := func(along store.Along) []*Group {
		if len(by) == 0 {
			return []*Group{&all}
		}
		if found[along] == nil {
			found[along] = &Group{At: along.At, Gateway: along.Gateway, Country: along.Country, Kind: along.Kind, Kinds: all.Kinds}
		}
		return []*Group{&all, found[along]}
	}
	for _, s := range spent {
		for _, g := range of(s.Along) {
			add(&g.Account, s)
		}
	}
	for _, b := range billed {
		for _, g := range of(b.Along) {
			if !b.Matched {
				g.ForeignLines += b.N
				g.Foreign.Add(b.Currency, b.Micros)
				continue
			}
			g.Billed.Add(b.N, b.Currency, b.Micros, b.OursCurrency, b.OursMicros)
		}
	}
	for _, g := range found {
		groups = append(groups, *g)
	}
	slices.SortFunc(groups, func(x, y Group) int {
		return cmp.Or(y.At.Compare(x.At), cmp.Compare(y.Messages, x.Messages), cmp.Compare(y.Billed.N, x.Billed.N),
			cmp.Compare(x.Country, y.Country), cmp.Compare(x.Kind, y.Kind), slices.Compare(x.Gateway[:], y.Gateway[:]))
	})
	return all, groups, nil
}

func add(a *price.Account, s store.Spent) {
	a.Messages += s.N
	if s.Currency == "" {
		a.Unpriced += s.N
	} else {
		a.Estimated.Add(s.Currency, s.Micros)
	}
	if s.Told {
		a.Told.Add(s.N, s.ToldCurrency, s.ToldMicros, s.Currency, s.Micros)
	}
	if s.AvoidableN > 0 {
		a.AvoidableMessages += s.AvoidableN
		a.Avoidable.Add(s.Currency, s.AvoidableMicros)
	}
}

// excessDays is how far back charges are looked at that are above the estimate.
const excessDays = 7

// Excess is a gateway that charges more than was estimated for messages to a country.
type Excess struct {
	Gateway uuid.UUID
	Country string
	Billed  bool // by its statements; else as it told
	price.Excess
}

// Excesses are charges of the last seven days that are above what was estimated for the same messages: as told, and
// where that is not above it, as billed.
func (m *Money) Excesses(ctx context.Context) ([]Excess, error) {
	today := m.Now().UTC().Truncate(24 * time.Hour)
	_, groups, err := m.Side(
		ctx,
		store.Spending{Since: today.AddDate(0, 0, 1-excessDays), Until: today.AddDate(0, 0, 1)},
		[]By{Gateway, Country},
	)
	if err != nil {
		return nil, err
	}
	var all []Excess
	for _, g := range groups {
		if e, is := g.Told.Excess(); is {
			all = append(all, Excess{Gateway: g.Gateway, Country: g.Country, Excess: e})
		} else if e, is := g.Billed.Excess(); is {
			all = append(all, Excess{Gateway: g.Gateway, Country: g.Country, Billed: true, Excess: e})
		}
	}
	return all, nil
}
