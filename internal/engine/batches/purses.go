package batches

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/store"
)

// purses are the budgets that a batch spends of, open while rows of it become messages: what
// does not fit into each of them does not go. Nil: there are none.
type purses struct {
	all   []*purse
	empty *purse // the one that has too little
}

type purse struct {
	batch.Purse
	of   store.Purse
	stop batch.Stop
}

// openPurses opens the budgets of a batch, always in the same order.
func (b *Batches) openPurses(ctx context.Context, s *store.Store, one *store.Batch, now time.Time) (*purses, error) {
	key, err := uuid.Parse(one.Launch.KeyID)
	if err != nil {
		key = one.KeyID
	}
	all := []*purse{
		{batch.Purse{Name: "the day's budget of all batches", Budget: b.BudgetDay}, store.Purse{Scope: "all", Day: now}, batch.ByDay},
	}
	ofKey := func(name string, key uuid.UUID, budget batch.Sums) {
		all = append(all, &purse{batch.Purse{Name: name, Budget: budget}, store.Purse{Scope: "key", ID: key, Day: now}, batch.ByDay})
	}
	for _, maker := range one.Launch.MakerBudgets {
		id, err := uuid.Parse(maker.KeyID)
		if err != nil {
			return nil, fmt.Errorf("opening the budget of key %q: %w", maker.KeyID, err)
		}
		ofKey("the day's budget of the key that made its key", id, maker.Budget)
	}
	ofKey("the day's budget of its key", key, one.Launch.KeyBudget)
	all = append(all, &purse{batch.Purse{Name: "its budget", Budget: one.Launch.Budget}, purseOf(one), batch.ByBudget})
	var open *purses
	for _, each := range all {
		if len(each.Budget) == 0 {
			continue
		}
		if each.Spent, err = s.OpenPurse(ctx, each.of, currencies(each.Budget, one.Totals.Micros)); err != nil {
			return nil, err
		}
		if open == nil {
			open = &purses{}
		}
		open.all = append(open.all, each)
	}
	return open, nil
}

// purseOf is the budget of a batch.
func purseOf(one *store.Batch) store.Purse { return store.Purse{Scope: "batch", ID: one.ID} }

// currencies are those of amounts.
func currencies(all ...batch.Sums) []string {
	set := map[string]bool{}
	for _, sums := range all {
		for currency := range sums {
			set[currency] = true
		}
	}
	return slices.Sorted(maps.Keys(set))
}

// take takes a price out of each purse; false if one of them has too little.
func (p *purses) take(m price.Money) bool {
	if p == nil {
		return true
	}
	for i, each := range p.all {
		if each.Takes(m) {
			continue
		}
		for _, before := range p.all[:i] {
			before.Gives(m)
		}
		p.empty = each
		return false
	}
	return true
}

// give gives a price back to each purse.
func (p *purses) give(m price.Money) {
	if p == nil {
		return
	}
	for _, each := range p.all {
		each.Gives(m)
	}
}

// isEmpty reports whether one of them has too little.
func (p *purses) isEmpty() bool { return p != nil && p.empty != nil }

// close notes what was spent.
func (p *purses) close(ctx context.Context, s *store.Store) error {
	if p == nil {
		return nil
	}
	for _, each := range p.all {
		if err := s.Spend(ctx, each.of, each.Spent); err != nil {
			return err
		}
	}
	return nil
}

// spent is what the messages of a batch cost until now.
func (b *Batches) spent(ctx context.Context, s *store.Store, one *store.Batch) (batch.Sums, error) {
	counts, err := s.CountBatch(ctx, *one)
	sums := batch.Sums{}
	for _, c := range counts {
		if !c.Waiting && c.Currency != "" {
			sums[c.Currency] += c.Micros
		}
	}
	return sums, err
}
