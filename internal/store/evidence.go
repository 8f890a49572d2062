package store

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
)

// Evidence is the record of one fact about a message. It is only ever added.
type Evidence struct {
	ID         uuid.UUID
	MessageID  uuid.UUID
	At         time.Time
	Source     delivery.Source
	Claim      delivery.State
	Cause      delivery.Cause
	Attempt    int
	Part       int
	Parts      int
	GatewayID  *uuid.UUID
	GatewayRef string
	Code       string
	Note       string
	GatewayAt  *time.Time
	ExchangeID *uuid.UUID
	ReceiptID  *uuid.UUID
	Billed     `gorm:"embedded"`
	// Ground, Weak, Over and Withdraws are as in [delivery.Evidence].
	Ground    delivery.Ground
	Weak      bool
	Over      delivery.Endings
	Withdraws delivery.Ground
}

// GroundOf is the ground that a record with an id is.
func GroundOf(id uuid.UUID) delivery.Ground {
	return delivery.Ground(binary.BigEndian.Uint64(id[8:])) // the random part of it
}

// maybeGround is a ground as it is kept.
func maybeGround(g delivery.Ground) *int64 {
	if g == 0 {
		return nil
	}
	n := int64(g) // #nosec G115 -- it is told apart, and not counted
	return &n
}

func groundKept(n *int64) delivery.Ground {
	if n == nil {
		return 0
	}
	return delivery.Ground(*n) // #nosec G115 -- as above
}

// Billed is what a gateway says that it counted and charged.
type Billed struct {
	Segments       int    // 0: not said
	ChargeMicros   *int64 // nil: not said
	ChargeCurrency string
}

// TableName names the table; evidence has no plural.
func (Evidence) TableName() string { return "evidence" }

// Fact is the evidence as the core sees it.
func (e *Evidence) Fact() delivery.Evidence {
	fact := delivery.Evidence{Source: e.Source, Claim: e.Claim, Cause: e.Cause, Attempt: e.Attempt, Part: e.Part, Parts: e.Parts,
		GatewayRef: e.GatewayRef, Code: e.Code, Note: e.Note,
		Ground: e.Ground, Weak: e.Weak, Over: e.Over, Withdraws: e.Withdraws}
	if e.ChargeMicros != nil {
		fact.Charge = delivery.Charge{Told: true, Micros: *e.ChargeMicros, Currency: e.ChargeCurrency}
	}
	switch {
	case e.GatewayAt != nil:
		fact.GatewayAt = *e.GatewayAt
	case e.Source == delivery.Operator && e.Ground != 0: // the last decision holds
		fact.GatewayAt = e.At
	}
	return fact
}

// begins reports whether the fact is that a submission begins. The submission's
// own record tells it, and tells it once.
func (e *Evidence) begins() bool {
	return e.Source == delivery.Own && e.Claim == delivery.Sending
}

// takes reports whether the fact is that the gateway took a message when it was
// submitted, and nothing else. The submission's own record tells that too.
func (e *Evidence) takes(gateway uuid.UUID) bool {
	return e.Source == delivery.Reply && e.Claim == delivery.Accepted && e.GatewayID != nil && *e.GatewayID == gateway &&
		e.Cause == "" && e.Part == 0 && e.Parts == 0 && e.Code == "" && e.Note == "" && e.GatewayAt == nil && e.ReceiptID == nil &&
		e.Billed == Billed{} && e.Ground == 0 && e.Withdraws == 0
}

// firmly and weakly are the columns in which a claim is kept.
func (e *Evidence) firmly() delivery.State {
	if e.Weak {
		return ""
	}
	return e.Claim
}

func (e *Evidence) weakly() delivery.State {
	if e.Weak {
		return e.Claim
	}
	return ""
}

const (
	insertEvidence = `INSERT INTO evidence_%M (id, message_id, at, source, claim, cause, attempt, part, parts, gateway_id, gateway_ref,
		code, note, gateway_at, exchange_id, receipt_id, segments, charge_micros, charge_currency)
	SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::timestamptz[], $4::text[], $5::text[], $6::text[], $7::int[], $8::int[], $9::int[],
		$10::uuid[], $11::text[],
		$12::text[], $13::text[], $14::timestamptz[], $15::uuid[], $16::uuid[], $17::int[], $18::bigint[], $19::text[])`
	insertGrounded = `INSERT INTO evidence_%M (id, message_id, at, source, claim, cause, attempt, part, parts, gateway_id, gateway_ref,
		code, note, gateway_at, exchange_id, receipt_id, segments, charge_micros, charge_currency, ground, withdraws, over, weak_claim)
	SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::timestamptz[], $4::text[], $5::text[], $6::text[], $7::int[], $8::int[], $9::int[],
		$10::uuid[], $11::text[],
		$12::text[], $13::text[], $14::timestamptz[], $15::uuid[], $16::uuid[], $17::int[], $18::bigint[], $19::text[],
		$20::bigint[], $21::bigint[], $22::int[], $23::text[])`
)

// queueEvidence adds evidence. Most can never be withdrawn, and goes without what only the rest has.
func queueEvidence(b *pgx.Batch, m month, set []Evidence) {
	if len(set) == 0 {
		return
	}
	values := []any{
		ids(set, func(e *Evidence) uuid.UUID { return e.ID }),
		ids(set, func(e *Evidence) uuid.UUID { return e.MessageID }),
		column(set, func(e *Evidence) time.Time { return e.At }),
		words(set, func(e *Evidence) delivery.Source { return e.Source }),
		words(set, (*Evidence).firmly),
		words(set, func(e *Evidence) delivery.Cause { return e.Cause }),
		numbers(set, func(e *Evidence) int { return e.Attempt }),
		numbers(set, func(e *Evidence) int { return e.Part }),
		numbers(set, func(e *Evidence) int { return e.Parts }),
		maybeIDs(set, func(e *Evidence) *uuid.UUID { return e.GatewayID }),
		words(set, func(e *Evidence) string { return e.GatewayRef }),
		words(set, func(e *Evidence) string { return e.Code }),
		words(set, func(e *Evidence) string { return e.Note }),
		column(set, func(e *Evidence) *time.Time { return e.GatewayAt }),
		maybeIDs(set, func(e *Evidence) *uuid.UUID { return e.ExchangeID }),
		maybeIDs(set, func(e *Evidence) *uuid.UUID { return e.ReceiptID }),
		numbers(set, func(e *Evidence) int { return e.Segments }),
		column(set, func(e *Evidence) *int64 { return e.ChargeMicros }),
		words(set, func(e *Evidence) string { return e.ChargeCurrency }),
	}
	if !slices.ContainsFunc(set, func(e Evidence) bool { return e.Ground != 0 || e.Withdraws != 0 }) {
		b.Queue(m.in(insertEvidence), values...)
		return
	}
	b.Queue(m.in(insertGrounded), append(values,
		column(set, func(e *Evidence) *int64 { return maybeGround(e.Ground) }),
		column(set, func(e *Evidence) *int64 { return maybeGround(e.Withdraws) }),
		numbers(set, func(e *Evidence) int { return int(e.Over) }),
		words(set, (*Evidence).weakly),
	)...)
}

// Timeline returns the evidence about a message in the order in which it was
// recorded: how it was accepted, its submissions, and what was said of them.
func (s *Store) Timeline(ctx context.Context, message uuid.UUID) ([]Evidence, error) {
	timelines, err := s.timelines(ctx, []uuid.UUID{message})
	return timelines[message], err
}

// timelines reads the evidence about several messages. That a submission began,
// or was taken, is told by its own record, and that a message was accepted by the
// message.
func (s *Store) timelines(ctx context.Context, messages []uuid.UUID) (map[uuid.UUID][]Evidence, error) {
	timelines := map[uuid.UUID][]Evidence{}
	for m, some := range byMonth(s, messages, itself) {
		facts, err := query(
			ctx,
			s.hot(),
			scanEvidence,
			m.in(`SELECT id, message_id, at, source, claim, cause, attempt, part, parts, gateway_id, gateway_ref,
				code, note, gateway_at, exchange_id, receipt_id, segments, charge_micros, charge_currency,
				ground, withdraws, over, weak_claim
			FROM evidence_%M WHERE message_id = ANY($1)`),
			uuids(some),
		)
		if err != nil {
			return nil, fmt.Errorf("reading evidence: %w", err)
		}
		began, err := query(
			ctx,
			s.hot(),
			scanBegun,
			m.in(`SELECT message_id, attempt, gateway_id, began_at FROM submissions_%M WHERE message_id = ANY($1)
			UNION ALL SELECT s.id, s.attempts, s.gateway_id, a.began_at FROM standings_%M s JOIN to_ask a USING (id)
				WHERE s.id = ANY($1) AND s.state = 'sending'
					AND NOT EXISTS (SELECT FROM submissions_%M b WHERE b.message_id = s.id AND b.attempt = s.attempts)
			UNION ALL SELECT m.id, 0, s.gateway_id, m.created_at FROM messages_%M m JOIN standings_%M s USING (id) WHERE m.id = ANY($1)
				AND m.begun IS NOT NULL`),
			uuids(some),
		)
		if err != nil {
			return nil, fmt.Errorf("reading submissions: %w", err)
		}
		taken, err := query(
			ctx,
			s.hot(),
			scanTaken,
			m.in(`SELECT message_id, attempt, gateway_id, taken_at, coalesce(taken_ref, gateway_ref),
			exchange_id FROM submissions_%M WHERE message_id = ANY($1) AND taken_at IS NOT NULL`),
			uuids(some),
		)
		if err != nil {
			return nil, fmt.Errorf("reading what was taken: %w", err)
		}
		accepted, err := query(
			ctx,
			s.hot(),
			scanAccepted,
			m.in(
				"SELECT id, begun, segments, CASE WHEN held_until IS NULL THEN 'queued' ELSE 'held' END "+
					"FROM messages_%M WHERE id = ANY($1) AND begun IS NOT NULL",
			),
			uuids(some),
		)
		if err != nil {
			return nil, fmt.Errorf("reading how messages were accepted: %w", err)
		}
		how := map[uuid.UUID]Evidence{}
		for _, e := range accepted {
			how[e.MessageID] = e
		}
		for i := range began {
			if e := &began[i]; e.Attempt == 0 {
				e.ID, e.Claim, e.Note, e.Parts = e.MessageID, how[e.MessageID].Claim, how[e.MessageID].Note, how[e.MessageID].Parts
			}
		}
		for _, e := range slices.Concat(facts, began, taken) {
			timelines[e.MessageID] = append(timelines[e.MessageID], e)
		}
	}
	for _, timeline := range timelines {
		slices.SortFunc(timeline, func(a, b Evidence) int {
			return cmp.Or(slices.Compare(a.ID[:], b.ID[:]), cmp.Compare(a.Attempt, b.Attempt))
		})
	}
	return timelines, nil
}

func scanEvidence(rows pgx.Rows) (e Evidence, err error) {
	var ground, withdraws *int64
	var weakly delivery.State
	err = rows.Scan(&e.ID, &e.MessageID, &e.At, &e.Source, &e.Claim, &e.Cause, &e.Attempt, &e.Part, &e.Parts, &e.GatewayID, &e.GatewayRef,
		&e.Code, &e.Note, &e.GatewayAt, &e.ExchangeID, &e.ReceiptID, &e.Segments, &e.ChargeMicros, &e.ChargeCurrency,
		&ground, &withdraws, &e.Over, &weakly)
	e.Ground, e.Withdraws = groundKept(ground), groundKept(withdraws)
	if weakly != "" {
		e.Claim, e.Weak = weakly, true
	}
	return e, err
}

// scanBegun reads that a submission began. Its id is of that moment, so that it
// stands in its place among the rest.
func scanBegun(rows pgx.Rows) (Evidence, error) {
	e := Evidence{Source: delivery.Own, Claim: delivery.Sending}
	var gateway uuid.UUID
	err := rows.Scan(&e.MessageID, &e.Attempt, &gateway, &e.At)
	e.ID, e.GatewayID = Floor(e.At), &gateway
	e.ID[15] = byte(e.Attempt)
	return e, err
}

// scanTaken reads that a submission was taken.
func scanTaken(rows pgx.Rows) (Evidence, error) {
	e := Evidence{Source: delivery.Reply, Claim: delivery.Accepted}
	var gateway uuid.UUID
	err := rows.Scan(&e.MessageID, &e.Attempt, &gateway, &e.At, &e.GatewayRef, &e.ExchangeID)
	e.ID, e.GatewayID = Floor(e.At), &gateway
	e.ID[14], e.ID[15] = 1, byte(e.Attempt) // after its beginning
	return e, err
}

func scanAccepted(rows pgx.Rows) (e Evidence, err error) {
	err = rows.Scan(&e.MessageID, &e.Note, &e.Parts, &e.Claim)
	return e, err
}

// fold works out messages from all their evidence.
func (s *Store) fold(ctx context.Context, messages []uuid.UUID) (map[uuid.UUID]delivery.Digest, error) {
	timelines, err := s.timelines(ctx, messages)
	if err != nil {
		return nil, err
	}
	digests := make(map[uuid.UUID]delivery.Digest, len(timelines))
	for id, timeline := range timelines {
		var d delivery.Digest
		for i := range timeline {
			d.Note(timeline[i].Fact())
		}
		digests[id] = d
	}
	return digests, nil
}
