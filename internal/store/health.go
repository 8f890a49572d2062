package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"gorm.io/gorm/clause"

	"calmpigeon.example/internal/core/delivery"
)

// Health is how a gateway fares, as its keeper sees it.
type Health struct {
	GatewayID       uuid.UUID `gorm:"primaryKey"`
	RestUntil       *time.Time
	RestSince       *time.Time // nil: it does not rest
	RestCause       delivery.Cause
	RestNote        string
	BalanceMicros   *int64
	BalanceCurrency string
	BalanceAt       *time.Time
	BalanceNote     string // why it could not be read the last time
	AskedAt         *time.Time
	// AskedIn is how the gateway was spoken to when it last answered a query about
	// a message that it knew; empty if it never did.
	AskedIn string
	// NamedIn is the same of when a receipt last bore an id that the gateway had
	// given in a reply.
	NamedIn string
}

// TableName names the table.
func (Health) TableName() string { return "gateway_health" }

// Healths returns what is known of each gateway.
func (s *Store) Healths(ctx context.Context) (map[uuid.UUID]Health, error) {
	var all []Health
	if err := s.gorm(ctx).Find(&all).Error; err != nil {
		return nil, fmt.Errorf("reading how gateways fare: %w", err)
	}
	healths := make(map[uuid.UUID]Health, len(all))
	for _, h := range all {
		healths[h.GatewayID] = h
	}
	return healths, nil
}

func (s *Store) putHealth(ctx context.Context, h Health, columns ...string) error {
	err := s.gorm(ctx).
		Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "gateway_id"}}, DoUpdates: clause.AssignmentColumns(columns)}).
		Create(&h).
		Error
	if err != nil {
		return fmt.Errorf("noting how a gateway fares: %w", err)
	}
	return nil
}

// NoteRest notes that a gateway rests, and why; with a nil RestSince, that it
// does not any more.
func (s *Store) NoteRest(ctx context.Context, h Health) error {
	return s.putHealth(ctx, h, "rest_until", "rest_since", "rest_cause", "rest_note")
}

// NoteBalance notes what is left at a gateway.
func (s *Store) NoteBalance(ctx context.Context, gateway uuid.UUID, micros int64, currency string, at time.Time) error {
	return s.putHealth(ctx, Health{GatewayID: gateway, BalanceMicros: &micros, BalanceCurrency: currency, BalanceAt: &at},
		"balance_micros", "balance_currency", "balance_at", "balance_note")
}

// NoteNoBalance notes why the balance could not be read. The last one that was
// read stays.
func (s *Store) NoteNoBalance(ctx context.Context, gateway uuid.UUID, why string) error {
	return s.putHealth(ctx, Health{GatewayID: gateway, BalanceNote: why}, "balance_note")
}

// NoteAnswer notes how a gateway was spoken to when it answered a query about a
// message that it knows.
func (s *Store) NoteAnswer(ctx context.Context, gateway uuid.UUID, in string) error {
	return s.putHealth(ctx, Health{GatewayID: gateway, AskedIn: in}, "asked_in")
}

// NoteNamed notes how a gateway was spoken to when a receipt of it bore an id that
// it had given in a reply.
func (s *Store) NoteNamed(ctx context.Context, gateway uuid.UUID, in string) error {
	return s.putHealth(ctx, Health{GatewayID: gateway, NamedIn: in}, "named_in")
}

// MayAskBalance reports whether the balance of a gateway was not asked for
// since, and if so notes that it is now: one instance asks for all.
func (s *Store) MayAskBalance(ctx context.Context, gateway uuid.UUID, now, since time.Time) (bool, error) {
	result := s.gorm(ctx).Exec(`INSERT INTO gateway_health AS h (gateway_id, asked_at) VALUES (?, ?)
		ON CONFLICT (gateway_id) DO UPDATE SET asked_at = excluded.asked_at WHERE h.asked_at IS NULL OR h.asked_at <= ?`, gateway, now, since)
	return result.RowsAffected == 1, result.Error
}

// Slot is how many went through a gateway in a short time.
type Slot struct {
	Slot  time.Time
	N     int
	Width time.Duration // how long it is; the messages went at any moment of it
}

// Went returns what went through a gateway since, the oldest first, and forgets
// what is older.
func (s *Store) Went(ctx context.Context, gateway uuid.UUID, since time.Time) ([]Slot, error) {
	if err := s.gorm(ctx).Exec("DELETE FROM gateway_paces WHERE gateway_id = ? AND slot < ?", gateway, since).Error; err != nil {
		return nil, fmt.Errorf("pacing a gateway: %w", err)
	}
	slots, err := query(ctx, s.hot(), func(rows pgx.Rows) (one Slot, err error) {
		var seconds int
		err = rows.Scan(&one.Slot, &one.N, &seconds)
		one.Width = time.Duration(seconds) * time.Second
		return one, err
	}, "SELECT slot, n, width FROM gateway_paces WHERE gateway_id = $1 ORDER BY slot", gateway)
	if err != nil {
		return nil, fmt.Errorf("pacing a gateway: %w", err)
	}
	return slots, nil
}

// WentSince is how many went through a gateway since a moment, as far as its quotas need it.
func (s *Store) WentSince(ctx context.Context, gateway uuid.UUID, since time.Time) (n int, err error) {
	err = s.gorm(ctx).
		Raw("SELECT coalesce(sum(n), 0) FROM gateway_paces WHERE gateway_id = ? AND slot >= ?", gateway, since).
		Scan(&n).
		Error
	return n, err
}

// NoteWent notes that some are about to go through a gateway. Call it within
// the transaction that claims them.
func (s *Store) NoteWent(ctx context.Context, gateway uuid.UUID, slot Slot) error {
	err := s.gorm(ctx).Exec(`INSERT INTO gateway_paces AS p (gateway_id, slot, n, width) VALUES (?, ?, ?, ?)
		ON CONFLICT (gateway_id, slot) DO UPDATE SET n = p.n + excluded.n, width = greatest(p.width, excluded.width)`,
		gateway, slot.Slot, slot.N, int(slot.Width.Seconds())).Error
	if err != nil {
		return fmt.Errorf("pacing a gateway: %w", err)
	}
	return nil
}
