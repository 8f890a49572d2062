package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// partitioned are the tables that are cut by month.
var partitioned = []string{"messages", "evidence", "exchanges", "receipts"}

// ahead is how many months are made in advance, so that a clock that jumps or
// a housekeeper that rests for weeks loses nothing.
const ahead = 3

// EnsurePartitions makes the partitions of last month, this one and the next
// few. It is called at the start and once a day.
func (s *Store) EnsurePartitions(ctx context.Context, now time.Time) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		// One instance at a time: CREATE IF NOT EXISTS races with itself.
		if err := tx.Exec("SELECT pg_advisory_xact_lock(hashtext('pigeon partitions'))").Error; err != nil {
			return err
		}
		first := time.Date(now.UTC().Year(), now.UTC().Month()-1, 1, 0, 0, 0, 0, time.UTC)
		for month := range ahead + 2 {
			from, to := first.AddDate(0, month, 0), first.AddDate(0, month+1, 0)
			for _, table := range partitioned {
				if err := tx.Exec(fmt.Sprintf(
					"CREATE TABLE IF NOT EXISTS %s_%s PARTITION OF %s FOR VALUES FROM ('%s') TO ('%s')",
					table, from.Format("2006_01"), table, Floor(from), Floor(to))).Error; err != nil {
					return fmt.Errorf("making the partition of %s for %s: %w", table, from.Format("January 2006"), err)
				}
			}
		}
		return nil
	})
}

// Keep is how long what is not a record of a message stays.
type Keep struct {
	Exchanges   time.Duration
	Idempotency time.Duration
}

// paceKept is how long it is kept what went through a gateway: its longest limit
// is by 24 hours.
const paceKept = 26 * time.Hour

// Tidy deletes raw exchanges, settled callbacks, idempotency tokens and what went
// through gateways that have been kept long enough, in portions that disturb
// nobody.
func (s *Store) Tidy(ctx context.Context, now time.Time, keep Keep) error {
	raw := Floor(now.Add(-keep.Exchanges))
	for _, portion := range []struct {
		sql   string
		bound any
	}{
		{"DELETE FROM exchanges WHERE id IN (SELECT id FROM exchanges WHERE id < ? ORDER BY id LIMIT 2000)", raw},
		{"DELETE FROM receipts WHERE id IN (SELECT id FROM receipts WHERE id < ? AND settled_at IS NOT NULL ORDER BY id LIMIT 2000)", raw},
		{"DELETE FROM idempotency WHERE (key_id, token) IN (SELECT key_id, token FROM idempotency WHERE created_at < ? LIMIT 2000)", now.Add(-keep.Idempotency)},
		{"DELETE FROM gateway_paces WHERE (gateway_id, slot) IN (SELECT gateway_id, slot FROM gateway_paces WHERE slot < ? LIMIT 2000)", now.Add(-paceKept)},
	} {
		for {
			result := s.db.WithContext(ctx).Exec(portion.sql, portion.bound)
			if result.Error != nil {
				return fmt.Errorf("tidying: %w", result.Error)
			}
			if result.RowsAffected < 2000 {
				break
			}
		}
	}
	return nil
}

// between narrows a query on a UUIDv7 column to a span of time, which lets
// PostgreSQL skip the partitions of other months.
func between(db *gorm.DB, column string, since, until time.Time) *gorm.DB {
	if !since.IsZero() {
		db = db.Where(column+" >= ?", Floor(since))
	}
	if !until.IsZero() {
		db = db.Where(column+" < ?", Floor(until))
	}
	return db
}
