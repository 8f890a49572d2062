package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
)

// Inbound is what somebody wrote to one of our senders.
type Inbound struct {
	ID         uuid.UUID
	GatewayID  uuid.UUID
	ReceiptID  uuid.UUID
	GatewayRef string
	FromNumber string // as the gateway writes them
	ToNumber   string
	Text       string
	At         *time.Time
	ReceivedAt time.Time
	FromE164   string     // who wrote; empty: it cannot be read
	ToSender   string     // to whom, as our senders are written
	MessageID  *uuid.UUID // that it answers; nil: none is known
	DoneAt     *time.Time // somebody said that it wants no answer
	DoneBy     string
}

// TableName names the table.
func (Inbound) TableName() string { return "inbound" }

// AddInbound keeps inbound messages, and returns those that are new. One that the
// gateway pushes again, under the same id, is kept once.
func (s *Store) AddInbound(ctx context.Context, inbound []Inbound) ([]Inbound, error) {
	if len(inbound) == 0 {
		return nil, nil
	}
	kept, err := query(
		ctx,
		s.hot(),
		scanID,
		`INSERT INTO inbound (id, gateway_id, receipt_id, gateway_ref, from_number, to_number, text, at, received_at, from_e164,
			to_sender, message_id)
		SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::uuid[], $4::text[], $5::text[], $6::text[], $7::text[], $8::timestamptz[],
			$9::timestamptz[], $10::text[], $11::text[], $12::uuid[])
		ORDER BY 2, 4, 1 -- two who add the same wait for each other in one order
		ON CONFLICT DO NOTHING RETURNING id`,
		ids(inbound, func(m *Inbound) uuid.UUID { return m.ID }),
		ids(inbound, func(m *Inbound) uuid.UUID { return m.GatewayID }),
		ids(inbound, func(m *Inbound) uuid.UUID { return m.ReceiptID }),
		words(inbound, func(m *Inbound) string { return m.GatewayRef }),
		words(inbound, func(m *Inbound) string { return m.FromNumber }),
		words(inbound, func(m *Inbound) string { return m.ToNumber }),
		words(inbound, func(m *Inbound) string { return m.Text }),
		column(inbound, func(m *Inbound) *time.Time { return m.At }),
		column(inbound, func(m *Inbound) time.Time { return m.ReceivedAt }),
		words(inbound, func(m *Inbound) string { return m.FromE164 }),
		words(inbound, func(m *Inbound) string { return m.ToSender }),
		maybeIDs(inbound, func(m *Inbound) *uuid.UUID { return m.MessageID }),
	)
	if err != nil {
		return nil, fmt.Errorf("keeping %d inbound messages: %w", len(inbound), err)
	}
	return slices.DeleteFunc(slices.Clone(inbound), func(m Inbound) bool { return !slices.Contains(kept, m.ID) }), nil
}

// Inbound lists inbound messages, the newest first, from the one after the
// cursor; the nil cursor starts at the newest.
func (s *Store) Inbound(ctx context.Context, after uuid.UUID, most int) ([]Inbound, error) {
	db := s.gorm(ctx)
	if after != uuid.Nil {
		db = db.Where("id < ?", after)
	}
	var inbound []Inbound
	err := db.Order("id DESC").Limit(most).Find(&inbound).Error
	return inbound, err
}
