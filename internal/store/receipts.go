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
	ID         uuid.UUID         `json:"id"`
	GatewayID  uuid.UUID         `json:"gateway_id"`
	ReceivedAt time.Time         `json:"received_at"`
	Method     string            `json:"method"`
	Query      string            `json:"query"`
	Header     map[string]string `json:"header" gorm:"serializer:json"`
	Body       Bytes             `json:"body"`
	Genuine    bool              `json:"genuine"`
	Problem    string            `json:"problem"`
	SettledAt  *time.Time        `json:"settled_at"`
}

// Stray is a claim that matches no message yet.
type Stray struct {
	ID         uuid.UUID      `json:"id"`
	GatewayID  uuid.UUID      `json:"gateway_id"`
	GatewayRef string         `json:"gateway_ref"`
	Reference  string         `json:"reference"`
	At         time.Time      `json:"at"`
	Claim      delivery.State `json:"claim"`
	Cause      delivery.Cause `json:"cause"`
	Part       int            `json:"part"`
	Parts      int            `json:"parts"`
	Code       string         `json:"code"`
	Note       string         `json:"note"`
	GatewayAt  *time.Time     `json:"gateway_at"`
	ReceiptID  uuid.UUID      `json:"receipt_id"`
	LookAt     *time.Time     `json:"look_at"`
	Looks      int            `json:"looks"`
	ToNumber   string         `json:"to_number"` // as the gateway writes it
	Billed
}

// Inbound is what somebody wrote to one of our senders.
type Inbound struct {
	ID         uuid.UUID  `json:"id"`
	GatewayID  uuid.UUID  `json:"gateway_id"`
	ReceiptID  uuid.UUID  `json:"receipt_id"`
	GatewayRef string     `json:"gateway_ref"`
	FromNumber string     `json:"from_number"` // as the gateway writes them
	ToNumber   string     `json:"to_number"`
	Text       string     `json:"text"`
	At         *time.Time `json:"at"`
	ReceivedAt time.Time  `json:"received_at"`
}

// TableName names the table.
func (Inbound) TableName() string { return "inbound" }

// AddInbound keeps inbound messages. One that the gateway pushes again, under
// the same id, is kept once.
func (s *Store) AddInbound(ctx context.Context, inbound []Inbound) error {
	if len(inbound) == 0 {
		return nil
	}
	err := s.db.WithContext(ctx).Exec("INSERT INTO inbound SELECT * FROM jsonb_populate_recordset(NULL::inbound, ?::jsonb) ON CONFLICT DO NOTHING", rows(inbound)).Error
	if err != nil {
		return fmt.Errorf("keeping %d inbound messages: %w", len(inbound), err)
	}
	return nil
}

// Inbound lists inbound messages, the newest first, from the one after the
// cursor; the nil cursor starts at the newest.
func (s *Store) Inbound(ctx context.Context, after uuid.UUID, most int) ([]Inbound, error) {
	db := s.db.WithContext(ctx)
	if after != uuid.Nil {
		db = db.Where("id < ?", after)
	}
	var inbound []Inbound
	err := db.Order("id DESC").Limit(most).Find(&inbound).Error
	return inbound, err
}

// Exchange is a raw exchange with a gateway, its secrets masked.
type Exchange struct {
	ID            uuid.UUID         `json:"id"`
	GatewayID     uuid.UUID         `json:"gateway_id"`
	Purpose       string            `json:"purpose"` // submit or query
	Method        string            `json:"method"`
	URL           string            `json:"url"`
	RequestHeader map[string]string `json:"request_header" gorm:"serializer:json"`
	RequestBody   Bytes             `json:"request_body"`
	Status        int               `json:"status"`
	ReplyHeader   map[string]string `json:"reply_header" gorm:"serializer:json"`
	ReplyBody     Bytes             `json:"reply_body"`
	Error         string            `json:"error"`
	StartedAt     time.Time         `json:"started_at"`
	TookUs        int64             `json:"took_us"`
}

// StoreReceipts commits callbacks as they came in.
func (s *Store) StoreReceipts(ctx context.Context, receipts []Receipt) error {
	if err := insert(s.db.WithContext(ctx), "receipts", receipts); err != nil {
		return fmt.Errorf("storing %d receipts: %w", len(receipts), err)
	}
	return nil
}

// StoreExchanges keeps raw exchanges.
func (s *Store) StoreExchanges(ctx context.Context, exchanges []Exchange) error {
	if err := insert(s.db.WithContext(ctx), "exchanges", exchanges); err != nil {
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
	return s.db.WithContext(ctx).Exec("UPDATE receipts SET settled_at = ? WHERE id = ANY(?::uuid[])", now, list(well)).Error
}

// AddStrays keeps claims whose message is not known yet.
func (s *Store) AddStrays(ctx context.Context, strays []Stray) error {
	return insert(s.db.WithContext(ctx), "strays", strays)
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
	var refs []gatewayRef
	for _, m := range known {
		if m.GatewayRef != "" {
			refs = append(refs, gatewayRef{m.GatewayRef, m.GatewayID})
		}
	}
	if len(refs) == 0 {
		return nil
	}
	return s.db.WithContext(ctx).Exec(`UPDATE strays SET look_at = ? WHERE id IN (
		SELECT id FROM strays WHERE (gateway_ref, gateway_id) IN (`+refRows+`) FOR UPDATE SKIP LOCKED)`, now, rows(refs)).Error
}

// DropStrays removes strays that found their message.
func (s *Store) DropStrays(ctx context.Context, ids []uuid.UUID) error {
	if len(ids) == 0 {
		return nil
	}
	return s.db.WithContext(ctx).Where("id = ANY(?::uuid[])", list(ids)).Delete(&Stray{}).Error
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
		WHERE id = ANY(?::uuid[])`, end, now, most.Seconds(), list(ids)).Error
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
		var found []Exchange
		if err := s.db.WithContext(ctx).Where("id = ANY(?::uuid[])", list(exchangeIDs)).Find(&found).Error; err != nil {
			return nil, nil, fmt.Errorf("reading exchanges: %w", err)
		}
		for _, r := range found {
			exchanges[r.ID] = r
		}
	}
	if len(receiptIDs) > 0 {
		var found []Receipt
		if err := s.db.WithContext(ctx).Where("id = ANY(?::uuid[])", list(receiptIDs)).Find(&found).Error; err != nil {
			return nil, nil, fmt.Errorf("reading receipts: %w", err)
		}
		for _, r := range found {
			receipts[r.ID] = r
		}
	}
	return exchanges, receipts, nil
}
