package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"calmpigeon.example/internal/core/delivery"
)

// Key is an API key. The key itself is shown once and kept nowhere.
type Key struct {
	ID         uuid.UUID
	Name       string
	Handle     string
	Hash       []byte
	CreatedAt  time.Time `gorm:"autoCreateTime:false"`
	LastUsedAt *time.Time
	RevokedAt  *time.Time
	Cure       string // how far characters may be replaced in what it sends
}

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
	GiveUpMs       int64
	TimeoutMs      int64
	CreatedAt      time.Time `gorm:"autoCreateTime:false"`
	PerMinute      int       // 0: not limited
	PerDay         int       // 0: not limited
	Currency       string    // of charges and balance, if the gateway does not say
	Senders        []string  `gorm:"serializer:json"` // those leased from it
	// LowBalanceMicros is the balance below which it warns; nil: never.
	LowBalanceMicros *int64
	PausedAt         *time.Time
	PausedBy         string
	PausedWhy        string
	RemovedAt        *time.Time
	Version          int // grows with every change
}

// create inserts one record; what names it must be new.
func create(db *gorm.DB, record any, what string) error {
	err := db.Create(record).Error
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		return fmt.Errorf("%s: %w", what, ErrExists)
	}
	if err != nil {
		return fmt.Errorf("adding %s: %w", what, err)
	}
	return nil
}

// AddKey stores a new key.
func (s *Store) AddKey(ctx context.Context, k Key) error {
	return create(s.db.WithContext(ctx), &k, "key "+k.Name)
}

// Keys lists all keys, the oldest first.
func (s *Store) Keys(ctx context.Context) ([]Key, error) {
	var keys []Key
	err := s.db.WithContext(ctx).Order("id").Find(&keys).Error
	return keys, err
}

// KeyByHandle returns the key with this public part.
func (s *Store) KeyByHandle(ctx context.Context, handle string) (Key, error) {
	var k Key
	err := s.db.WithContext(ctx).Where("handle = ?", handle).First(&k).Error
	return k, found(err)
}

// RevokeKey ends a key's use. A key that is revoked stays so.
func (s *Store) RevokeKey(ctx context.Context, id uuid.UUID, now time.Time) error {
	return changed(s.db.WithContext(ctx).Exec("UPDATE keys SET revoked_at = coalesce(revoked_at, ?) WHERE id = ?", now, id))
}

// TouchKeys notes when keys were last used.
func (s *Store) TouchKeys(ctx context.Context, ids []uuid.UUID, now time.Time) error {
	return s.db.WithContext(ctx).Exec("UPDATE keys SET last_used_at = ? WHERE id IN ?", now, ids).Error
}

func changed(result *gorm.DB) error {
	if result.Error == nil && result.RowsAffected == 0 {
		return ErrNotFound
	}
	return result.Error
}

// AddGateway stores a new gateway.
func (s *Store) AddGateway(ctx context.Context, g Gateway) error {
	g.Senders = append([]string{}, g.Senders...) // an empty list is a list
	return create(s.db.WithContext(ctx), &g, "gateway "+g.Name)
}

// Gateways lists all gateways, the oldest first, also those that were removed:
// receipts for what they carried may still come.
func (s *Store) Gateways(ctx context.Context) ([]Gateway, error) {
	var gateways []Gateway
	err := s.db.WithContext(ctx).Order("id").Find(&gateways).Error
	return gateways, err
}

// ChangeGateway writes a gateway anew, if it still is what it was when it was
// read; [ErrChanged] otherwise. Its name, dialect and identity stay.
func (s *Store) ChangeGateway(ctx context.Context, g Gateway) error {
	g.Version++
	g.Senders = append([]string{}, g.Senders...)
	result := s.db.WithContext(ctx).Model(&Gateway{}).Select("*").Omit("id", "name", "created_at").
		Where("id = ? AND version = ? AND removed_at IS NULL", g.ID, g.Version-1).Updates(&g)
	if result.Error == nil && result.RowsAffected == 0 {
		return ErrChanged
	}
	return result.Error
}

// Unsettled counts messages of a gateway that wait to be sent or of which more
// is to be heard.
func (s *Store) Unsettled(ctx context.Context, gateway uuid.UUID) (n int64, err error) {
	var open []delivery.State
	for _, state := range delivery.States {
		if !state.Final() {
			open = append(open, state)
		}
	}
	err = s.db.WithContext(ctx).Model(&Message{}).Where("gateway_id = ? AND state IN ?", gateway, open).Count(&n).Error
	return n, err
}

// Lease is what came of asking to keep a gateway.
type Lease struct {
	Held bool
	// Fresh: it was held by nobody or by somebody else before.
	Fresh bool
	// Clean: whoever held it before gave it back, or nobody ever did. If not,
	// Idle is for how long nobody has held it.
	Clean bool
	Idle  time.Duration
}

// TakeLease makes the holder the keeper of a gateway for a while, or prolongs
// that it is. The database's clock decides, so that the clocks of the
// instances do not matter.
func (s *Store) TakeLease(ctx context.Context, gateway, holder uuid.UUID, span time.Duration) (Lease, error) {
	var lease Lease
	err := s.Transact(ctx, func(s *Store) error {
		if err := s.db.Exec("INSERT INTO keepers (gateway_id, holder, until) VALUES (?, ?, '-infinity') ON CONFLICT DO NOTHING", gateway, uuid.Nil).Error; err != nil {
			return err
		}
		var before struct {
			Holder uuid.UUID
			Idle   float64 // seconds since it ran out; negative while it lasts
		}
		if err := s.db.Raw("SELECT holder, CASE WHEN until = '-infinity' THEN 0 ELSE extract(epoch FROM clock_timestamp() - until) END AS idle FROM keepers WHERE gateway_id = ? FOR UPDATE", gateway).Scan(&before).Error; err != nil {
			return err
		}
		if before.Holder != holder && before.Holder != uuid.Nil && before.Idle < 0 {
			return nil
		}
		lease = Lease{Held: true, Fresh: before.Holder != holder || before.Idle >= 0, Clean: before.Holder == uuid.Nil,
			Idle: time.Duration(max(before.Idle, 0) * float64(time.Second))}
		return s.db.Exec("UPDATE keepers SET holder = ?, until = clock_timestamp() + make_interval(secs => ?) WHERE gateway_id = ?",
			holder, span.Seconds(), gateway).Error
	})
	if err != nil {
		return Lease{}, fmt.Errorf("taking the lease: %w", err)
	}
	return lease, nil
}

// HoldsLease reports whether the holder is the keeper, and keeps it so until
// the transaction ends. Call it within [Store.Transact].
func (s *Store) HoldsLease(ctx context.Context, gateway, holder uuid.UUID) (bool, error) {
	var held []bool
	err := s.db.WithContext(ctx).Raw("SELECT until > clock_timestamp() FROM keepers WHERE gateway_id = ? AND holder = ? FOR SHARE", gateway, holder).Scan(&held).Error
	return len(held) == 1 && held[0], err
}

// GiveLease gives a gateway back, so that the next keeper need not wait.
func (s *Store) GiveLease(ctx context.Context, gateway, holder uuid.UUID) error {
	return s.db.WithContext(ctx).Exec("UPDATE keepers SET holder = ?, until = '-infinity' WHERE gateway_id = ? AND holder = ?", uuid.Nil, gateway, holder).Error
}
