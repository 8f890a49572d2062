package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"calmpigeon.example/internal/core/delivery"
)

// Receipt is a callback as it came in.
type Receipt struct {
	ID         uuid.UUID
	GatewayID  uuid.UUID
	ReceivedAt time.Time
	Method     string
	Query      string
	Header     map[string]string `gorm:"serializer:json"`
	Body       []byte
	Genuine    bool
	Problem    string
	SettledAt  *time.Time
}

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
}

// Exchange is a raw exchange with a gateway, its secrets masked.
type Exchange struct {
	ID            uuid.UUID
	GatewayID     uuid.UUID
	Purpose       string // submit or query
	Method        string
	URL           string
	RequestHeader map[string]string `gorm:"serializer:json"`
	RequestBody   []byte
	Status        int
	ReplyHeader   map[string]string `gorm:"serializer:json"`
	ReplyBody     []byte
	Error         string
	StartedAt     time.Time
	TookUs        int64
}

// StoreReceipts commits callbacks as they came in.
func (s *Store) StoreReceipts(ctx context.Context, receipts []Receipt) error {
	if err := s.db.WithContext(ctx).CreateInBatches(&receipts, 500).Error; err != nil {
		return fmt.Errorf("storing %d receipts: %w", len(receipts), err)
	}
	return nil
}

// StoreExchanges keeps raw exchanges.
func (s *Store) StoreExchanges(ctx context.Context, exchanges []Exchange) error {
	if len(exchanges) == 0 {
		return nil
	}
	if err := s.db.WithContext(ctx).CreateInBatches(&exchanges, 500).Error; err != nil {
		return fmt.Errorf("storing %d exchanges: %w", len(exchanges), err)
	}
	return nil
}

// TakeReceipts locks stored callbacks that nobody has read yet, oldest first.
// Call it within [Store.Transact].
func (s *Store) TakeReceipts(ctx context.Context, most int) ([]Receipt, error) {
	var receipts []Receipt
	err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}).
		Where("settled_at IS NULL").Order("id").Limit(most).Find(&receipts).Error
	return receipts, err
}

// SettleReceipts marks callbacks as read, with what was wrong with those that
// could not be.
func (s *Store) SettleReceipts(ctx context.Context, now time.Time, receipts []Receipt) error {
	var well []uuid.UUID
	for _, r := range receipts {
		if r.Problem == "" {
			well = append(well, r.ID)
			continue
		}
		// Rare: each has a wording of its own.
		if err := s.db.WithContext(ctx).Exec("UPDATE receipts SET settled_at = ?, problem = ? WHERE id = ?", now, r.Problem, r.ID).Error; err != nil {
			return err
		}
	}
	if len(well) == 0 {
		return nil
	}
	return s.db.WithContext(ctx).Exec("UPDATE receipts SET settled_at = ? WHERE id IN ?", now, well).Error
}

// AddStrays keeps claims whose message is not known yet.
func (s *Store) AddStrays(ctx context.Context, strays []Stray) error {
	if len(strays) == 0 {
		return nil
	}
	return s.db.WithContext(ctx).CreateInBatches(&strays, 1000).Error
}

// TakeStrays locks strays whose message is to be looked for. Call it within
// [Store.Transact].
func (s *Store) TakeStrays(ctx context.Context, now time.Time, most int) ([]Stray, error) {
	var strays []Stray
	err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}).
		Where("look_at <= ?", now).Order("look_at").Limit(most).Find(&strays).Error
	return strays, err
}

// CallStrays makes the strays that speak of messages which have just become
// known due at once. One that somebody is looking at just now is passed over:
// it will be looked at again.
func (s *Store) CallStrays(ctx context.Context, now time.Time, known []Message) error {
	var refs [][]any
	for _, m := range known {
		if m.GatewayRef != "" {
			refs = append(refs, []any{m.GatewayRef, m.GatewayID})
		}
	}
	if len(refs) == 0 {
		return nil
	}
	return s.db.WithContext(ctx).Exec(`UPDATE strays SET look_at = ? WHERE id IN (
		SELECT id FROM strays WHERE (gateway_ref, gateway_id) IN ? FOR UPDATE SKIP LOCKED)`, now, refs).Error
}

// DropStrays removes strays that found their message.
func (s *Store) DropStrays(ctx context.Context, ids []uuid.UUID) error {
	if len(ids) == 0 {
		return nil
	}
	return s.db.WithContext(ctx).Where("id IN ?", ids).Delete(&Stray{}).Error
}

// PostponeStrays sets when strays that found nothing are looked at again; past
// the end of waiting they stay, and nobody looks any more.
func (s *Store) PostponeStrays(ctx context.Context, now time.Time, ids []uuid.UUID, most time.Duration, end time.Time) error {
	if len(ids) == 0 {
		return nil
	}
	return s.db.WithContext(ctx).Exec(`UPDATE strays SET looks = looks + 1,
			look_at = CASE WHEN at < ? THEN NULL
				ELSE ?::timestamptz + least(interval '250 milliseconds' * power(2, least(looks, 20)), make_interval(secs => ?)) END
		WHERE id IN ?`, end, now, most.Seconds(), ids).Error
}

// Exchanges returns the raw exchanges and callbacks behind a message's
// evidence, by their ids.
func (s *Store) Exchanges(ctx context.Context, timeline []Evidence) (map[uuid.UUID]Exchange, map[uuid.UUID]Receipt, error) {
	var exchangeIDs, receiptIDs []uuid.UUID
	for _, e := range timeline {
		if e.ExchangeID != nil {
			exchangeIDs = append(exchangeIDs, *e.ExchangeID)
		}
		if e.ReceiptID != nil {
			receiptIDs = append(receiptIDs, *e.ReceiptID)
		}
	}
	exchanges, receipts := map[uuid.UUID]Exchange{}, map[uuid.UUID]Receipt{}
	if len(exchangeIDs) > 0 {
		var rows []Exchange
		if err := s.db.WithContext(ctx).Where("id IN ?", exchangeIDs).Find(&rows).Error; err != nil {
			return nil, nil, fmt.Errorf("reading exchanges: %w", err)
		}
		for _, r := range rows {
			exchanges[r.ID] = r
		}
	}
	if len(receiptIDs) > 0 {
		var rows []Receipt
		if err := s.db.WithContext(ctx).Where("id IN ?", receiptIDs).Find(&rows).Error; err != nil {
			return nil, nil, fmt.Errorf("reading receipts: %w", err)
		}
		for _, r := range rows {
			receipts[r.ID] = r
		}
	}
	return exchanges, receipts, nil
}
