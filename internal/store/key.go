package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/label"
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
	Cure       string    // how far characters may be replaced in what it sends
	Labels     label.Set // of all that is sent with it
	// BudgetDay is what batches that are launched with it may spend a day; nil: any amount.
	BudgetDay batch.Sums `gorm:"serializer:json"`
	Practice  bool       // it may see the codes of passcodes
	// PasscodeCountries are those to which it may send passcodes (ISO 3166-1); none: all.
	PasscodeCountries []string `gorm:"serializer:json"`
	// MadeBy is the key that made it; nil: it was made in the database itself, or before this was kept.
	MadeBy *uuid.UUID
}

// AddKey stores a new key.
func (s *Store) AddKey(ctx context.Context, k Key) error {
	k.PasscodeCountries = append([]string{}, k.PasscodeCountries...)
	return s.setting(ctx, "key", k.Name, func(s *Store) error {
		return s.within(ctx, roomForKeys, func() error {
			return s.within(ctx, roomForRevokedKeys, func() error { return create(s.gorm(ctx), &k, "key "+k.Name) })
		})
	})
}

// Makers lists a key, the key that made it, the key that made that one, and so on.
func (s *Store) Makers(ctx context.Context, id uuid.UUID) ([]Key, error) {
	var keys []Key
	err := s.gorm(ctx).Raw(`WITH RECURSIVE up AS (
			SELECT k.*, 0 AS step FROM keys k WHERE id = ?
			UNION ALL SELECT k.*, up.step + 1 FROM up JOIN keys k ON k.id = up.made_by)
		SELECT * FROM up ORDER BY step`, id).Scan(&keys).Error
	if err == nil && len(keys) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return nil, fmt.Errorf("looking for the makers of a key: %w", err)
	}
	return keys, nil
}

// Keys lists all keys, the oldest first.
func (s *Store) Keys(ctx context.Context) ([]Key, error) {
	var keys []Key
	err := s.gorm(ctx).Order("id").Find(&keys).Error
	return keys, err
}

// KeyByHandle returns the key with this public part.
func (s *Store) KeyByHandle(ctx context.Context, handle string) (Key, error) {
	var k Key
	err := s.gorm(ctx).Where("handle = ?", handle).First(&k).Error
	return k, found(err)
}

// RevokeKey ends a key's use, unless it is the last one in use. A key that is
// revoked stays so.
func (s *Store) RevokeKey(ctx context.Context, id uuid.UUID, now time.Time) (last bool, err error) {
	// One after the other: of two that revoke each other's key one must see what the
	// other did.
	err = s.setting(ctx, "key", "", func(s *Store) error {
		var k Key
		if err := s.gorm(ctx).Where("id = ?", id).First(&k).Error; err != nil {
			return found(err)
		}
		var others int64
		if err := s.gorm(ctx).Model(&Key{}).Where("id <> ? AND revoked_at IS NULL", id).Count(&others).Error; err != nil {
			return err
		}
		if last = others == 0 && k.RevokedAt == nil; last || k.RevokedAt != nil {
			return nil
		}
		return s.gorm(ctx).Exec("UPDATE keys SET revoked_at = ? WHERE id = ?", now, id).Error
	})
	return last, err
}

// TouchKeys notes when keys were last used.
func (s *Store) TouchKeys(ctx context.Context, ids []uuid.UUID, now time.Time) error {
	return s.gorm(ctx).Exec("UPDATE keys SET last_used_at = ? WHERE id IN ?", now, ids).Error
}
