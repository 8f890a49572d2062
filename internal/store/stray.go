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

// Stray is a claim that matches no message yet.
type Stray struct {
	ID         uuid.UUID
	GatewayID  uuid.UUID
	GatewayRef string
	Reference  string
	At         time.Time
	Claim      delivery.State
	Cause      delivery.Cause
	Part       int
	Parts      int
	Code       string
	Note       string
	GatewayAt  *time.Time
	ReceiptID  uuid.UUID
	LookAt     *time.Time
	Looks      int
	ToNumber   string // as the gateway writes it
	Billed     `gorm:"embedded"`
}

// AddStrays keeps claims whose message is not known yet.
func (s *Store) AddStrays(ctx context.Context, strays []Stray) error {
	if len(strays) == 0 {
		return nil
	}
	if err := s.gorm(ctx).CreateInBatches(&strays, 500).Error; err != nil {
		return fmt.Errorf("keeping %d strays: %w", len(strays), err)
	}
	return nil
}

// TakeStrays locks strays whose message is to be looked for. Call it within
// [Store.Transact].
func (s *Store) TakeStrays(ctx context.Context, now time.Time, most int) ([]Stray, error) {
	var strays []Stray
	err := s.gorm(ctx).Clauses(clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}).
		Where("look_at <= ?", now).Order("look_at").Limit(most).Find(&strays).Error
	return strays, err
}

// queueCallStrays makes the strays that speak of messages which have just become
// known due at once. One that somebody is looking at just now is passed over:
// it will be looked at again.
func queueCallStrays(b *pgx.Batch, now time.Time, refs []gatewayRef) {
	if len(refs) == 0 {
		return
	}
	b.Queue(`UPDATE strays SET look_at = $1 WHERE id IN (
		SELECT t.id FROM unnest($2::text[], $3::uuid[]) AS n (ref, gateway_id)
		JOIN strays t ON t.gateway_ref = n.ref AND t.gateway_id = n.gateway_id FOR UPDATE OF t SKIP LOCKED)`, now,
		words(refs, func(r *gatewayRef) string { return r.ref }), ids(refs, func(r *gatewayRef) uuid.UUID { return r.gateway }))
}

// DropStrays removes strays that found their message.
func (s *Store) DropStrays(ctx context.Context, ids []uuid.UUID) error {
	if len(ids) == 0 {
		return nil
	}
	return s.gorm(ctx).Where("id = ANY(?::uuid[])", list(ids)).Delete(&Stray{}).Error
}

// PostponeStrays sets when strays that found nothing are looked at again; past
// the end of waiting they stay, and nobody looks any more.
func (s *Store) PostponeStrays(ctx context.Context, now time.Time, ids []uuid.UUID, most time.Duration, end time.Time) error {
	if len(ids) == 0 {
		return nil
	}
	return s.gorm(ctx).Exec(`UPDATE strays SET looks = looks + 1,
			look_at = CASE WHEN at < ? THEN NULL
				ELSE ?::timestamptz + least(interval '250 milliseconds' * power(2, least(looks, 20)), make_interval(secs => ?)) END
		WHERE id = ANY(?::uuid[])`, end, now, most.Seconds(), list(ids)).Error
}
