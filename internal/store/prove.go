package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Kept counts are held against the messages that they count. Counts of arrivals and of steps of passcodes
// say when something happened and stay as they are, whatever is said later: they cannot be counted from
// messages, so only their days are held against their hours.

// Miscount is a kept count that differs from what counting gives.
type Miscount struct {
	What          string // the table of the count, and what of it
	Kept, Counted int64
}

// proving runs prove in one snapshot, unless another instance is proving just now: two that find the
// same difference would correct it twice.
func (s *Store) proving(ctx context.Context, prove func(pgx.Tx) error) error {
	c, err := s.pools[1].Acquire(ctx)
	if err != nil {
		return err
	}
	defer c.Release()
	// The lock comes before the snapshot: what its last holder corrected is to be seen.
	var mine bool
	if err := c.QueryRow(ctx, "SELECT pg_try_advisory_lock(hashtext('pigeon proof'))").Scan(&mine); err != nil || !mine {
		return err
	}
	defer func() {
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), closeWithin)
		defer cancel()
		if _, err := c.Exec(last, "SELECT pg_advisory_unlock(hashtext('pigeon proof'))"); err != nil {
			c.Conn().Close(last)
		}
	}()
	return pgx.BeginTxFunc(ctx, c, pgx.TxOptions{IsoLevel: pgx.RepeatableRead}, prove)
}

func scanMiscount(what string) func(pgx.Rows) (Miscount, error) {
	return func(rows pgx.Rows) (m Miscount, err error) {
		var of string
		err = rows.Scan(&of, &m.Kept, &m.Counted)
		m.What = what + " " + of
		return m, err
	}
}

// miscountedBatch is where the counts of the batch whose messages are $1 to $2 differ.
const miscountedBatch = `SELECT gateway_id, state, cause, currency, sum(kept)::bigint AS kept, sum(counted)::bigint AS counted,
		sum(kept_micros)::bigint AS kept_micros, sum(counted_micros)::bigint AS counted_micros FROM (
		SELECT gateway_id, state, cause, currency, n AS kept, 0 AS counted, micros AS kept_micros, 0 AS counted_micros
			FROM batch_counts WHERE first = $1
		UNION ALL SELECT gateway_id, state, cause, currency, n, 0, micros, 0 FROM batch_deltas WHERE first = $1
		UNION ALL SELECT gateway_id, state, cause, currency, 0, count(*), 0, coalesce(sum(price_micros), 0)
			FROM standings_%M WHERE id > $1 AND id <= $2 GROUP BY 1, 2, 3, 4) AS both_counts
	GROUP BY 1, 2, 3, 4 HAVING sum(kept) <> sum(counted) OR sum(kept_micros) <> sum(counted_micros)`

// ProveBatch holds the counts of the launched batch that follows another one against its messages, and
// corrects what differs. It returns the batch that it looked at, or uuid.Nil after the last.
func (s *Store) ProveBatch(ctx context.Context, after uuid.UUID) (looked uuid.UUID, wrong []Miscount, err error) {
	err = s.proving(ctx, func(tx pgx.Tx) error {
		var first uuid.UUID
		found, err := query(ctx, tx, func(rows pgx.Rows) (id uuid.UUID, err error) { err = rows.Scan(&id, &first); return id, err },
			"SELECT id, first FROM batches WHERE first IS NOT NULL AND id > $1 ORDER BY id LIMIT 1", after)
		if err != nil || len(found) == 0 {
			return err
		}
		looked = found[0]
		m := monthOf(first)
		if !s.months.has(m) {
			return nil
		}
		scan := scanMiscount("batch_counts of " + looked.String() + ":")
		if wrong, err = query(ctx, tx, scan, m.in(`SELECT concat_ws(' ', gateway_id, state, cause, currency),
			CASE WHEN kept <> counted THEN kept ELSE kept_micros END, CASE WHEN kept <> counted THEN counted ELSE counted_micros END
			FROM (`+miscountedBatch+`) AS d`), first, lastOf(first)); err != nil ||
			len(wrong) == 0 {
			return err
		}
		_, err = tx.Exec(ctx, m.in(`INSERT INTO batch_deltas (first, gateway_id, state, cause, currency, n, micros)
			SELECT $1, gateway_id, state, cause, currency, counted - kept, counted_micros - kept_micros FROM (`+miscountedBatch+`) AS d`),
			first, lastOf(first))
		return err
	})
	if err != nil {
		s.missing(err)
		return looked, nil, fmt.Errorf("counting a batch anew: %w", err)
	}
	return looked, wrong, nil
}

// spent is by what the money of a day is counted.
type spent struct {
	gateway       uuid.UUID
	country, kind string
	currency      string
	told          bool
	toldCurrency  string
}

// sumsOf are the sums of it, as [spending] has them.
type sumsOf struct {
	n, micros, toldMicros, avoidableN, avoidableMicros int64
}

func (a *sumsOf) add(b sumsOf, sign int64) {
	a.n += sign * b.n
	a.micros += sign * b.micros
	a.toldMicros += sign * b.toldMicros
	a.avoidableN += sign * b.avoidableN
	a.avoidableMicros += sign * b.avoidableMicros
}

// proofPage is how many messages of a day are read at a time.
const proofPage = 50_000

// ProveMoney holds what the messages of a day of UTC are kept to cost against the messages, and corrects what
// differs.
func (s *Store) ProveMoney(ctx context.Context, day time.Time) (wrong []Miscount, err error) {
	day = day.UTC().Truncate(24 * time.Hour)
	m := monthAt(day)
	if !s.months.has(m) {
		return nil, nil
	}
	err = s.proving(ctx, func(tx pgx.Tx) error {
		differ := map[spent]*sumsOf{} // what is counted, and then less what is kept
		of := func(k spent) *sumsOf {
			if differ[k] == nil {
				differ[k] = &sumsOf{}
			}
			return differ[k]
		}
		provable, err := s.spentOn(ctx, tx, m, day, of)
		if err != nil || !provable {
			return err
		}
		kept := map[spent]int64{}
		if _, err := query(ctx, tx, func(rows pgx.Rows) (k spent, err error) {
			var a sumsOf
			err = rows.Scan(&k.gateway, &k.country, &k.kind, &k.currency, &k.told, &k.toldCurrency,
				&a.n, &a.micros, &a.toldMicros, &a.avoidableN, &a.avoidableMicros)
			kept[k] = a.n
			of(k).add(a, -1)
			return k, err
		}, `SELECT gateway_id, country, kind, currency, told, told_currency, sum(n)::bigint, sum(micros)::bigint, sum(told_micros)::bigint,
				sum(avoidable_n)::bigint, sum(avoidable_micros)::bigint FROM (
				SELECT gateway_id, country, kind, currency, told, told_currency, n, micros, told_micros, avoidable_n, avoidable_micros
					FROM money WHERE day = $1
				UNION ALL SELECT d.gateway_id, coalesce(c.country, ''), coalesce(c.kind, ''), d.currency, d.told, d.told_currency,
						d.n, d.micros, d.told_micros, d.avoidable_n, d.avoidable_micros
					FROM money_deltas d LEFT JOIN cuts c ON c.id = d.cut_id WHERE d.day = $1
			) AS both_tables GROUP BY 1, 2, 3, 4, 5, 6`, day); err != nil {
			return err
		}
		for k, a := range differ {
			if *a == (sumsOf{}) {
				continue
			}
			wrong = append(wrong, Miscount{
				What: fmt.Sprintf(
					"money of %s: %s %s %s %s told %t %s",
					day.Format(time.DateOnly),
					k.gateway,
					k.country,
					k.kind,
					k.currency,
					k.told,
					k.toldCurrency,
				),
				Kept: kept[k], Counted: kept[k] + a.n,
			})
			if _, err := tx.Exec(ctx, addMoney+" VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) "+moneyOnTop,
				day, k.gateway, k.country, k.kind, k.currency, k.toldCurrency, k.told,
				a.n, a.micros, a.toldMicros, a.avoidableN, a.avoidableMicros); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		s.missing(err)
		return nil, fmt.Errorf("adding up a day's money anew: %w", err)
	}
	return wrong, nil
}

// spentOn adds up what the messages of a day cost. It cannot where an earlier version wrote them, which
// did not keep what is known of each.
func (s *Store) spentOn(ctx context.Context, tx pgx.Tx, m month, day time.Time, of func(spent) *sumsOf) (provable bool, err error) {
	stale := false
	for after, end := Floor(day), Floor(day.Add(24*time.Hour)); ; {
		page, err := query(ctx, tx, func(rows pgx.Rows) (id uuid.UUID, err error) {
			var one Message
			var r raw
			var k spent
			if err = rows.Scan(append([]any{&one.ID, &k.country, &k.kind}, one.Standing.into(&r)...)...); err != nil {
				return id, err
			}
			one.Standing.read(&r)
			stale = stale || one.stale
			if c, costs := spendingOf(&one); costs {
				k.gateway, k.currency, k.told, k.toldCurrency = c.gateway, c.currency, c.told, c.toldCurrency
				of(k).add(sumsOf{int64(c.n), c.micros, c.toldMicros, int64(c.avoidableN), c.avoidableMicro}, 1)
			}
			return one.ID, nil
		}, m.in("SELECT s.id, coalesce(c.country, ''), coalesce(c.kind, ''), "+standingColumns+` FROM standings_%M s
			LEFT JOIN cuts c ON c.id = s.cut_id WHERE s.id > $1 AND s.id < $2 ORDER BY s.id LIMIT $3`), after, end, proofPage)
		if err != nil || stale {
			return false, err
		}
		if len(page) < proofPage {
			return true, nil
		}
		after = page[len(page)-1]
	}
}

// graded are tables that are added up by hour and by day, and by what.
var graded = map[string]string{
	"tallies":        "cut_id, gateway_id, state, contested",
	"arrivals":       "gateway_id, country, kind, bucket",
	"passcode_steps": "gateway_id, country, purpose, template, step, bucket",
}

// ProveDay holds what is added up by day against what is added up by hour, and makes the day the sum of its
// hours.
func (s *Store) ProveDay(ctx context.Context, day time.Time) (wrong []Miscount, err error) {
	day = day.UTC().Truncate(24 * time.Hour)
	err = s.proving(ctx, func(tx pgx.Tx) error {
		wrong = nil
		for table, by := range graded {
			differing := `SELECT ` + by + `, sum(CASE grain WHEN 'day' THEN n ELSE 0 END)::bigint AS kept,
					sum(CASE grain WHEN 'hour' THEN n ELSE 0 END)::bigint AS counted
				FROM ` + table + ` WHERE (grain = 'day' AND began_at = $1)
					OR (grain = 'hour' AND began_at >= $1 AND began_at < $1 + interval '24 hours')
				GROUP BY ` + by + ` HAVING sum(CASE grain WHEN 'day' THEN n ELSE -n END) <> 0`
			found, err := query(ctx, tx, scanMiscount(table+" of "+day.Format(time.DateOnly)+":"),
				"SELECT concat_ws(' ', "+by+"), kept, counted FROM ("+differing+") AS d", day)
			if err != nil {
				return err
			}
			if len(found) > 0 {
				if _, err := tx.Exec(ctx, `INSERT INTO `+table+` AS t (grain, began_at, `+by+`, n)
					SELECT 'day', $1, `+by+`, counted - kept FROM (`+differing+`) AS d
					ON CONFLICT (grain, began_at, `+by+`) DO UPDATE SET n = t.n + excluded.n`, day); err != nil {
					return err
				}
			}
			wrong = append(wrong, found...)
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("adding up a day anew: %w", err)
	}
	return wrong, nil
}
