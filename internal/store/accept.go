package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
)

// Idempotency is the memory of a request that carried an Idempotency-Key.
type Idempotency struct {
	KeyID       uuid.UUID `gorm:"primaryKey"`
	Token       string    `gorm:"primaryKey"`
	Fingerprint []byte
	MessageID   uuid.UUID
	CreatedAt   time.Time `gorm:"autoCreateTime:false"`
}

// TableName names the table.
func (Idempotency) TableName() string { return "idempotency" }

// Acceptance is a message to be accepted, with why it takes its gateway and the
// token that makes its repetition harmless; nil if the request had none. Sealed is
// the text of a passcode, of which the message holds what may be seen. Goes is the
// evidence that it goes at once; nil: it waits for its turn or its time.
type Acceptance struct {
	Message Message
	Begun   string
	Token   *Idempotency
	Sealed  []byte
	Goes    *Evidence
}

// note makes the digest of a message that is accepted.
func (a *Acceptance) note() {
	a.Message.digest = delivery.Digest{}
	a.Message.digest.Note(delivery.Evidence{Source: delivery.Own, Claim: a.Message.State, Parts: a.Message.Segments, Note: a.Begun})
}

// begin makes a message that is accepted one that is about to go: it is written as that, and
// need not be claimed.
func (a *Acceptance) begin(now time.Time, plan func(before, after *Message, known delivery.Outcome)) {
	a.note()
	m := &a.Message
	before := *m
	m.digest = before.digest.Clone()
	m.digest.Note(a.Goes.Fact())
	known := m.digest.Outcome()
	m.apply(known, now)
	m.DueAt, m.BeganAt = time.Time{}, now
	plan(&before, m, known)
	m.openTimes(now)
}

// Accept commits new messages, as one set. Where a token is known already
// nothing is written for its message; the tokens that were there first are
// returned, in the order of the set, nil for messages that were accepted.
func (s *Store) Accept(ctx context.Context, set []Acceptance) ([]*Idempotency, error) {
	if err := s.cut(ctx, set); err != nil {
		return nil, fmt.Errorf("accepting %d messages: %w", len(set), err)
	}
	var prior []*Idempotency
	err := s.Transact(ctx, func(s *Store) (err error) {
		if prior, err = s.ClaimTokens(ctx, set); err != nil {
			return err
		}
		fresh := make([]Acceptance, 0, len(set))
		for i, a := range set {
			if prior[i] == nil {
				fresh = append(fresh, a)
			}
		}
		return s.accept(ctx, fresh)
	})
	if err != nil {
		return nil, fmt.Errorf("accepting %d messages: %w", len(set), err)
	}
	return prior, nil
}

// AcceptClaimed is [Store.Accept] for messages whose tokens, if they have any, were claimed
// in the same transaction. Call it within [Store.Transact].
func (s *Store) AcceptClaimed(ctx context.Context, set []Acceptance) error {
	err := s.cut(ctx, set)
	if err == nil {
		err = s.accept(ctx, set)
	}
	if err != nil {
		return fmt.Errorf("accepting %d messages: %w", len(set), err)
	}
	return nil
}

func (t *Idempotency) at() string { return t.KeyID.String() + t.Token }

// ClaimTokens writes the tokens of a set, and returns those that were there first, in the
// order of the set; nil where a message has none or its own is the first. Of messages of the
// set with the same token the first has it. Call it within [Store.Transact].
func (s *Store) ClaimTokens(ctx context.Context, set []Acceptance) ([]*Idempotency, error) {
	prior := make([]*Idempotency, len(set))
	var tokens []Idempotency
	first := map[string]*Idempotency{}
	for i := range set {
		if t := set[i].Token; t != nil && first[t.at()] == nil {
			first[t.at()] = t
			tokens = append(tokens, *t)
		}
	}
	if tokens == nil {
		return prior, nil
	}
	// Always in the same order, so that two sets never wait for each other.
	slices.SortFunc(tokens, func(a, b Idempotency) int { return strings.Compare(a.at(), b.at()) })
	keys := ids(tokens, func(t *Idempotency) uuid.UUID { return t.KeyID })
	names := words(tokens, func(t *Idempotency) string { return t.Token })
	// The conflict waits for a rival transaction to end, so that the one that
	// came first is there to be read by the next statement.
	var b pgx.Batch
	b.Queue(
		`INSERT INTO idempotency (key_id, token, fingerprint, message_id, created_at)
		SELECT * FROM unnest($1::uuid[], $2::text[], $3::bytea[], $4::uuid[], $5::timestamptz[]) ON CONFLICT DO NOTHING`,
		keys,
		names,
		column(tokens, func(t *Idempotency) []byte { return t.Fingerprint }),
		ids(tokens, func(t *Idempotency) uuid.UUID { return t.MessageID }),
		column(tokens, func(t *Idempotency) time.Time { return t.CreatedAt }),
	)
	if err := s.send(ctx, &b); err != nil {
		return nil, err
	}
	stored, err := query(ctx, s.hot(), func(rows pgx.Rows) (t Idempotency, err error) {
		err = rows.Scan(&t.KeyID, &t.Token, &t.Fingerprint, &t.MessageID, &t.CreatedAt)
		return t, err
	}, `SELECT i.key_id, i.token, i.fingerprint, i.message_id, i.created_at FROM unnest($1::uuid[], $2::text[]) AS k (key_id, token)
		JOIN idempotency i ON i.key_id = k.key_id AND i.token = k.token`, keys, names)
	if err != nil {
		return nil, err
	}
	for i := range stored {
		first[stored[i].at()] = &stored[i]
	}
	for i := range set {
		if t := set[i].Token; t != nil && first[t.at()].MessageID != set[i].Message.ID {
			prior[i] = first[t.at()]
		}
	}
	return prior, nil
}

// ReleaseTokens takes tokens back that were claimed in the same transaction.
func (s *Store) ReleaseTokens(ctx context.Context, tokens []*Idempotency) error {
	if len(tokens) == 0 {
		return nil
	}
	var b pgx.Batch
	b.Queue(
		`DELETE FROM idempotency i USING unnest($1::uuid[], $2::text[]) AS k (key_id, token)
			WHERE i.key_id = k.key_id AND i.token = k.token`,
		ids(tokens, func(t **Idempotency) uuid.UUID { return (*t).KeyID }),
		words(tokens, func(t **Idempotency) string { return (*t).Token }),
	)
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("taking tokens back: %w", err)
	}
	return nil
}

const (
	insertMessages = `INSERT INTO messages_%M (id, key_id, to_number, sender, kind, lane, text, encoding, units, segments, reference,
		valid_until,
		created_at, country, template, registration, given, fields, flash, route, begun, held_until, report_via, report_to)
	SELECT n.id, n.key_id, n.to_number, n.sender, n.kind, n.lane, n.text, n.encoding, n.units, n.segments, n.reference, n.valid_until,
		n.created_at, n.country, n.template, n.registration, n.given, n.fields::jsonb, n.flash, n.route, n.begun,
		n.held_until, n.report_via, n.report_to
	FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::text[], $5::text[], $6::int[], $7::text[], $8::text[], $9::int[], $10::int[],
		$11::text[],
		$12::timestamptz[], $13::timestamptz[], $14::text[], $15::text[], $16::text[], $17::text[], $18::text[], $19::boolean[],
			$20::text[], $21::text[], $22::timestamptz[], $23::uuid[], $24::text[])
		AS n (id, key_id, to_number, sender, kind, lane, text, encoding, units, segments, reference, valid_until,
		created_at, country, template, registration, given, fields, flash, route, begun, held_until, report_via, report_to)`
	insertStandings = `INSERT INTO standings_%M
		(id, gateway_id, valid_until, changed_at, price_micros, cut_id, lane, state, currency, digest, attempts, avoidable_micros)
	SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::timestamptz[], $4::timestamptz[], $5::bigint[], $6::int[], $7::int[], $8::text[],
		$9::text[], $10::bytea[], $11::int[], $12::bigint[])`
)

// accept writes new messages.
func (s *Store) accept(ctx context.Context, set []Acceptance) error {
	var b pgx.Batch
	var sends []sending
	var waits []sending
	var asks []Message
	counts, batches := tallyDeltas{}, batchDeltas{}
	divided := byMonth(s, set, func(a *Acceptance) uuid.UUID { return a.Message.ID })
	n := 0
	for m, some := range divided {
		n += len(some)
		if err := queueMessages(&b, m, some); err != nil {
			return err
		}
		for i := range some {
			m := &some[i].Message
			switch m.State {
			case delivery.Held:
				waits = append(waits, sending{id: m.ID, gateway: m.GatewayID, due: *m.HeldUntil})
			case delivery.Sending:
				asks = append(asks, *m)
			default:
				sends = append(sends, sending{m.ID, m.GatewayID, m.Lane, m.DueAt, m.ValidUntil})
			}
			counts.add(m, 1)
			batches.add(m, 1)
		}
	}
	if n < len(set) {
		return fmt.Errorf("there are no tables yet for the month of %d messages", len(set)-n)
	}
	queueToSend(&b, sends)
	queueHeld(&b, waits)
	queueToAsk(&b, asks)
	queueSealed(&b, set)
	counts.queue(&b)
	batches.queue(&b)
	return s.send(ctx, &b)
}

func queueMessages(b *pgx.Batch, m month, set []Acceptance) error {
	fields := make([]*string, len(set))
	digests := make([][]byte, len(set))
	for i := range set {
		a := &set[i]
		if len(a.Message.Fields) > 0 {
			encoded, err := json.Marshal(a.Message.Fields)
			if err != nil {
				return fmt.Errorf("the fields of message %s: %w", a.Message.ID, err)
			}
			text := string(encoded)
			fields[i] = &text
		}
		if a.Goes == nil {
			a.note()
		}
		digests[i], _ = a.Message.digest.AppendBinary(nil)
	}
	id := ids(set, func(a *Acceptance) uuid.UUID { return a.Message.ID })
	valid := column(set, func(a *Acceptance) time.Time { return a.Message.ValidUntil })
	lanes := numbers(set, func(a *Acceptance) int { return a.Message.Lane })
	word := func(of func(*Message) string) []string {
		return words(set, func(a *Acceptance) string { return of(&a.Message) })
	}
	b.Queue(
		m.in(insertMessages),
		id,
		ids(set, func(a *Acceptance) uuid.UUID { return a.Message.KeyID }),
		word(func(m *Message) string { return m.To.String() }),
		word(func(m *Message) string { return m.Sender }),
		word(func(m *Message) string { return string(m.Kind) }),
		lanes,
		word(func(m *Message) string { return m.Text }),
		word(func(m *Message) string { return m.Encoding }),
		numbers(set, func(a *Acceptance) int { return a.Message.Units }),
		numbers(set, func(a *Acceptance) int { return a.Message.Segments }),
		word(func(m *Message) string { return m.Reference }),
		valid,
		column(set, func(a *Acceptance) time.Time { return a.Message.CreatedAt }),
		word(func(m *Message) string { return m.Country }),
		word(func(m *Message) string { return m.Template }),
		word(func(m *Message) string { return m.Registration }),
		word(func(m *Message) string { return m.Given }),
		fields,
		column(set, func(a *Acceptance) bool { return a.Message.Flash }),
		word(func(m *Message) string { return m.Route }),
		words(set, func(a *Acceptance) string { return a.Begun }),
		column(set, func(a *Acceptance) *time.Time { return a.Message.HeldUntil }),
		maybeIDs(set, func(a *Acceptance) *uuid.UUID { return orNone(a.Message.ReportVia) }),
		column(set, func(a *Acceptance) *string { return orNone(a.Message.ReportTo) }),
	)
	b.Queue(
		m.in(insertStandings),
		id,
		ids(set, func(a *Acceptance) uuid.UUID { return a.Message.GatewayID }),
		valid,
		column(set, func(a *Acceptance) time.Time { return a.Message.ChangedAt }),
		column(set, func(a *Acceptance) *int64 { return a.Message.micros() }),
		numbers(set, func(a *Acceptance) int { return int(a.Message.cut) }),
		lanes,
		words(set, func(a *Acceptance) delivery.State { return a.Message.State }),
		word(func(m *Message) string { return m.Price.Currency() }),
		digests,
		numbers(set, func(a *Acceptance) int { return a.Message.Attempts }),
		column(set, func(a *Acceptance) *int64 { return orNone(a.Message.Avoidable) }),
	)
	return nil
}

// Token returns what a token was used for.
func (s *Store) Token(ctx context.Context, key uuid.UUID, token string) (Idempotency, error) {
	var t Idempotency
	err := s.gorm(ctx).Where("key_id = ? AND token = ?", key, token).First(&t).Error
	return t, found(err)
}
