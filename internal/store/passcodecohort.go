package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Cohort is how many passcodes of a gateway and a country were used soon after they were issued.
type Cohort struct {
	At      time.Time
	Gateway uuid.UUID
	Country string
	N, Used int64
}

// Conversion is the same of the last ones.
type Conversion struct {
	Gateway uuid.UUID
	Country string
	N, Used float64
	At      time.Time
}

// cohortLong is of how long cohorts are.
const cohortLong = 10 * time.Minute

// LookAtPasscodes counts the passcodes that were issued since it was last done, until a moment at most, and how many
// of them were used; fold makes of the last conversions those with these. It reports whether there may be more. Whoever
// else does it meanwhile has the turn.
func (s *Store) LookAtPasscodes(
	ctx context.Context,
	till time.Time,
	fold func([]Conversion, []Cohort) []Conversion,
) (more bool, err error) {
	err = s.Transact(ctx, func(s *Store) error {
		more = false
		looked, err := query(ctx, s.hot(), func(rows pgx.Rows) (at time.Time, err error) { return at, rows.Scan(&at) },
			"SELECT looked_till FROM passcode_watch FOR UPDATE SKIP LOCKED")
		if err != nil || len(looked) == 0 {
			return err
		}
		from := looked[0]
		to := from.Truncate(cohortLong).Add(cohortLong) // a cohort at once, at most
		if first, err := s.firstPasscode(ctx, from, till); err != nil {
			return err
		} else if first.IsZero() {
			to = till // there is none at all
		} else if at := first.Truncate(cohortLong); at.After(from) {
			from, to = at, at.Add(cohortLong)
		}
		more = to.Before(till)
		if to.After(till) {
			to = till
		}
		if !to.After(from) {
			return nil
		}
		began := from.Truncate(cohortLong)
		cohorts, err := query(ctx, s.hot(), func(rows pgx.Rows) (c Cohort, err error) {
			c.At = began
			return c, rows.Scan(&c.Gateway, &c.Country, &c.N, &c.Used)
		}, `SELECT gateway_id, country, count(*), count(used_at) FROM passcodes
			WHERE id >= $1 AND id < $2 GROUP BY 1, 2`, Floor(from), Floor(to))
		if err != nil {
			return err
		}
		var b pgx.Batch
		b.Queue("UPDATE passcode_watch SET looked_till = $1", to)
		if len(cohorts) == 0 {
			return s.send(ctx, &b)
		}
		last, err := s.PasscodeConversions(ctx)
		if err != nil {
			return err
		}
		now := fold(last, cohorts)
		b.Queue(
			`INSERT INTO passcode_cohorts AS c (began_at, gateway_id, country, n, used)
			SELECT $1, * FROM unnest($2::uuid[], $3::text[], $4::bigint[], $5::bigint[])
			ON CONFLICT (began_at, country, gateway_id) DO UPDATE SET n = c.n + excluded.n, used = c.used + excluded.used`,
			began,
			ids(cohorts, func(c *Cohort) uuid.UUID { return c.Gateway }),
			words(cohorts, func(c *Cohort) string { return c.Country }),
			column(cohorts, func(c *Cohort) int64 { return c.N }),
			column(cohorts, func(c *Cohort) int64 { return c.Used }),
		)
		b.Queue(`INSERT INTO passcode_conversions AS c (gateway_id, country, n, used, at)
			SELECT * FROM unnest($1::uuid[], $2::text[], $3::float8[], $4::float8[], $5::timestamptz[])
			ON CONFLICT (gateway_id, country) DO UPDATE SET n = excluded.n, used = excluded.used, at = excluded.at`,
			ids(now, func(c *Conversion) uuid.UUID { return c.Gateway }), words(now, func(c *Conversion) string { return c.Country }),
			column(now, func(c *Conversion) float64 { return c.N }), column(now, func(c *Conversion) float64 { return c.Used }),
			column(now, func(c *Conversion) time.Time { return c.At }))
		return s.send(ctx, &b)
	})
	if err != nil {
		return false, fmt.Errorf("looking at passcodes: %w", err)
	}
	return more, nil
}

// firstPasscode is when the first passcode of a span was issued; zero if none was.
func (s *Store) firstPasscode(ctx context.Context, since, until time.Time) (time.Time, error) {
	found, err := query(ctx, s.hot(), func(rows pgx.Rows) (at time.Time, err error) { return at, rows.Scan(&at) },
		"SELECT created_at FROM passcodes WHERE id >= $1 AND id < $2 ORDER BY id LIMIT 1", Floor(since), Floor(until))
	if err != nil || len(found) == 0 {
		return time.Time{}, err
	}
	return found[0].UTC(), nil
}

// PasscodeConversions lists how the last passcodes of gateways and countries fared.
func (s *Store) PasscodeConversions(ctx context.Context) ([]Conversion, error) {
	return query(ctx, s.hot(), func(rows pgx.Rows) (c Conversion, err error) {
		return c, rows.Scan(&c.Gateway, &c.Country, &c.N, &c.Used, &c.At)
	}, "SELECT gateway_id, country, n, used, at FROM passcode_conversions")
}

// PasscodeCohorts adds cohorts up, of a country or of all (empty), hour by hour, from a moment on.
func (s *Store) PasscodeCohorts(ctx context.Context, country string, since time.Time) ([]Cohort, error) {
	found, err := query(ctx, s.reading(), func(rows pgx.Rows) (c Cohort, err error) {
		err = rows.Scan(&c.At, &c.N, &c.Used)
		c.At, c.Country = c.At.UTC(), country
		return c, err
	}, `SELECT date_trunc('hour', began_at, 'UTC'), sum(n)::bigint, sum(used)::bigint FROM passcode_cohorts
		WHERE began_at >= $1 AND ($2 = '' OR country = $2) GROUP BY 1 ORDER BY 1`, since, country)
	if err != nil {
		return nil, fmt.Errorf("reading how passcodes fared: %w", err)
	}
	return found, nil
}

// LateCountries are the countries of which codes were issued of late, with how many were used.
func (s *Store) LateCountries(ctx context.Context, since time.Time) ([]Cohort, error) {
	found, err := query(ctx, s.reading(), func(rows pgx.Rows) (c Cohort, err error) {
		return c, rows.Scan(&c.Country, &c.N, &c.Used)
	}, "SELECT country, sum(n)::bigint, sum(used)::bigint FROM passcode_cohorts WHERE began_at > $1 GROUP BY 1", since)
	if err != nil {
		return nil, fmt.Errorf("reading how passcodes fared: %w", err)
	}
	return found, nil
}

// TidyPasscodeWatch forgets cohorts that are too old, alarms that were over long ago, and before that which numbers they
// rest on. What was lifted stays: it was learnt from.
func (s *Store) TidyPasscodeWatch(ctx context.Context, cohorts, numbers, alarms time.Time) error {
	if err := s.gorm(ctx).Exec("DELETE FROM passcode_cohorts WHERE began_at < ?", cohorts).Error; err != nil {
		return fmt.Errorf("forgetting how passcodes fared: %w", err)
	}
	if err := s.gorm(ctx).Exec("UPDATE passcode_alarms SET evidence = evidence - 'sample' "+
		"WHERE raised_at < ? AND jsonb_exists(evidence, 'sample')",
		numbers).Error; err != nil {
		return fmt.Errorf("forgetting what numbers alarms rest on: %w", err)
	}
	err := s.gorm(ctx).Exec(`WITH gone AS (DELETE FROM passcode_alarms WHERE until_at < ? AND lifted_at IS NULL RETURNING id)
		DELETE FROM passcode_alarm_stops WHERE alarm_id IN (SELECT id FROM gone)`, alarms).Error
	if err != nil {
		return fmt.Errorf("forgetting alarms: %w", err)
	}
	return nil
}
