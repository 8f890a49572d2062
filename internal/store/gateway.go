package store

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// Gateway is a gateway: a dialect, an address, secrets and limits.
type Gateway struct {
	ID             uuid.UUID
	Name           string
	Dialect        string
	Source         string
	Address        string
	SealedSecrets  []byte
	SealedCallback []byte
	PerSecond      int
	InFlight       int
	AskAfterMs     int64
	AskKinds       map[string]int64 `gorm:"serializer:json"` // the same of kinds for which it differs
	GiveUpMs       int64
	TimeoutMs      int64
	CreatedAt      time.Time `gorm:"autoCreateTime:false"`
	PerMinute      int       // 0: not limited
	PerDay         int       // 0: not limited
	Currency       string    // of charges and balance, if the gateway does not say
	Senders        []string  `gorm:"serializer:json"` // those leased from it
	// LowBalanceMicros is the balance below which it warns; nil: never.
	LowBalanceMicros *int64
	StatementEveryMs int64 // how often its statement is fetched; 0: never by itself
	PausedAt         *time.Time
	PausedBy         string
	PausedWhy        string
	RemovedAt        *time.Time
	Version          int // grows with every change
}

// whole is the gateway with lists that are there, if only with nothing on them.
func (g Gateway) whole() Gateway {
	g.Senders = append([]string{}, g.Senders...)
	if g.AskKinds == nil {
		g.AskKinds = map[string]int64{}
	}
	return g
}

// AddGateway stores a new gateway.
func (s *Store) AddGateway(ctx context.Context, g Gateway) error {
	g = g.whole()
	return s.setting(ctx, "gateway", g.Name, func(s *Store) error {
		return s.within(ctx, roomForGateways, func() error {
			return s.within(ctx, roomForRemovedToo, func() error { return create(s.gorm(ctx), &g, "gateway "+g.Name) })
		})
	})
}

// Gateways lists the gateways that were added or changed after a count ([SettingsCount]; [FromTheStart]: all), the
// oldest first, also those that were removed: receipts for what they carried may still come.
func (s *Store) Gateways(ctx context.Context, after int64) ([]Gateway, error) {
	var gateways []Gateway
	err := s.gorm(ctx).Where("as_of > ?", after).Order("id").Find(&gateways).Error
	return gateways, err
}

// ChangeGateway writes a gateway anew, if it still is what it was when it was
// read; [ErrChanged] otherwise. Its name, dialect and identity stay.
func (s *Store) ChangeGateway(ctx context.Context, g Gateway) error {
	g.Version++
	g = g.whole()
	return s.setting(ctx, "gateway", g.Name, func(s *Store) error {
		return s.within(ctx, roomForRemovedToo, func() error {
			result := s.gorm(ctx).Model(&Gateway{}).Select("*").Omit("id", "name", "created_at").
				Where("id = ? AND version = ? AND removed_at IS NULL", g.ID, g.Version-1).Updates(&g)
			if result.Error == nil && result.RowsAffected == 0 {
				return ErrChanged
			}
			return result.Error
		})
	})
}
