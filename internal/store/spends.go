package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/batch"
)

// Purse is of what a budget is.
type Purse struct {
	Scope string // batch, key or all
	ID    uuid.UUID
	Day   time.Time // zero: of all days
}

func (p Purse) day() time.Time {
	if p.Day.IsZero() {
		return time.Date(1970, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	return p.Day.UTC().Truncate(24 * time.Hour)
}

// OpenPurse locks a budget for some currencies and returns what is spent of it. Call it within
// [Store.Transact], for several always in the same order; until it ends nobody else spends.
func (s *Store) OpenPurse(ctx context.Context, p Purse, currencies []string) (batch.Sums, error) {
	var b pgx.Batch
	b.Queue(`INSERT INTO batch_spends (scope, id, day, currency, micros) SELECT $1, $2, $3, c, 0 FROM unnest($4::text[]) AS c
		ORDER BY c ON CONFLICT DO NOTHING`, p.Scope, p.ID, p.day(), currencies)
	if err := s.send(ctx, &b); err != nil {
		return nil, fmt.Errorf("opening a budget: %w", err)
	}
	spent := batch.Sums{}
	_, err := query(ctx, s.hot(), func(rows pgx.Rows) (currency string, err error) {
		var micros int64
		err = rows.Scan(&currency, &micros)
		spent[currency] = micros
		return currency, err
	}, `SELECT currency, micros FROM batch_spends WHERE scope = $1 AND id = $2 AND day = $3 ORDER BY currency FOR UPDATE`,
		p.Scope, p.ID, p.day())
	if err != nil {
		return nil, fmt.Errorf("opening a budget: %w", err)
	}
	return spent, nil
}

// Spend notes what is spent of a budget that was opened, all in all.
func (s *Store) Spend(ctx context.Context, p Purse, spent batch.Sums) error {
	var b pgx.Batch
	for currency, micros := range spent {
		b.Queue("UPDATE batch_spends SET micros = $5 WHERE scope = $1 AND id = $2 AND day = $3 AND currency = $4",
			p.Scope, p.ID, p.day(), currency, micros)
	}
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("spending: %w", err)
	}
	return nil
}
