package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// Lease is what came of asking to keep a gateway.
type Lease struct {
	Held bool
	// Fresh: it was held by nobody or by somebody else before.
	Fresh bool
	// Clean: whoever held it before gave it back, or nobody ever did. Idle is for how long
	// nobody has held it; less than nothing is how long its limit is still used, as whoever
	// gave it back has said.
	Clean bool
	Idle  time.Duration
}

// TakeLease makes the holder the keeper of a gateway for a while, or prolongs
// that it is. The database's clock decides, so that the clocks of the
// instances do not matter.
func (s *Store) TakeLease(ctx context.Context, gateway, holder uuid.UUID, span time.Duration) (Lease, error) {
	var lease Lease
	err := s.leases.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if err := db.Exec(
			"INSERT INTO keepers (gateway_id, holder, until) VALUES (?, ?, '-infinity') ON CONFLICT DO NOTHING",
			gateway, uuid.Nil).Error; err != nil {
			return err
		}
		var before struct {
			Holder uuid.UUID
			Idle   float64 // seconds since it ran out; negative while it lasts
		}
		if err := db.Raw(
			"SELECT holder, CASE WHEN until = '-infinity' THEN 0 ELSE extract(epoch FROM clock_timestamp() - until) END AS idle "+
				"FROM keepers WHERE gateway_id = ? FOR UPDATE", gateway).Scan(&before).Error; err != nil {
			return err
		}
		if before.Holder != holder && before.Holder != uuid.Nil && before.Idle < 0 {
			return nil
		}
		fresh, clean := before.Holder != holder || before.Idle >= 0, before.Holder == uuid.Nil
		if !clean {
			before.Idle = max(before.Idle, 0)
		}
		lease = Lease{Held: true, Fresh: fresh, Clean: clean,
			Idle: time.Duration(before.Idle * float64(time.Second))}
		return db.Exec("UPDATE keepers SET holder = ?, until = clock_timestamp() + make_interval(secs => ?) WHERE gateway_id = ?",
			holder, span.Seconds(), gateway).Error
	})
	if err != nil {
		return Lease{}, fmt.Errorf("taking the lease: %w", err)
	}
	return lease, nil
}

// RenewLeases prolongs the leases that the holder has on gateways, and returns
// which it has.
func (s *Store) RenewLeases(ctx context.Context, holder uuid.UUID, gateways []uuid.UUID, span time.Duration) ([]uuid.UUID, error) {
	var kept []uuid.UUID
	err := s.leases.WithContext(ctx).Raw(`UPDATE keepers SET until = clock_timestamp() + make_interval(secs => ?)
		WHERE holder = ? AND gateway_id = ANY(?::uuid[]) AND until > clock_timestamp() RETURNING gateway_id`,
		span.Seconds(), holder, list(gateways)).Scan(&kept).Error
	if err != nil {
		return nil, fmt.Errorf("renewing leases: %w", err)
	}
	return kept, nil
}

// Kept reports whether somebody keeps a gateway, or did until a while ago.
func (s *Store) Kept(ctx context.Context, gateway uuid.UUID, within time.Duration) (kept bool, err error) {
	err = s.leases.WithContext(ctx).Raw(
		"SELECT coalesce((SELECT until > clock_timestamp() - make_interval(secs => ?) FROM keepers WHERE gateway_id = ?), false)",
		within.Seconds(), gateway).Scan(&kept).Error
	return kept, err
}

// GiveLease gives a gateway back, so that the next keeper need not wait for the end of the
// lease. used is how long its limit is still used by what was sent.
func (s *Store) GiveLease(ctx context.Context, gateway, holder uuid.UUID, used time.Duration) error {
	return s.leases.WithContext(ctx).
		Exec("UPDATE keepers SET holder = ?, until = clock_timestamp() + make_interval(secs => ?) WHERE gateway_id = ? AND holder = ?",
			uuid.Nil, max(used, 0).Seconds(), gateway, holder).
		Error
}
