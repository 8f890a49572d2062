package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/latency"
	"calmpigeon.example/internal/core/pace"
)

// How passcodes fare is counted as tallies are: as deltas, in the transaction in which it happens, by the hour in which
// they were issued; and added up later.

// PasscodeStep is how far a passcode, or a text that bears one, came.
type PasscodeStep string

// The steps.
const (
	StepIssued    PasscodeStep = "issued"
	StepAgain     PasscodeStep = "again"     // it was sent once more
	StepAccepted  PasscodeStep = "accepted"  // a text, by a gateway
	StepDelivered PasscodeStep = "delivered" // a text
	StepChecked   PasscodeStep = "checked"   // for the first time
	StepRight     PasscodeStep = "right"
)

// Stepped is a step of passcodes that are counted alike. Took is how long it took, from being issued, or for texts from
// being sent.
type Stepped struct {
	Hour                       time.Time
	Gateway                    uuid.UUID
	Country, Purpose, Template string
	Step                       PasscodeStep
	Took                       latency.Bucket
	N                          int64
}

// SteppedOf is a step of a passcode.
func SteppedOf(p *Passcode, gateway uuid.UUID, step PasscodeStep, took time.Duration) Stepped {
	s := Stepped{
		Hour:     p.CreatedAt.UTC().Truncate(time.Hour),
		Gateway:  gateway,
		Country:  p.Country,
		Purpose:  p.Purpose,
		Template: p.Template,
		Step:     step,
		N:        1,
	}
	if step == StepChecked || step == StepRight {
		s.Took = latency.BucketOf(took)
	}
	return s
}

// textStep is a step of texts that are counted alike.
type textStep struct {
	hour    time.Time
	cut     int32
	gateway uuid.UUID
	step    PasscodeStep
	took    latency.Bucket
}

type textSteps map[textStep]int

// note counts a message of the urgent lane that is accepted, or delivered, for the first time. Whether it bears a
// passcode is seen when it is written.
func (d textSteps) note(before, m *Message) {
	if m.Lane != pace.OTP.Lane() || !isOpen(before.State) {
		return
	}
	sent := timeOf(m.ID)
	count := func(step PasscodeStep) {
		d[textStep{sent.UTC().Truncate(time.Hour), m.cut, m.GatewayID, step, latency.BucketOf(m.ChangedAt.Sub(sent))}]++
	}
	if !taken(before.State) && taken(m.State) {
		count(StepAccepted)
	}
	if m.State == delivery.Delivered {
		count(StepDelivered)
	}
}

// taken reports whether a gateway is known to have taken a message.
func taken(s delivery.State) bool {
	return s == delivery.Accepted || s == delivery.Enroute || s == delivery.Delivered || s == delivery.Undeliverable
}

func (d textSteps) queue(b *pgx.Batch) {
	set := sums(d)
	if set == nil {
		return
	}
	b.Queue(`INSERT INTO passcode_deltas (hour, gateway_id, country, purpose, template, step, bucket, n)
		SELECT s.hour, s.gateway_id, c.country, p.purpose, c.template, s.step, s.bucket, s.n
		FROM unnest($1::timestamptz[], $2::int[], $3::uuid[], $4::text[], $5::int[], $6::int[]) AS s (hour, cut_id, gateway_id, step, bucket, n)
		JOIN cuts c ON c.id = s.cut_id
		CROSS JOIN LATERAL (SELECT substring(c.labels FROM '(?:^|,)passcode=([^,]*)') AS purpose) p WHERE p.purpose IS NOT NULL`,
		column(set, func(s *sum[textStep]) time.Time { return s.of.hour }), column(set, func(s *sum[textStep]) int32 { return s.of.cut }),
		ids(set, func(s *sum[textStep]) uuid.UUID { return s.of.gateway }),
		words(set, func(s *sum[textStep]) PasscodeStep { return s.of.step }),
		numbers(set, func(s *sum[textStep]) int { return int(s.of.took) }), numbers(set, func(s *sum[textStep]) int { return s.n }))
}

// CountSteps counts steps, in the transaction in which they are made.
func (s *Store) CountSteps(ctx context.Context, set []Stepped) error {
	alike := map[Stepped]int64{}
	for _, one := range set {
		n := one.N
		one.N = 0
		alike[one] += n
	}
	if len(alike) == 0 {
		return nil
	}
	set = set[:0:0]
	for one, n := range alike {
		one.N = n
		set = append(set, one)
	}
	var b pgx.Batch
	b.Queue(`INSERT INTO passcode_deltas (hour, gateway_id, country, purpose, template, step, bucket, n)
		SELECT * FROM unnest($1::timestamptz[], $2::uuid[], $3::text[], $4::text[], $5::text[], $6::text[], $7::int[], $8::int[])`,
		column(set, func(s *Stepped) time.Time { return s.Hour }), ids(set, func(s *Stepped) uuid.UUID { return s.Gateway }),
		words(set, func(s *Stepped) string { return s.Country }), words(set, func(s *Stepped) string { return s.Purpose }),
		words(set, func(s *Stepped) string { return s.Template }), words(set, func(s *Stepped) PasscodeStep { return s.Step }),
		numbers(set, func(s *Stepped) int { return int(s.Took) }), numbers(set, func(s *Stepped) int { return int(s.N) }))
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("counting passcodes: %w", err)
	}
	return nil
}

// compactSteps adds them up by hour and by day.
const compactSteps = `WITH turn AS MATERIALIZED (SELECT pg_try_advisory_xact_lock(hashtext('pigeon passcodes')) AS mine),
	gone AS (DELETE FROM passcode_deltas WHERE ctid = ANY (ARRAY(SELECT ctid FROM passcode_deltas WHERE (SELECT mine FROM turn) LIMIT $1))
		RETURNING hour, gateway_id, country, purpose, template, step, bucket, n),
	sums AS (SELECT g.grain, date_trunc(g.grain, d.hour, 'UTC') AS began_at, d.gateway_id, d.country, d.purpose, d.template, d.step, d.bucket,
			sum(d.n) AS n
		FROM gone d, (VALUES ('hour'), ('day')) AS g (grain) GROUP BY 1, 2, 3, 4, 5, 6, 7, 8),
	added AS (INSERT INTO passcode_steps AS p (grain, began_at, gateway_id, country, purpose, template, step, bucket, n)
		SELECT grain, began_at, gateway_id, country, purpose, template, step, bucket, n FROM sums
		ON CONFLICT (grain, began_at, gateway_id, country, purpose, template, step, bucket) DO UPDATE SET n = p.n + excluded.n)
	SELECT count(*)::int FROM gone`

// Funnel chooses what is told of how passcodes fared: issued in which hours, or days of UTC, through which gateway, to
// which country, for which purpose, with which template; and by what they are told apart.
type Funnel struct {
	Since, Until               time.Time
	Daily                      bool
	Gateway                    uuid.UUID
	Country, Purpose, Template string
	By                         string // gateway, country, purpose, template, hour; empty: not at all
}

// PasscodeSteps adds steps up. What is told apart stands in the field of its name; the others are empty.
func (s *Store) PasscodeSteps(ctx context.Context, f Funnel) ([]Stepped, error) {
	grain := "hour"
	if f.Daily {
		grain = "day"
	}
	of := conditions{"at >= $1 AND at < $2", []any{f.Since, f.Until}}
	of.meet("gateway_id", f.Gateway, f.Gateway != uuid.Nil)
	of.meet("country", f.Country, f.Country != "")
	of.meet("purpose", f.Purpose, f.Purpose != "")
	of.meet("template", f.Template, f.Template != "")
	apart := func(by, column, none string) string {
		if f.By == by {
			return column
		}
		return none
	}
	found, err := query(ctx, s.reading(), func(rows pgx.Rows) (one Stepped, err error) {
		var at *time.Time
		var took int
		err = rows.Scan(&at, &one.Gateway, &one.Country, &one.Purpose, &one.Template, &one.Step, &took, &one.N)
		if at != nil {
			one.Hour = at.UTC()
		}
		one.Took = latency.Bucket(took)
		return one, err
	}, `SELECT `+apart("hour", "date_trunc('"+grain+"', at, 'UTC')", "NULL::timestamptz")+`, `+
		apart("gateway", "gateway_id", "'"+uuid.Nil.String()+"'::uuid")+`, `+apart("country", "country", "''")+`, `+
		apart("purpose", "purpose", "''")+`, `+apart("template", "template", "''")+`, step, bucket::int, sum(n)::bigint
		FROM (SELECT began_at AS at, gateway_id, country, purpose, template, step, bucket, n FROM passcode_steps WHERE grain = '`+grain+`'
			UNION ALL SELECT hour, gateway_id, country, purpose, template, step, bucket, n FROM passcode_deltas) AS steps
		WHERE `+of.where+` GROUP BY 1, 2, 3, 4, 5, 6, 7`, of.args...)
	if err != nil {
		return nil, fmt.Errorf("reading how passcodes fared: %w", err)
	}
	return found, nil
}
