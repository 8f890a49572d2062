package store

import (
	"context"
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
}

// AddKey stores a new key.
func (s *Store) AddKey(ctx context.Context, k Key) error {
	k.PasscodeCountries = append([]string{}, k.PasscodeCountries...)
	return s.setting(ctx, "key", k.Name, func(s *Store) error { return create(s.gorm(ctx), &k, "key "+k.Name) })
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
