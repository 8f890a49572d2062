package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
)

// Messages and what hangs on them are cut by month of the UUIDv7 (RFC 9562).
// An id tells its month, so statements name the table of the month themselves:
// no other is looked at, locked or planned for.

// part is a table that is cut by month.
type part struct {
	table  string
	column string // whose UUIDv7 it is cut by
	with   string // storage parameters
}

// parts are the tables that are cut by month. The narrow rows leave room for
// their next versions on the same page.
var parts = []part{
	{"messages", "id", ""},
	{"standings", "id", "fillfactor = 50, autovacuum_vacuum_scale_factor = 0.1"},
	{"submissions", "message_id", ""},
	{"evidence", "message_id", ""},
	{"exchange_packs", "id", "toast_tuple_target = 8160"},
	{"receipts", "id", ""},
	{"events", "id", ""},
	{"tellings", "event_id", ""},
	{"passcodes", "id", "fillfactor = 70"},
}

// ahead is how many months are made in advance, so that a clock that jumps or
// a housekeeper that rests for weeks loses nothing.
const ahead = 3

// month names the month of a UUIDv7 as the tables do: 2026_11.
type month string

func monthOf(id uuid.UUID) month { return monthAt(timeOf(id)) }

func monthAt(t time.Time) month {
	year, m, _ := t.UTC().Date()
	return month(fmt.Sprintf("%04d_%02d", year, m))
}

// timeOf is the moment that a UUIDv7 bears (RFC 9562 §5.7).
func timeOf(id uuid.UUID) time.Time {
	var ms int64
	for _, b := range id[:6] {
		ms = ms<<8 | int64(b)
	}
	return time.UnixMilli(ms)
}

// in puts the month into a statement, in the place of every %M.
func (m month) in(sql string) string { return strings.ReplaceAll(sql, "%M", string(m)) }

// months are those that there are tables for.
type months struct {
	known atomic.Pointer[map[month]bool]
}

func (m *months) has(one month) bool {
	known := m.known.Load()
	return known != nil && (*known)[one]
}

// all lists the months, the newest first.
func (m *months) all() []month {
	known := m.known.Load()
	if known == nil {
		return nil
	}
	list := slices.Sorted(maps.Keys(*known))
	slices.Reverse(list)
	return list
}

// byMonth divides records by the month of an id. What lies in a month that
// there are no tables for is left out: whatever it was is gone, or never was.
func byMonth[T any](s *Store, records []T, id func(*T) uuid.UUID) map[month][]T {
	divided := map[month][]T{}
	var last month
	var from, to time.Time
	for i := range records {
		at := timeOf(id(&records[i]))
		if at.Before(from) || !at.Before(to) {
			last = monthAt(at)
			year, m, _ := at.UTC().Date()
			from = time.Date(year, m, 1, 0, 0, 0, 0, time.UTC)
			to = from.AddDate(0, 1, 0)
		}
		if s.months.has(last) {
			divided[last] = append(divided[last], records[i])
		}
	}
	return divided
}

func itself(id *uuid.UUID) uuid.UUID { return *id }

// EnsurePartitions makes the tables of last month, this one and the next few,
// and learns which there are. It is called at the start and every few hours.
//
// A table is made by itself and then attached, which keeps nobody waiting.
func (s *Store) EnsurePartitions(ctx context.Context, now time.Time) error {
	err := s.db.WithContext(ctx).Connection(func(db *gorm.DB) error {
		// One instance at a time.
		if err := db.Exec("SELECT pg_advisory_lock(hashtext('pigeon partitions'))").Error; err != nil {
			return err
		}
		defer db.WithContext(context.WithoutCancel(ctx)).Exec("SELECT pg_advisory_unlock(hashtext('pigeon partitions'))")
		first := time.Date(now.UTC().Year(), now.UTC().Month()-1, 1, 0, 0, 0, 0, time.UTC)
		for n := range ahead + 2 {
			from := first.AddDate(0, n, 0)
			for _, p := range parts {
				if err := p.make(db, from); err != nil {
					return fmt.Errorf("making the table of %s for %s: %w", p.table, from.Format("January 2006"), err)
				}
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return s.learnMonths(ctx)
}

// make makes the table of a month and attaches it. If it was cut short it goes
// on where it was.
func (p part) make(db *gorm.DB, from time.Time) error {
	name := fmt.Sprintf("%s_%s", p.table, monthAt(from))
	var there, attached bool
	if err := db.Raw(`SELECT to_regclass(?) IS NOT NULL, EXISTS (SELECT FROM pg_inherits
		WHERE inhrelid = to_regclass(?)
			AND inhparent = ?::regclass)`, name, name, p.table).Row().Scan(&there, &attached); err != nil || attached {
		return err
	}
	bounds := [2]uuid.UUID{Floor(from), Floor(from.AddDate(0, 1, 0))}
	if !there {
		with := ""
		if p.with != "" {
			with = " WITH (" + p.with + ")"
		}
		// The check spares PostgreSQL to look at the rows when it attaches.
		if err := db.Exec(fmt.Sprintf(`CREATE TABLE %s (LIKE %s INCLUDING ALL, CONSTRAINT %s_month CHECK (%s >= '%s' AND %s < '%s'))%s`,
			name, p.table, name, p.column, bounds[0], p.column, bounds[1], with)).Error; err != nil {
			return err
		}
	}
	if err := db.Exec(fmt.Sprintf("ALTER TABLE %s ATTACH PARTITION %s FOR VALUES FROM ('%s') TO ('%s')",
		p.table, name, bounds[0], bounds[1])).Error; err != nil {
		return err
	}
	return db.Exec(fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT IF EXISTS %s_month", name, name)).Error
}

// learnMonths reads which months there are tables for.
func (s *Store) learnMonths(ctx context.Context) error {
	var names []string
	err := s.db.WithContext(ctx).Raw(`SELECT substr(c.relname, length('standings_') + 1) FROM pg_inherits i
		JOIN pg_class c ON c.oid = i.inhrelid WHERE i.inhparent = 'standings'::regclass AND NOT i.inhdetachpending`).Scan(&names).Error
	if err != nil {
		return fmt.Errorf("reading which months there are: %w", err)
	}
	known := map[month]bool{}
	for _, name := range names {
		known[month(name)] = true
	}
	s.months.known.Store(&known)
	return nil
}

// missing learns the months anew when a table was not there: another instance
// may have dropped it.
func (s *Store) missing(err error) {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == noTable {
		ctx, cancel := context.WithTimeout(context.Background(), leaseWithin)
		defer cancel()
		s.learnMonths(ctx) // if that fails too, the next one tries
	}
}

// Keep is how long records stay. Messages stay for ever where no time is given.
type Keep struct {
	Messages    time.Duration
	Exchanges   time.Duration
	Idempotency time.Duration
	Strays      time.Duration
	Inbound     time.Duration
}

// arrivalHours is how long it is kept by the hour how long messages took; by the day as long as messages.
const arrivalHours = 100 * 24 * time.Hour

// paceKept is how long it is kept what went through a gateway: its longest limit
// is by 24 hours.
const paceKept = 26 * time.Hour

// Tidy drops and deletes what has been kept long enough: whole months where
// that is possible, else portions that disturb nobody.
func (s *Store) Tidy(ctx context.Context, now time.Time, keep Keep) error {
	if err := s.dropMonths(ctx, now.Add(-keep.Exchanges), "exchange_packs", "receipts", "events", "tellings"); err != nil {
		return err
	}
	if keep.Messages > 0 {
		if err := s.dropMonths(ctx, now.Add(-keep.Messages), "messages", "standings", "submissions", "evidence"); err != nil {
			return err
		}
		if err := s.forget(ctx, now.Add(-keep.Messages)); err != nil {
			return err
		}
	}
	raw := Floor(now.Add(-keep.Exchanges))
	portions := []portion{
		{"DELETE FROM tellings WHERE ctid IN (SELECT ctid FROM tellings WHERE event_id < ? ORDER BY event_id LIMIT 2000)", raw},
		{"DELETE FROM events WHERE id IN (SELECT id FROM events WHERE id < ? ORDER BY id LIMIT 2000)", raw},
		{"DELETE FROM exchange_packs WHERE id IN (SELECT id FROM exchange_packs WHERE id < ? ORDER BY id LIMIT 2000)", raw},
		{
			"DELETE FROM receipts WHERE id IN (SELECT r.id FROM receipts r WHERE r.id < ? AND NOT EXISTS (SELECT FROM to_read t " +
				"WHERE t.id = r.id) ORDER BY r.id LIMIT 2000)",
			raw,
		},
		{
			"DELETE FROM idempotency WHERE (key_id, token) IN (SELECT key_id, token FROM idempotency WHERE created_at < ? LIMIT 2000)",
			now.Add(-keep.Idempotency),
		},
		{
			"DELETE FROM gateway_paces WHERE (gateway_id, slot) IN (SELECT gateway_id, slot FROM gateway_paces WHERE slot < ? LIMIT 2000)",
			now.Add(-paceKept),
		},
		{
			"DELETE FROM arrivals WHERE ctid IN (SELECT ctid FROM arrivals WHERE grain = 'hour' AND began_at < ? LIMIT 2000)",
			now.Add(-arrivalHours),
		},
		{
			"DELETE FROM batch_spends WHERE ctid IN " +
				"(SELECT ctid FROM batch_spends WHERE scope <> 'batch' AND day < ?::date - 7 LIMIT 2000)",
			now,
		},
		{
			"DELETE FROM sealed_texts WHERE id IN (SELECT id FROM sealed_texts WHERE id < ? AND sealed = '' ORDER BY id LIMIT 2000)",
			Floor(now.Add(-marksKept)),
		},
	}
	if keep.Messages > 0 {
		old := Floor(now.Add(-keep.Messages))
		portions = append(portions,
			portion{"DELETE FROM batches WHERE id IN (SELECT id FROM batches WHERE id < ? " +
				"AND (finished_at IS NOT NULL OR launched_at IS NULL) ORDER BY id LIMIT 20)", old},
			portion{"DELETE FROM batch_counts WHERE first IN (SELECT c.first FROM batch_counts c WHERE c.first < ? " +
				"AND NOT EXISTS (SELECT FROM batches b WHERE b.first = c.first) LIMIT 2000)", old},
			portion{"DELETE FROM batch_paces WHERE batch IN (SELECT p.batch FROM batch_paces p WHERE p.batch < ? " +
				"AND NOT EXISTS (SELECT FROM batches b WHERE b.first = p.batch) LIMIT 2000)", old},
			portion{"DELETE FROM batch_spends WHERE id IN (SELECT p.id FROM batch_spends p WHERE p.scope = 'batch' AND p.id < ? " +
				"AND NOT EXISTS (SELECT FROM batches b WHERE b.id = p.id) LIMIT 2000)", old})
	}
	if keep.Strays > 0 {
		portions = append(
			portions,
			portion{
				"DELETE FROM strays WHERE id IN (SELECT id FROM strays WHERE id < ? AND look_at IS NULL ORDER BY id LIMIT 2000)",
				Floor(now.Add(-keep.Strays)),
			},
		)
	}
	if keep.Inbound > 0 {
		portions = append(
			portions,
			portion{
				"DELETE FROM inbound WHERE id IN (SELECT id FROM inbound WHERE id < ? ORDER BY id LIMIT 2000)",
				Floor(now.Add(-keep.Inbound)),
			},
		)
	}
	return s.deletePortions(ctx, portions)
}

// portion is a statement that deletes some rows before a bound, at most 2,000.
type portion struct {
	sql   string
	bound any
}

func (s *Store) deletePortions(ctx context.Context, portions []portion) error {
	for _, p := range portions {
		for {
			result := s.db.WithContext(ctx).Exec(p.sql, p.bound)
			if result.Error != nil {
				return fmt.Errorf("tidying: %w", result.Error)
			}
			if result.RowsAffected == 0 {
				break
			}
		}
	}
	return nil
}

// forget takes what is gone out of the small tables, and out of the counts.
func (s *Store) forget(ctx context.Context, before time.Time) error {
	oldest := firstOfMonth(before)
	for _, table := range []string{"to_send", "to_ask", "held", "marks"} {
		if err := s.db.WithContext(ctx).Exec("DELETE FROM "+table+" WHERE id < ?", Floor(oldest)).Error; err != nil {
			return fmt.Errorf("tidying: %w", err)
		}
	}
	for _, counts := range []string{"tally_deltas WHERE hour", "tallies WHERE began_at", "arrivals WHERE began_at"} {
		if err := s.db.WithContext(ctx).Exec("DELETE FROM "+counts+" < ?", oldest).Error; err != nil {
			return fmt.Errorf("tidying: %w", err)
		}
	}
	return nil
}

func firstOfMonth(t time.Time) time.Time {
	year, m, _ := t.UTC().Date()
	return time.Date(year, m, 1, 0, 0, 0, 0, time.UTC)
}

// dropMonths drops the tables of the months that ended before a moment. They
// are detached first, beside whoever uses the others.
func (s *Store) dropMonths(ctx context.Context, before time.Time, tables ...string) error {
	last := monthAt(before)
	return s.db.WithContext(ctx).Connection(func(db *gorm.DB) error {
		if err := db.Exec("SELECT pg_advisory_lock(hashtext('pigeon partitions'))").Error; err != nil {
			return err
		}
		defer db.WithContext(context.WithoutCancel(ctx)).Exec("SELECT pg_advisory_unlock(hashtext('pigeon partitions'))")
		for _, table := range tables {
			var names []string
			if err := db.Raw(`SELECT relname FROM pg_class WHERE relkind = 'r' AND relname ~ ? AND relname < ? ORDER BY relname`,
				"^"+table+"_[0-9]{4}_[0-9]{2}$", table+"_"+string(last)).Scan(&names).Error; err != nil {
				return err
			}
			for _, name := range names {
				if err := drop(db, table, name); err != nil {
					return fmt.Errorf("dropping %s: %w", name, err)
				}
			}
		}
		return s.learnMonths(ctx)
	})
}

func drop(db *gorm.DB, table, name string) error {
	var attached, pending bool
	row := db.Raw("SELECT count(*) > 0, coalesce(bool_or(inhdetachpending), false) FROM pg_inherits WHERE inhrelid = ?::regclass", name).
		Row()
	if err := row.Scan(&attached, &pending); err != nil {
		return err
	}
	if attached {
		how := "CONCURRENTLY"
		if pending { // it was cut short
			how = "FINALIZE"
		}
		if err := db.Exec(fmt.Sprintf("ALTER TABLE %s DETACH PARTITION %s %s", table, name, how)).Error; err != nil {
			return err
		}
	}
	return db.Exec("DROP TABLE " + name).Error
}
