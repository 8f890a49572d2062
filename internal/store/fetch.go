package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
)

// StatementFetch is how far a gateway's statements were fetched.
type StatementFetch struct {
	GatewayID   uuid.UUID `gorm:"primaryKey"`
	Through     time.Time // the end of the last span that was fetched
	NotBefore   time.Time // is the next one fetched, after failures
	LeasedUntil *time.Time
	Tries       int        // in vain, one after the other
	FailedAt    *time.Time // the first of them
	Failure     string
}

// StatementFetches returns how far the statements of each gateway were fetched.
func (s *Store) StatementFetches(ctx context.Context) (map[uuid.UUID]StatementFetch, error) {
	var all []StatementFetch
	if err := s.gorm(ctx).Find(&all).Error; err != nil {
		return nil, fmt.Errorf("reading how far statements were fetched: %w", err)
	}
	fetches := make(map[uuid.UUID]StatementFetch, len(all))
	for _, f := range all {
		fetches[f.GatewayID] = f
	}
	return fetches, nil
}

// ClaimFetch gives a gateway's next statement to whoever asks first, until the lease ends; nil if it is not due, or
// somebody else fetches it. One that was never fetched begins at first.
func (s *Store) ClaimFetch(ctx context.Context, gateway uuid.UUID, first, now, until time.Time) (*StatementFetch, error) {
	var mine []StatementFetch
	err := s.gorm(ctx).Raw(`INSERT INTO statement_fetches AS f (gateway_id, through, not_before, leased_until) VALUES (?, ?, ?, ?)
		ON CONFLICT (gateway_id) DO UPDATE SET leased_until = excluded.leased_until
			WHERE f.not_before <= ? AND (f.leased_until IS NULL OR f.leased_until <= ?)
		RETURNING *`, gateway, first, now, until, now, now).Scan(&mine).Error
	if err != nil {
		return nil, fmt.Errorf("claiming a statement: %w", err)
	}
	if len(mine) == 0 {
		return nil, nil
	}
	return &mine[0], nil
}

// EndFetch notes how a statement that was claimed was fetched, and ends the lease; false if the lease was over by then.
func (s *Store) EndFetch(ctx context.Context, f StatementFetch) (bool, error) {
	result := s.gorm(ctx).Model(&StatementFetch{}).Where("gateway_id = ? AND leased_until = ?", f.GatewayID, f.LeasedUntil).
		Updates(map[string]any{"through": f.Through, "not_before": f.NotBefore, "leased_until": nil, "tries": f.Tries, "failed_at": f.FailedAt,
			"failure": Keepable(f.Failure)})
	if result.Error != nil {
		return false, fmt.Errorf("noting how a statement was fetched: %w", result.Error)
	}
	return result.RowsAffected == 1, nil
}
