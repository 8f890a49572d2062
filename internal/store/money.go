package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
)

// What messages cost is counted as tallies are: as deltas, by the transaction that changes it, and added up later.
// A message that went to a gateway, or may have, stands in one count, by the day on which it was accepted and
// the gateway of the submission that its state speaks of. What statements bill is added up when they are matched.

// spending is by what messages that cost something are counted.
type spending struct {
	day            time.Time
	cut            int32
	gateway        uuid.UUID
	currency       string // of the estimate; empty: there is none
	told           bool
	toldCurrency   string
	n, avoidableN  int
	micros         int64
	toldMicros     int64
	avoidableMicro int64
}

// spendingOf is how a message is counted; false if it cost nothing.
func spendingOf(m *Message) (spending, bool) {
	told := m.digest.Charge(m.Attempt)
	if !m.went() && !told.Told {
		return spending{}, false
	}
	s := spending{
		day: timeOf(m.ID).UTC().Truncate(24 * time.Hour), cut: m.cut, gateway: m.GatewayID, n: 1,
		currency: m.Price.Currency(), micros: m.Price.Micros(),
		told: told.Told, toldCurrency: told.Currency, toldMicros: told.Micros,
	}
	if m.Avoidable > 0 {
		s.avoidableN, s.avoidableMicro = 1, m.Avoidable
	}
	return s, true
}

// went reports whether a gateway has a message, or may have.
func (m *Message) went() bool {
	switch m.State {
	case delivery.Doubtful, delivery.Accepted, delivery.Enroute, delivery.Delivered, delivery.Undeliverable, delivery.Unknown:
		return m.Attempts > 0
	case delivery.Expired:
		return m.Attempts > 0 && m.Cause != delivery.TooLate // then our own clock said so, before it could go
	}
	return false
}

// moneyDeltas is by how much what messages cost changes; the numbers of the key are zero.
type moneyDeltas map[spending]spending

func (d moneyDeltas) add(s spending, sign int) {
	key := spending{day: s.day, cut: s.cut, gateway: s.gateway, currency: s.currency, told: s.told, toldCurrency: s.toldCurrency}
	sum := d[key]
	sum.n += sign * s.n
	sum.avoidableN += sign * s.avoidableN
	sum.micros += int64(sign) * s.micros
	sum.toldMicros += int64(sign) * s.toldMicros
	sum.avoidableMicro += int64(sign) * s.avoidableMicro
	d[key] = sum
}

// move counts a message as it costs now, and no longer as it did.
func (d moneyDeltas) move(before, after *Message) {
	was, cost := spendingOf(before)
	is, costs := spendingOf(after)
	if was == is {
		return
	}
	if cost {
		d.add(was, -1)
	}
	if costs {
		d.add(is, 1)
	}
}

func (d moneyDeltas) queue(b *pgx.Batch) {
	var set []spending
	for key, sum := range d {
		if sum == (spending{}) {
			continue
		}
		sum.day, sum.cut, sum.gateway, sum.currency, sum.told, sum.toldCurrency =
			key.day, key.cut, key.gateway, key.currency, key.told, key.toldCurrency
		set = append(set, sum)
	}
	if set == nil {
		return
	}
	b.Queue(`INSERT INTO money_deltas (day, cut_id, gateway_id, currency, told_currency, told, n, micros, told_micros,
			avoidable_n, avoidable_micros)
		SELECT * FROM unnest($1::timestamptz[], $2::int[], $3::uuid[], $4::text[], $5::text[], $6::boolean[], $7::int[], $8::bigint[],
			$9::bigint[], $10::int[], $11::bigint[])`,
		column(set, func(s *spending) time.Time { return s.day }), column(set, func(s *spending) int32 { return s.cut }),
		ids(set, func(s *spending) uuid.UUID { return s.gateway }), words(set, func(s *spending) string { return s.currency }),
		words(set, func(s *spending) string { return s.toldCurrency }), column(set, func(s *spending) bool { return s.told }),
		numbers(set, func(s *spending) int { return s.n }), column(set, func(s *spending) int64 { return s.micros }),
		column(set, func(s *spending) int64 { return s.toldMicros }), numbers(set, func(s *spending) int { return s.avoidableN }),
		column(set, func(s *spending) int64 { return s.avoidableMicro }))
}

// addMoney and moneyOnTop add rows to what is added up: before and after the rows.
const (
	addMoney = `INSERT INTO money AS m (day, gateway_id, country, kind, currency, told_currency, told, n, micros, told_micros,
			avoidable_n, avoidable_micros)`
	moneyOnTop = `ON CONFLICT (day, gateway_id, country, kind, currency, told_currency, told) DO UPDATE SET n = m.n + excluded.n,
			micros = m.micros + excluded.micros, told_micros = m.told_micros + excluded.told_micros,
			avoidable_n = m.avoidable_n + excluded.avoidable_n, avoidable_micros = m.avoidable_micros + excluded.avoidable_micros`
)

// compactMoney adds them up by day.
const compactMoney = `WITH turn AS MATERIALIZED (SELECT pg_try_advisory_xact_lock(hashtext('pigeon money')) AS mine),
	gone AS (DELETE FROM money_deltas WHERE ctid = ANY (ARRAY(SELECT ctid FROM money_deltas WHERE (SELECT mine FROM turn) LIMIT $1))
		RETURNING day, cut_id, gateway_id, currency, told_currency, told, n, micros, told_micros, avoidable_n, avoidable_micros),
	sums AS (SELECT d.day, d.gateway_id, coalesce(c.country, '') AS country, coalesce(c.kind, '') AS kind, d.currency,
			d.told_currency, d.told, sum(d.n) AS n, sum(d.micros) AS micros, sum(d.told_micros) AS told_micros,
			sum(d.avoidable_n) AS avoidable_n, sum(d.avoidable_micros) AS avoidable_micros
		FROM gone d LEFT JOIN cuts c ON c.id = d.cut_id GROUP BY 1, 2, 3, 4, 5, 6, 7),
	added AS (` + addMoney + `
		SELECT day, gateway_id, country, kind, currency, told_currency, told, n, micros, told_micros, avoidable_n, avoidable_micros FROM sums
		` + moneyOnTop + `)
	SELECT count(*)::int FROM gone`

// Spending chooses what is told of what messages cost: accepted on which days of UTC, through which gateway, to
// which country; and what is told apart.
type Spending struct {
	Since, Until                          time.Time // days; until is not among them
	Gateway                               uuid.UUID
	Country, Kind                         string
	ByGateway, ByCountry, ByKind, ByMonth bool
	ByDay                                 bool
}

// sql asks for sums of what tables hold.
func (f Spending) sql(sums, from string, kinds bool) (string, []any) {
	of := conditions{"day >= $1 AND day < $2", []any{f.Since, f.Until}}
	of.meet("gateway_id", f.Gateway, f.Gateway != uuid.Nil)
	of.meet("country", f.Country, f.Country != "")
	of.meet("kind", f.Kind, f.Kind != "" && kinds)
	apart := []string{"NULL::timestamptz", "'" + uuid.Nil.String() + "'::uuid", "''", "''"}
	switch {
	case f.ByDay:
		apart[0] = "day"
	case f.ByMonth:
		apart[0] = "date_trunc('month', day, 'UTC')"
	}
	if f.ByGateway {
		apart[1] = "gateway_id"
	}
	if f.ByCountry {
		apart[2] = "country"
	}
	if f.ByKind && kinds {
		apart[3] = "kind"
	}
	return "SELECT " + strings.Join(apart, ", ") + ", " + sums + " FROM (" + from + ") AS spent WHERE " + of.where +
		" GROUP BY 1, 2, 3, 4, 5, 6, 7", of.args
}

// Spent is what messages cost that are counted alike.
type Spent struct {
	Along
	Currency, ToldCurrency string
	Told                   bool
	N, AvoidableN          int64
	Micros, ToldMicros     int64
	AvoidableMicros        int64
}

// Spent adds up what messages cost, as estimated and as gateways told.
func (s *Store) Spent(ctx context.Context, f Spending) ([]Spent, error) {
	sql, args := f.sql(
		`currency, told_currency, told, sum(n)::bigint, sum(micros)::bigint, sum(told_micros)::bigint,
			sum(avoidable_n)::bigint, sum(avoidable_micros)::bigint`,
		`SELECT day, gateway_id, country, kind, currency, told_currency, told, n, micros, told_micros, avoidable_n, avoidable_micros FROM money
		UNION ALL SELECT d.day, d.gateway_id, coalesce(c.country, '') AS country, coalesce(c.kind, '') AS kind, d.currency,
			d.told_currency, d.told, d.n, d.micros, d.told_micros,
			d.avoidable_n, d.avoidable_micros FROM money_deltas d JOIN cuts c ON c.id = d.cut_id`,
		true,
	)
	found, err := query(ctx, s.reading(), func(rows pgx.Rows) (one Spent, err error) {
		var at *time.Time
		err = rows.Scan(&at, &one.Gateway, &one.Country, &one.Kind, &one.Currency, &one.ToldCurrency, &one.Told, &one.N, &one.Micros,
			&one.ToldMicros, &one.AvoidableN, &one.AvoidableMicros)
		if at != nil {
			one.At = at.UTC()
		}
		return one, err
	}, sql+" HAVING sum(n) <> 0", args...)
	if err != nil {
		return nil, fmt.Errorf("reading what messages cost: %w", err)
	}
	return found, nil
}

// BilledSum is what statements bill for lines that are counted alike. Kinds are not told apart.
type BilledSum struct {
	Along
	Matched                bool // of messages of ours
	Currency, OursCurrency string
	N                      int64
	Micros, OursMicros     int64
}

// Billed adds up what statements bill.
func (s *Store) Billed(ctx context.Context, f Spending) ([]BilledSum, error) {
	sql, args := f.sql("matched, currency, ours_currency, sum(n)::bigint, sum(micros)::bigint, sum(ours_micros)::bigint",
		`SELECT day, gateway_id, country, matched, currency, ours_currency, n, micros, ours_micros FROM statement_money`, false)
	found, err := query(ctx, s.reading(), func(rows pgx.Rows) (one BilledSum, err error) {
		var at *time.Time
		err = rows.Scan(&at, &one.Gateway, &one.Country, &one.Kind, &one.Matched, &one.Currency, &one.OursCurrency, &one.N, &one.Micros,
			&one.OursMicros)
		if at != nil {
			one.At = at.UTC()
		}
		return one, err
	}, sql, args...)
	if err != nil {
		return nil, fmt.Errorf("reading what was billed: %w", err)
	}
	return found, nil
}

// acceptedDay is the day on which the message of a line was accepted, which its UUIDv7 tells, or that of the line.
const acceptedDay = `date_trunc('day', coalesce(
	to_timestamp(('x' || translate(left(l.message_id::text, 13), '-', ''))::bit(48)::bigint / 1000.0), l.at, t.created_at), 'UTC')`

// SumBilled adds up what a statement bills that is matched. A message that several statements of a gateway bill
// for is billed by the first of them.
func (s *Store) SumBilled(ctx context.Context, one Statement) error {
	if err := s.sumBilled(ctx, one); err != nil {
		return err
	}
	return s.sumLater(ctx, one)
}

// UnsumBilled takes back what a statement bills that is withdrawn. Later ones bill for what only it did until now.
func (s *Store) UnsumBilled(ctx context.Context, one Statement) error {
	if err := s.dropBilled(ctx, one); err != nil {
		return err
	}
	return s.sumLater(ctx, one)
}

func (s *Store) sumLater(ctx context.Context, one Statement) error {
	later, err := s.besides(ctx, one, ">")
	for _, l := range later {
		if err = s.sumBilled(ctx, l); err != nil {
			break
		}
	}
	return err
}

func (s *Store) dropBilled(ctx context.Context, one Statement) error {
	if err := s.gorm(ctx).Exec("DELETE FROM statement_money WHERE statement_id = ?", one.ID).Error; err != nil {
		return fmt.Errorf("taking back what a statement bills: %w", err)
	}
	return nil
}

func (s *Store) sumBilled(ctx context.Context, one Statement) error {
	if err := s.dropBilled(ctx, one); err != nil {
		return err
	}
	earlier, err := s.besides(ctx, one, "<")
	if err != nil {
		return err
	}
	billed, args := "", []any{one.ID}
	if len(earlier) > 0 {
		ids := make([]uuid.UUID, len(earlier))
		for i, e := range earlier {
			ids[i] = e.ID
		}
		billed = ` AND NOT EXISTS (SELECT FROM statement_lines e WHERE e.message_id = l.message_id AND e.statement_id IN ?
			AND e.charge_micros IS NOT NULL)`
		args = append(args, ids)
	}
	err = s.gorm(ctx).
		Exec(`INSERT INTO statement_money (statement_id, gateway_id, day, country, matched, currency, ours_currency, n, micros,
			ours_micros)
		SELECT l.statement_id, t.gateway_id, `+acceptedDay+`, l.country, l.message_id IS NOT NULL, l.charge_currency, l.ours_currency,
			count(*), sum(l.charge_micros), coalesce(sum(l.ours_micros), 0)
		FROM statement_lines l JOIN statements t ON t.id = l.statement_id
		WHERE l.statement_id = ? AND l.charge_micros IS NOT NULL AND l.wrong = ''`+billed+` GROUP BY 1, 2, 3, 4, 5, 6, 7`, args...).
		Error
	if err != nil {
		return fmt.Errorf("adding up what a statement bills: %w", err)
	}
	return nil
}

// besides are the other statements of a gateway that hold and of which a span overlaps, earlier or later ones.
func (s *Store) besides(ctx context.Context, one Statement, compare string) (others []Statement, err error) {
	if one.FromAt == nil {
		return nil, nil
	}
	err = s.gorm(ctx).Where("gateway_id = ? AND id "+compare+" ? AND state IN ('applying', 'done') AND from_at <= ? AND until_at >= ?",
		one.GatewayID, one.ID, one.UntilAt, one.FromAt).Order("id").Find(&others).Error
	if err != nil {
		return nil, fmt.Errorf("looking for other statements: %w", err)
	}
	return others, nil
}
