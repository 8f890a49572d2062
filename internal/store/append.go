package store

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
)

// inOrder locks what is read in the order of ids: two sets that meet wait, and
// never for each other.
const inOrder = "ORDER BY s.id FOR UPDATE OF s"

// readStandings reads where messages stand and what is planned, without their
// content. tail is appended to the statement.
func (s *Store) readStandings(ctx context.Context, all []uuid.UUID, tail string) ([]Message, error) {
	var locked []Message
	if len(all) == 0 {
		return nil, nil
	}
	slices.SortFunc(all, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	divided := byMonth(s, all, itself)
	for _, m := range slices.Sorted(maps.Keys(divided)) {
		some, err := query(ctx, s.hot(), scanStanding, m.in(`SELECT s.id, s.lane, s.valid_until, `+standingColumns+`,
				a.ask_at, a.give_up_at, a.began_at, a.asks
			FROM standings_%M s LEFT JOIN to_ask a ON a.id = s.id WHERE s.id = ANY($1) `+tail), uuids(divided[m]))
		if err != nil {
			s.missing(err)
			return nil, err
		}
		locked = append(locked, some...)
	}
	return locked, s.refresh(ctx, locked)
}

// Stand locks messages and returns where they stand. Call it within
// [Store.Transact].
func (s *Store) Stand(ctx context.Context, messages []uuid.UUID) (map[uuid.UUID]Message, error) {
	if len(messages) == 0 {
		return nil, nil
	}
	locked, err := s.readStandings(ctx, messages, inOrder)
	if err != nil {
		return nil, fmt.Errorf("locking messages: %w", err)
	}
	stands := make(map[uuid.UUID]Message, len(locked))
	for _, m := range locked {
		stands[m.ID] = m
	}
	return stands, nil
}

func scanStanding(rows pgx.Rows) (m Message, err error) {
	var r raw
	var began *time.Time
	var asks *int
	into := append([]any{&m.ID, &m.Lane, &m.ValidUntil}, m.Standing.into(&r)...)
	err = rows.Scan(append(into, &m.AskAt, &m.GiveUpAt, &began, &asks)...)
	if began != nil {
		m.BeganAt, m.Asks = *began, *asks
	}
	m.Kind = pace.Kinds[min(m.Lane, len(pace.Kinds)-1)]
	m.Standing.read(&r)
	return m, err
}

// waits reports whether a message in the state is among those to be sent.
func waits(s delivery.State) bool { return s == delivery.Queued }

// isOpen reports whether a gateway has a message in the state, or may have, and
// its end is not known.
func isOpen(s delivery.State) bool {
	return s == delivery.Sending || s == delivery.Doubtful || s == delivery.Accepted || s == delivery.Enroute
}

// Append adds evidence and joins it to what is known of every message that it
// speaks of, in one transaction: the row always agrees with the evidence. What
// says again what was known is counted. plan is called for each message with
// the outcome applied, to say what is to be done next; its content is not read.
// What is returned are the messages as they are now; evidence about messages
// that do not exist is left out. Messages that were read or changed a moment ago
// may be given in seen, and need not be read again.
func (s *Store) Append(
	ctx context.Context,
	now time.Time,
	seen []Message,
	evidence []Evidence,
	plan func(before, after *Message, known delivery.Outcome),
) ([]Message, error) {
	if len(evidence) == 0 {
		return nil, nil
	}
	var messages []Message
	err := s.Transact(ctx, func(s *Store) error {
		all := make(map[uuid.UUID]bool, len(evidence))
		for _, e := range evidence {
			all[e.MessageID] = true
		}
		messages = nil
		if !s.tx.careful {
			for _, m := range seen {
				if all[m.ID] {
					messages = append(messages, m)
					delete(all, m.ID)
				}
			}
		}
		unseen, err := s.readStandings(ctx, slices.Collect(maps.Keys(all)), s.locking(inOrder))
		if err != nil {
			return err
		}
		messages = append(messages, unseen...)
		return s.AppendTo(ctx, now, messages, evidence, plan)
	})
	if err != nil {
		s.missing(err)
		return nil, fmt.Errorf("adding %d pieces of evidence: %w", len(evidence), err)
	}
	return messages, nil
}

// AppendTo is [Store.Append] for messages that were read before, which are
// changed to what they are now. If they are not any more as they were read, the
// transaction is run again.
func (s *Store) AppendTo(ctx context.Context, now time.Time, messages []Message, evidence []Evidence,
	plan func(before, after *Message, known delivery.Outcome)) error {
	err := s.Transact(ctx, func(s *Store) error {
		about := make(map[uuid.UUID][]Evidence, len(evidence))
		for _, e := range evidence {
			about[e.MessageID] = append(about[e.MessageID], e)
		}
		c := changes{
			store:     s,
			ctx:       ctx,
			now:       now,
			counts:    tallyDeltas{},
			batches:   batchDeltas{},
			arrivals:  arrivalDeltas{},
			texts:     textSteps{},
			money:     moneyDeltas{},
			evidence:  map[month][]Evidence{},
			standings: map[month][]Message{},
		}
		for i := range messages {
			if err := c.join(&messages[i], about[messages[i].ID], plan); err != nil {
				return err
			}
		}
		var b pgx.Batch
		c.queue(&b)
		return s.send(ctx, &b)
	})
	if err != nil {
		return fmt.Errorf("adding %d pieces of evidence: %w", len(evidence), err)
	}
	return nil
}

// changes is all that is to be written for a set of evidence.
type changes struct {
	store *Store
	ctx   context.Context
	now   time.Time

	evidence      map[month][]Evidence
	standings     map[month][]Message
	sends         []sending
	sendsNot      []uuid.UUID
	held          []sending
	heldNot       []uuid.UUID
	asks          []Message
	asksNot       []uuid.UUID
	begun         []submission
	marks, unmark []mark
	freed         []int64 // grounds of weak matches that were withdrawn
	refs          []gatewayRef
	unseal        []uuid.UUID // texts that are no longer needed
	counts        tallyDeltas
	batches       batchDeltas
	arrivals      arrivalDeltas
	texts         textSteps
	money         moneyDeltas
	events        []Event
}

type mark struct {
	mark string
	id   uuid.UUID
}

// submission is a submission of which an answer, or none, is known.
type submission struct {
	message  uuid.UUID
	attempt  int
	gateway  uuid.UUID
	began    time.Time
	ref      string
	taken    *time.Time // the gateway took it, and said nothing else
	exchange *uuid.UUID // in which it said so
}

// join joins evidence about one message to what is known of it.
func (c *changes) join(m *Message, evidence []Evidence, plan func(before, after *Message, known delivery.Outcome)) error {
	before := *m
	m.digest = before.digest.Clone()
	month := monthOf(m.ID)
	named := map[int]uuid.UUID{} // submissions of which the gateway's id was told
	var taken *Evidence
	latest := c.now // when its last submission began, if that is new
	for i, e := range evidence {
		if !m.digest.Note(e.Fact()) {
			m.Repeats++
			continue
		}
		if e.GatewayRef != "" && e.Attempt > 0 && e.GatewayID != nil && e.Ground == 0 {
			named[e.Attempt] = *e.GatewayID
		}
		switch {
		case e.begins():
			latest = e.At
		case taken == nil && before.State == delivery.Sending && e.Attempt == before.Attempts && e.takes(before.GatewayID):
			taken = &evidence[i]
		default:
			c.evidence[month] = append(c.evidence[month], e)
		}
	}
	if taken != nil && taken.GatewayRef != m.digest.Ref(taken.Attempt) { // another says otherwise
		c.evidence[month] = append(c.evidence[month], *taken)
		taken = nil
	}
	c.supersede(m)
	known := m.digest.Outcome()
	m.apply(known, c.now)
	if before.Attempts != m.Attempts {
		m.BeganAt = latest
	}
	if err := c.speakOf(&before, m, known); err != nil {
		return err
	}
	plan(&before, m, known)
	c.standings[month] = append(c.standings[month], *m)
	m.version++

	if before.State == delivery.Sending && (m.State != delivery.Sending || before.Attempts != m.Attempts) {
		named[before.Attempts] = before.GatewayID
	}
	if before.Attempts != m.Attempts && m.State != delivery.Sending { // it began, and what became of it is said already
		named[m.Attempts] = m.GatewayID
	}
	for attempt, gateway := range named {
		ref := m.digest.Ref(attempt)
		if ref == before.digest.Ref(attempt) && before.State != delivery.Sending && attempt <= before.Attempts {
			continue
		}
		began := before.BeganAt
		if attempt > before.Attempts || began.IsZero() {
			began = latest
		}
		s := submission{message: m.ID, attempt: attempt, gateway: gateway, began: began, ref: ref}
		if taken != nil && attempt == taken.Attempt {
			s.taken, s.exchange = &taken.At, taken.ExchangeID
		}
		c.begun = append(c.begun, s)
		if ref != "" {
			c.refs = append(c.refs, gatewayRef{ref, gateway})
		}
	}
	c.places(&before, m)
	c.counts.move(&before, m)
	c.batches.move(&before, m)
	c.money.move(&before, m)
	c.arrivals.note(&before, m, known, evidence)
	c.texts.note(&before, m)
	if c.store.heard().Any {
		if e, is := eventOf(&before, m, c.now); is {
			c.events = append(c.events, e)
		}
	}
	return nil
}

// supersede withdraws weak matches with a message of which better is known. Their strays are
// strays again.
func (c *changes) supersede(m *Message) {
	for _, g := range m.digest.Superseded() {
		e := Evidence{
			ID: IDAt(c.now), MessageID: m.ID, At: c.now, Source: delivery.Own, GatewayID: &m.GatewayID, Withdraws: g,
			Note: "better is known now: what named no message, and could only belong to this one, counts no more",
		}
		m.digest.Note(e.Fact())
		c.evidence[monthOf(m.ID)] = append(c.evidence[monthOf(m.ID)], e)
		c.freed = append(c.freed, *maybeGround(g))
	}
}

// speakOf lets a row speak of the gateway of the submission that its state
// speaks of. Of one that has just begun it does already.
func (c *changes) speakOf(before, m *Message, known delivery.Outcome) error {
	if known.Attempt == before.Attempt || known.Attempt == 0 || known.Attempts > before.Attempts {
		return nil
	}
	through, err := query(c.ctx, c.store.hot(), func(rows pgx.Rows) (g uuid.UUID, err error) { err = rows.Scan(&g); return g, err },
		monthOf(m.ID).in("SELECT gateway_id FROM submissions_%M WHERE message_id = $1 AND attempt = $2"), m.ID, known.Attempt)
	if len(through) == 1 {
		m.GatewayID = through[0]
	}
	return err
}

// places puts a message among those to be sent or asked about, and among those
// that people look for, or takes it out.
func (c *changes) places(before, m *Message) {
	switch was, is := waits(before.State), waits(m.State); {
	case is && (!was || !m.DueAt.IsZero() || before.GatewayID != m.GatewayID || before.State != m.State):
		due := m.DueAt
		if due.IsZero() {
			due = c.now
		}
		c.sends = append(c.sends, sending{m.ID, m.GatewayID, m.Lane, due, m.ValidUntil})
	case was && !is:
		m.DueAt = time.Time{}
		c.sendsNot = append(c.sendsNot, m.ID)
	}
	switch was, is := before.State == delivery.Held, m.State == delivery.Held; {
	case is && !was: // until somebody lets it go, or its time is over
		c.held = append(c.held, sending{id: m.ID, gateway: m.GatewayID, due: m.ValidUntil})
	case was && !is:
		c.heldNot = append(c.heldNot, m.ID)
	}
	switch was, is := isOpen(before.State), isOpen(m.State); {
	case is:
		m.openTimes(c.now)
		if !was || before.AskAt == nil || !before.AskAt.Equal(*m.AskAt) || !before.GiveUpAt.Equal(*m.GiveUpAt) || before.Asks != m.Asks ||
			before.GatewayID != m.GatewayID || !before.BeganAt.Equal(m.BeganAt) {
			c.asks = append(c.asks, *m)
		}
	case was:
		c.asksNot = append(c.asksNot, m.ID)
	}
	if m.Lane == pace.OTP.Lane() && mayBeHandedOver(before.State) && !mayBeHandedOver(m.State) {
		c.unseal = append(c.unseal, m.ID)
	}
	if before.State != m.State {
		if slices.Contains(marked, before.State) {
			c.unmark = append(c.unmark, mark{string(before.State), m.ID})
		}
		if slices.Contains(marked, m.State) {
			c.marks = append(c.marks, mark{string(m.State), m.ID})
		}
	}
	c.mark(contestedMark, m.ID, before.Rivals != "", m.Rivals != "")
	c.mark(undecidedMark, m.ID, before.undecided(), m.undecided())
	c.mark(weakMark, m.ID, before.digest.Weak(), m.digest.Weak())
}

// mark marks a message, or takes the mark away.
func (c *changes) mark(as string, id uuid.UUID, was, is bool) {
	switch {
	case is && !was:
		c.marks = append(c.marks, mark{as, id})
	case was && !is:
		c.unmark = append(c.unmark, mark{as, id})
	}
}

// openTimes sees to it that a message that is open has all times that are kept of it.
func (m *Message) openTimes(now time.Time) {
	if m.GiveUpAt == nil {
		m.GiveUpAt = cmp.Or(m.AskAt, &now)
	}
	if m.AskAt == nil {
		m.AskAt = m.GiveUpAt
	}
	if m.BeganAt.IsZero() {
		m.BeganAt = now
	}
}

const updateStandings = `WITH written AS (UPDATE standings_%M s SET gateway_id = n.gateway_id, state = n.state, cause = n.cause,
		rivals = n.rivals, attempts = n.attempts,
		changed_at = n.changed_at, settled_at = n.settled_at, price_micros = n.price_micros, currency = n.currency, repeats = n.repeats,
			digest = n.digest, version = n.version + 1, avoidable_micros = n.avoidable_micros
	FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::text[], $5::text[], $6::int[], $7::timestamptz[], $8::timestamptz[],
		$9::bigint[], $10::text[],
		$11::int[], $12::bytea[], $13::int[], $15::bigint[]) AS n (id, gateway_id, state, cause, rivals, attempts, changed_at, settled_at,
			price_micros, currency, repeats, digest, version, avoidable_micros)
	WHERE s.id = n.id AND s.version = n.version RETURNING 1)
	SELECT FROM written HAVING count(*) = $14`

// queueStandings writes where messages stand, unless any of them is not as it
// was read.
func queueStandings(b *pgx.Batch, m month, set []Message) {
	slices.SortFunc(set, func(a, b Message) int { return slices.Compare(a.ID[:], b.ID[:]) })
	digests := make([][]byte, len(set))
	for i := range set {
		digests[i], _ = set[i].digest.AppendBinary(make([]byte, 0, 96))
	}
	b.Queue(
		m.in(updateStandings),
		ids(set, func(m *Message) uuid.UUID { return m.ID }),
		ids(set, func(m *Message) uuid.UUID { return m.GatewayID }),
		words(set, func(m *Message) delivery.State { return m.State }),
		words(set, func(m *Message) delivery.Cause { return m.Cause }),
		words(set, func(m *Message) string { return m.Rivals }),
		numbers(set, func(m *Message) int { return m.Attempts }),
		column(set, func(m *Message) time.Time { return m.ChangedAt }),
		column(set, func(m *Message) *time.Time { return m.SettledAt }),
		column(set, func(m *Message) *int64 { return m.micros() }),
		words(set, func(m *Message) string { return m.Price.Currency() }),
		numbers(set, func(m *Message) int { return m.Repeats }),
		digests,
		column(set, func(m *Message) int32 { return m.version }),
		len(set),
		column(set, func(m *Message) *int64 { return orNone(m.Avoidable) }),
	).Exec(allWritten)
}

func (c *changes) queue(b *pgx.Batch) {
	for _, m := range slices.Sorted(maps.Keys(c.standings)) { // all lock rows in one order
		queueStandings(b, m, c.standings[m])
	}
	for m, set := range c.evidence {
		queueEvidence(b, m, set)
	}
	for m, set := range byMonth(c.store, c.begun, func(s *submission) uuid.UUID { return s.message }) {
		b.Queue(m.in(`INSERT INTO submissions_%M AS b (message_id, attempt, gateway_id, began_at, gateway_ref, taken_at, exchange_id)
			SELECT * FROM unnest($1::uuid[], $2::int[], $3::uuid[], $4::timestamptz[], $5::text[], $6::timestamptz[], $7::uuid[])
			ON CONFLICT (message_id, attempt) DO UPDATE SET gateway_ref = excluded.gateway_ref,
				taken_at = coalesce(b.taken_at, excluded.taken_at), exchange_id = coalesce(b.exchange_id, excluded.exchange_id),
				taken_ref = CASE WHEN b.taken_at IS NOT NULL AND b.gateway_ref <> excluded.gateway_ref
					THEN coalesce(b.taken_ref, b.gateway_ref) ELSE b.taken_ref END`),
			ids(set, func(s *submission) uuid.UUID { return s.message }), numbers(set, func(s *submission) int { return s.attempt }),
			ids(set, func(s *submission) uuid.UUID { return s.gateway }), column(set, func(s *submission) time.Time { return s.began }),
			words(set, func(s *submission) string { return s.ref }), column(set, func(s *submission) *time.Time { return s.taken }),
			maybeIDs(set, func(s *submission) *uuid.UUID { return s.exchange }))
	}
	queueToSend(b, c.sends)
	if len(c.sendsNot) > 0 {
		b.Queue("DELETE FROM to_send WHERE id = ANY($1)", uuids(c.sendsNot))
	}
	queueHeld(b, c.held)
	if len(c.heldNot) > 0 {
		b.Queue("DELETE FROM held WHERE id = ANY($1)", uuids(c.heldNot))
	}
	queueToAsk(b, c.asks)
	if len(c.asksNot) > 0 {
		b.Queue("DELETE FROM to_ask WHERE id = ANY($1)", uuids(c.asksNot))
	}
	if len(c.unmark) > 0 {
		b.Queue("DELETE FROM marks k USING unnest($1::text[], $2::uuid[]) AS n (mark, id) WHERE k.mark = n.mark AND k.id = n.id",
			words(c.unmark, func(m *mark) string { return m.mark }), ids(c.unmark, func(m *mark) uuid.UUID { return m.id }))
	}
	if len(c.marks) > 0 {
		b.Queue("INSERT INTO marks (mark, id) SELECT * FROM unnest($1::text[], $2::uuid[]) ON CONFLICT DO NOTHING",
			words(c.marks, func(m *mark) string { return m.mark }), ids(c.marks, func(m *mark) uuid.UUID { return m.id }))
	}
	if len(c.unseal) > 0 {
		b.Queue("UPDATE sealed_texts SET sealed = '' WHERE id = ANY($1)", uuids(c.unseal))
	}
	queueCallStrays(b, c.now, c.refs)
	queueFreeStrays(b, c.now, c.freed)
	c.counts.queue(b)
	c.batches.queue(b)
	c.arrivals.queue(b)
	c.texts.queue(b)
	c.money.queue(b)
	c.store.queueEvents(b, c.now, c.events) // after what changed: they are numbered when nobody else can change it
}

// apply writes an outcome into the row.
func (m *Message) apply(o delivery.Outcome, now time.Time) {
	m.State, m.Cause, m.Attempt, m.Attempts, m.GatewayRef, m.ChangedAt = o.State, o.Cause, o.Attempt, o.Attempts, o.GatewayRef, now
	rivals := make([]string, len(o.Rivals))
	for i, state := range o.Rivals {
		rivals[i] = string(state)
	}
	m.Rivals = strings.Join(rivals, ",")
	switch {
	case !o.State.Final():
		m.SettledAt = nil
	case m.SettledAt == nil:
		m.SettledAt = &now
	}
}
