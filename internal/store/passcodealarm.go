package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/core/passcode"
)

// PasscodeAlarm is what a rule found. Of one rule and subject one stands at a time.
type PasscodeAlarm struct {
	ID        uuid.UUID
	Rule      fraud.Rule
	By        passcode.By `gorm:"column:by_what"`
	Value     string
	Act       fraud.Act
	RaisedAt  time.Time
	UntilAt   time.Time
	Evidence  AlarmEvidence `gorm:"serializer:json"`
	PerHour   float64
	LiftedAt  *time.Time
	LiftedBy  string
	LiftedWhy string
}

// AlarmEvidence is what an alarm rests on, with some of the passcodes.
type AlarmEvidence struct {
	fraud.Found
	Sample []AlarmSample `json:"sample"`
}

// AlarmSample is a number that was asked for.
type AlarmSample struct {
	Passcode uuid.UUID `json:"passcode"`
	Number   string    `json:"number"`
	At       time.Time `json:"at"`
	Codes    int       `json:"codes"`
}

// Stands reports whether an alarm stands at a moment.
func (a *PasscodeAlarm) Stands(now time.Time) bool { return a.LiftedAt == nil && now.Before(a.UntilAt) }

// PasscodeRules lists what is done when rules find something, where it was set.
func (s *Store) PasscodeRules(ctx context.Context) (map[fraud.Rule]fraud.Act, error) {
	var all []struct {
		Rule fraud.Rule
		Act  fraud.Act
	}
	err := s.gorm(ctx).Table("passcode_rules").Find(&all).Error
	acts := map[fraud.Rule]fraud.Act{}
	for _, one := range all {
		acts[one.Rule] = one.Act
	}
	return acts, err
}

// SetPasscodeRules puts what is done in the place of all that was set before. Alarms of rules that are off are over.
func (s *Store) SetPasscodeRules(ctx context.Context, acts map[fraud.Rule]fraud.Act, now time.Time) error {
	return s.setting(ctx, "passcode_rule", "", func(s *Store) error {
		for _, rule := range fraud.Rules {
			sql, args := "DELETE FROM passcode_rules WHERE rule = ?", []any{rule}
			if act, set := acts[rule]; set {
				sql, args = `INSERT INTO passcode_rules AS r (rule, act) VALUES (?, ?)
					ON CONFLICT (rule) DO UPDATE SET act = excluded.act WHERE r.act <> excluded.act`, append(args, act)
			}
			if err := s.gorm(ctx).Exec(sql, args...).Error; err != nil {
				return fmt.Errorf("setting what is done about fraud: %w", err)
			}
			if acts[rule] == fraud.Off {
				err := s.gorm(ctx).
					Exec("UPDATE passcode_alarms SET until_at = ? WHERE rule = ? AND lifted_at IS NULL AND until_at > ?", now, rule, now).
					Error
				if err != nil {
					return fmt.Errorf("ending alarms: %w", err)
				}
			}
		}
		return nil
	})
}

// PasscodeAlarms lists alarms, the newest first: those that stand at a moment, or all.
func (s *Store) PasscodeAlarms(ctx context.Context, standing bool, now time.Time, most int) (all []PasscodeAlarm, err error) {
	db := s.gorm(ctx).Order("id DESC").Limit(most)
	if standing {
		db = db.Where("lifted_at IS NULL AND until_at > ?", now)
	}
	return all, db.Find(&all).Error
}

// StandingAlarms lists the alarms that stood when the last one was raised, which is all that stand now, the newest first,
// without what they rest on.
func (s *Store) StandingAlarms(ctx context.Context, most int) (all []PasscodeAlarm, err error) {
	return all, s.gorm(ctx).Select("id", "rule", "by_what", "value", "act", "raised_at", "until_at").
		Where("lifted_at IS NULL AND until_at > (SELECT max(raised_at) FROM passcode_alarms)").
		Order("id DESC").Limit(most).Find(&all).Error
}

// HonestRate is what was lifted as a false alarm: how many numbers an hour there were.
type HonestRate struct {
	Rule    fraud.Rule
	By      passcode.By `gorm:"column:by_what"`
	Value   string
	PerHour float64
}

// HonestRates lists what was learnt from alarms that were lifted.
func (s *Store) HonestRates(ctx context.Context) (all []HonestRate, err error) {
	return all, s.gorm(ctx).Raw(`SELECT rule, by_what, value, max(per_hour) AS per_hour FROM passcode_alarms
		WHERE lifted_at IS NOT NULL GROUP BY rule, by_what, value`).Scan(&all).Error
}

// RaisePasscodeAlarm raises an alarm, unless one of the same rule and subject stands, or the rule was turned off. It stands the longer the more
// there were of late. It reports whether it was raised.
func (s *Store) RaisePasscodeAlarm(ctx context.Context, a PasscodeAlarm) (raised bool, err error) {
	err = s.setting(ctx, "passcode_alarm", "", func(s *Store) error {
		var before []PasscodeAlarm
		if err := s.gorm(ctx).Where("rule = ? AND by_what = ? AND value = ? AND until_at > ? AND lifted_at IS NULL",
			a.Rule, a.By, a.Value, a.RaisedAt.Add(-fraud.Before)).Find(&before).Error; err != nil {
			return err
		}
		raised = false
		if acts, err := s.PasscodeRules(ctx); err != nil || acts[a.Rule] == fraud.Off {
			return err
		}
		for _, b := range before {
			if b.Stands(a.RaisedAt) {
				return nil
			}
		}
		a.UntilAt = a.RaisedAt.Add(fraud.Stands(len(before)))
		raised = true
		return s.gorm(ctx).Create(&a).Error
	})
	return raised, err
}

// PasscodeAlarm is one alarm.
func (s *Store) PasscodeAlarm(ctx context.Context, id uuid.UUID) (a PasscodeAlarm, err error) {
	return a, found(s.gorm(ctx).Where("id = ?", id).First(&a).Error)
}

// ChangePasscodeAlarm changes what is done because of an alarm, lifts it, or takes that back. change says what is
// wrong with that.
func (s *Store) ChangePasscodeAlarm(ctx context.Context, id uuid.UUID, change func(*PasscodeAlarm) error) (a PasscodeAlarm, err error) {
	err = s.setting(ctx, "passcode_alarm", "", func(s *Store) error {
		var err error
		if a, err = s.PasscodeAlarm(ctx, id); err != nil {
			return err
		}
		if err := change(&a); err != nil {
			return err
		}
		return s.gorm(ctx).Model(&PasscodeAlarm{}).Where("id = ?", id).
			Select("act", "until_at", "lifted_at", "lifted_by", "lifted_why").Updates(&a).Error
	})
	return a, err
}

// AlarmStop is what was not sent because of an alarm.
type AlarmStop struct {
	AlarmID  uuid.UUID
	Currency string // empty: there is no price
	N        int64
	Micros   int64 // of the currency
}

// AddAlarmStops adds to what was not sent.
func (s *Store) AddAlarmStops(ctx context.Context, set []AlarmStop) error {
	var b pgx.Batch
	b.Queue(`INSERT INTO passcode_alarm_stops AS a (alarm_id, currency, n, micros)
		SELECT * FROM unnest($1::uuid[], $2::text[], $3::bigint[], $4::bigint[])
		ON CONFLICT (alarm_id, currency) DO UPDATE SET n = a.n + excluded.n, micros = a.micros + excluded.micros`,
		ids(set, func(s *AlarmStop) uuid.UUID { return s.AlarmID }), words(set, func(s *AlarmStop) string { return s.Currency }),
		column(set, func(s *AlarmStop) int64 { return s.N }), column(set, func(s *AlarmStop) int64 { return s.Micros }))
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("counting what was stopped: %w", err)
	}
	return nil
}

// AlarmStops is what was not sent because of alarms.
func (s *Store) AlarmStops(ctx context.Context, alarms []uuid.UUID) (map[uuid.UUID][]AlarmStop, error) {
	found, err := query(ctx, s.reading(), func(rows pgx.Rows) (a AlarmStop, err error) {
		return a, rows.Scan(&a.AlarmID, &a.Currency, &a.N, &a.Micros)
	}, "SELECT alarm_id, currency, n, micros FROM passcode_alarm_stops WHERE alarm_id = ANY($1) ORDER BY alarm_id, n DESC, currency",
		ids(alarms, func(id *uuid.UUID) uuid.UUID { return *id }))
	if err != nil {
		return nil, fmt.Errorf("reading what was stopped: %w", err)
	}
	of := map[uuid.UUID][]AlarmStop{}
	for _, a := range found {
		of[a.AlarmID] = append(of[a.AlarmID], a)
	}
	return of, nil
}

// SubjectsToJudge are what there is something to judge of, the oldest first, without locking it.
func (s *Store) SubjectsToJudge(ctx context.Context, now time.Time, most int) ([]Counted, error) {
	return s.ledgers(ctx, `FROM passcode_counts c WHERE c.judge_at <= $1 ORDER BY c.judge_at LIMIT $2`, now, most)
}

// PeekCounters reads counters without locking them; those that are not there are not.
func (s *Store) PeekCounters(ctx context.Context, set []Counted) ([]Counted, error) {
	return s.ledgers(ctx, `FROM unnest($1::text[], $2::text[]) AS n (by_what, value) JOIN passcode_counts c USING (by_what, value)`,
		words(set, func(c *Counted) passcode.By { return c.By }), words(set, func(c *Counted) string { return c.Value }))
}

// ledgers reads what numbers were asked for.
func (s *Store) ledgers(ctx context.Context, from string, args ...any) ([]Counted, error) {
	found, err := query(ctx, s.hot(), func(rows pgx.Rows) (c Counted, err error) {
		var asked []byte
		if err = rows.Scan(&c.By, &c.Value, &asked); err == nil && c.Ledger.UnmarshalBinary(asked) != nil {
			c.Ledger = fraud.Ledger{}
		}
		return c, err
	}, "SELECT c.by_what, c.value, c.asked "+from, args...)
	if err != nil {
		return nil, fmt.Errorf("reading what numbers were asked for: %w", err)
	}
	return found, nil
}

// PasscodeFate is what became of a passcode and of the last message that bears it.
type PasscodeFate struct {
	ID      uuid.UUID
	Used    bool
	State   delivery.State
	Gateway uuid.UUID
}

// PasscodeFates reads what became of passcodes.
func (s *Store) PasscodeFates(ctx context.Context, of []uuid.UUID) (map[uuid.UUID]PasscodeFate, error) {
	fates := make(map[uuid.UUID]PasscodeFate, len(of))
	found, err := query(ctx, s.hot(), func(rows pgx.Rows) (f PasscodeFate, err error) {
		return f, rows.Scan(&f.ID, &f.Used, &f.State, &f.Gateway)
	}, `SELECT p.id, p.used_at IS NOT NULL, coalesce(s.state, ''), p.gateway_id
		FROM unnest($1::uuid[]) AS n (id) JOIN passcodes p ON p.id = n.id LEFT JOIN standings s ON s.id = p.message_id`,
		ids(of, func(id *uuid.UUID) uuid.UUID { return *id }))
	if err != nil {
		return nil, fmt.Errorf("reading what became of passcodes: %w", err)
	}
	for _, f := range found {
		fates[f.ID] = f
	}
	return fates, nil
}

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
