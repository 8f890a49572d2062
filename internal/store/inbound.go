package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"
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
}

// TableName names the table.
func (Inbound) TableName() string { return "inbound" }

// AddInbound keeps inbound messages. One that the gateway pushes again, under
// the same id, is kept once.
func (s *Store) AddInbound(ctx context.Context, inbound []Inbound) error {
	if len(inbound) == 0 {
		return nil
	}
	if err := s.gorm(ctx).Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(&inbound, 500).Error; err != nil {
		return fmt.Errorf("keeping %d inbound messages: %w", len(inbound), err)
	}
	return nil
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
