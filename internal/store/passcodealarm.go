package store

import (
	"context"
	"fmt"
	"strconv"
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

// StandingAlarms lists the alarms that stood when the last one was raised, without what they rest on: all that stand now
// are among them. After a count ([SettingsCount]) it lists those that were raised or changed since, whether they stand or not.
func (s *Store) StandingAlarms(ctx context.Context, after int64) (all []PasscodeAlarm, err error) {
	db := s.gorm(ctx).Select("id", "rule", "by_what", "value", "act", "raised_at", "until_at", "lifted_at").Where("as_of > ?", after)
	if after == FromTheStart {
		db = db.Where("lifted_at IS NULL AND until_at > (SELECT max(raised_at) FROM passcode_alarms)")
	}
	return all, db.Find(&all).Error
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

// RaisePasscodeAlarm raises an alarm, unless one of the same rule and subject stands, or the rule was turned off. It
// stands the longer the more there were of late. It reports whether it was raised, and returns a [FullError] where too many stand.
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
		var standing int64
		err := s.gorm(ctx).Model(&PasscodeAlarm{}).Where("lifted_at IS NULL AND until_at > ?", a.RaisedAt).Count(&standing).Error
		if err != nil {
			return fmt.Errorf("counting alarms: %w", err)
		}
		if standing >= StandingMost {
			return &FullError{"alarms that stand", strconv.Itoa(StandingMost), "Lift some."}
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
