package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"calmpigeon.example/internal/core/delivery"
)

// The json names of records that are written in sets are their columns.

// Message is the record of a message. State, Cause, Rivals, Attempts and
// GatewayRef are what Fold made of its evidence, and are written nowhere but
// in [Store.Append].
type Message struct {
	ID         uuid.UUID      `json:"id"`
	KeyID      uuid.UUID      `json:"key_id"`
	GatewayID  uuid.UUID      `json:"gateway_id"`
	ToNumber   string         `json:"to_number"`
	Sender     string         `json:"sender"`
	Kind       string         `json:"kind"`
	Lane       int            `json:"lane"`
	Text       string         `json:"text"`
	Encoding   string         `json:"encoding"`
	Units      int            `json:"units"`
	Segments   int            `json:"segments"`
	Reference  string         `json:"reference"`
	State      delivery.State `json:"state"`
	Cause      delivery.Cause `json:"cause"`
	Rivals     string         `json:"rivals"` // states joined by commas
	Attempts   int            `json:"attempts"`
	GatewayRef string         `json:"gateway_ref"`
	DueAt      time.Time      `json:"due_at"`
	ValidUntil time.Time      `json:"valid_until"`
	AskAt      *time.Time     `json:"ask_at"`
	Asks       int            `json:"asks"`
	GiveUpAt   *time.Time     `json:"give_up_at"`
	CreatedAt  time.Time      `json:"created_at" gorm:"autoCreateTime:false"`
	ChangedAt  time.Time      `json:"changed_at"`
	SettledAt  *time.Time     `json:"settled_at"`
	Country    string         `json:"country"`
	Template   string         `json:"template"`
	// Registration is the id under which the country has registered the text.
	Registration string `json:"registration"`
	// Given is the text before characters were replaced; empty if none were.
	Given string `json:"given"`
	// PriceMicros is the price in millionths; nil if it is not known.
	PriceMicros *int64 `json:"price_micros"`
	Currency    string `json:"currency"`
	// Fields are those of its template.
	Fields map[string]any `json:"fields" gorm:"serializer:json"`
	Flash  bool           `json:"flash"`
	Route  string         `json:"route"` // the name of its route; empty if it has none
}

// Evidence is the record of one fact about a message. It is only ever added.
type Evidence struct {
	ID         uuid.UUID       `json:"id"`
	MessageID  uuid.UUID       `json:"message_id"`
	At         time.Time       `json:"at"`
	Source     delivery.Source `json:"source"`
	Claim      delivery.State  `json:"claim"`
	Cause      delivery.Cause  `json:"cause"`
	Attempt    int             `json:"attempt"`
	Part       int             `json:"part"`
	Parts      int             `json:"parts"`
	GatewayID  *uuid.UUID      `json:"gateway_id"`
	GatewayRef string          `json:"gateway_ref"`
	Code       string          `json:"code"`
	Note       string          `json:"note"`
	GatewayAt  *time.Time      `json:"gateway_at"`
	ExchangeID *uuid.UUID      `json:"exchange_id"`
	ReceiptID  *uuid.UUID      `json:"receipt_id"`
	Billed
}

// Billed is what a gateway says that it counted and charged.
type Billed struct {
	Segments       int    `json:"segments"`      // 0: not said
	ChargeMicros   *int64 `json:"charge_micros"` // nil: not said
	ChargeCurrency string `json:"charge_currency"`
}

// TableName names the table; evidence has no plural.
func (Evidence) TableName() string { return "evidence" }

// Fact is the evidence as the core sees it.
func (e Evidence) Fact() delivery.Evidence {
	fact := delivery.Evidence{Source: e.Source, Claim: e.Claim, Cause: e.Cause, Attempt: e.Attempt, Part: e.Part, Parts: e.Parts,
		GatewayRef: e.GatewayRef, Code: e.Code, Note: e.Note}
	if e.GatewayAt != nil {
		fact.GatewayAt = *e.GatewayAt
	}
	return fact
}

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

// Acceptance is a message to be accepted, with the token that makes its
// repetition harmless; nil if the request had none.
type Acceptance struct {
	Message  Message
	Evidence Evidence
	Token    *Idempotency
}

// Accept commits new messages with their first evidence, as one set. Where a
// token is known already nothing is written for its message; the tokens that
// were there first are returned, in the order of the set, nil for messages
// that were accepted.
func (s *Store) Accept(ctx context.Context, set []Acceptance) ([]*Idempotency, error) {
	prior := make([]*Idempotency, len(set))
	err := s.Transact(ctx, func(s *Store) error {
		clear(prior)
		var tokens []Idempotency
		first := map[string]*Idempotency{}
		at := func(t *Idempotency) string { return t.KeyID.String() + t.Token }
		for i := range set {
			if t := set[i].Token; t != nil && first[at(t)] == nil {
				first[at(t)] = t
				tokens = append(tokens, *t)
			}
		}
		if len(tokens) > 0 {
			// Always in the same order, so that two sets never wait for each other.
			slices.SortFunc(tokens, func(a, b Idempotency) int { return strings.Compare(at(&a), at(&b)) })
			// The conflict waits for a rival transaction to end, so that the
			// one that came first is there to be read.
			if err := s.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&tokens).Error; err != nil {
				return err
			}
			var pairs [][]any
			for _, t := range tokens {
				pairs = append(pairs, []any{t.KeyID, t.Token})
			}
			var stored []Idempotency
			if err := s.db.Where("(key_id, token) IN ?", pairs).Find(&stored).Error; err != nil {
				return err
			}
			for i := range stored {
				first[at(&stored[i])] = &stored[i]
			}
		}
		var messages []Message
		var evidence []Evidence
		for i, a := range set {
			if a.Message.Fields == nil {
				a.Message.Fields = map[string]any{}
			}
			if a.Token != nil {
				if winner := first[at(a.Token)]; winner.MessageID != a.Message.ID {
					prior[i] = winner
					continue
				}
			}
			messages = append(messages, a.Message)
			evidence = append(evidence, a.Evidence)
		}
		if len(messages) == 0 {
			return nil
		}
		if err := insert(s.db, "messages", messages); err != nil {
			return err
		}
		return insert(s.db, "evidence", evidence)
	})
	if err != nil {
		return nil, fmt.Errorf("accepting %d messages: %w", len(set), err)
	}
	return prior, nil
}

// Token returns what a token was used for.
func (s *Store) Token(ctx context.Context, key uuid.UUID, token string) (Idempotency, error) {
	var t Idempotency
	err := s.db.WithContext(ctx).Where("key_id = ? AND token = ?", key, token).First(&t).Error
	return t, found(err)
}

// Claim locks messages that are due at a gateway, the most urgent lane first,
// and within a lane the longest due. Call it within [Store.Transact]; what is
// locked by others is passed over.
func (s *Store) Claim(ctx context.Context, gateway uuid.UUID, now time.Time, most int) ([]Message, error) {
	var claimed []Message
	for lane := 0; lane < 3 && len(claimed) < most; lane++ {
		var some []Message
		err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}).
			Where("gateway_id = ? AND state = 'queued' AND lane = ? AND due_at <= ? AND valid_until > ?", gateway, lane, now, now).
			Order("due_at").Limit(most - len(claimed)).Find(&some).Error
		if err != nil {
			return nil, fmt.Errorf("claiming messages: %w", err)
		}
		claimed = append(claimed, some...)
	}
	return claimed, nil
}

// Defer sets when queued messages are due. Call it within the transaction that
// claimed them.
func (s *Store) Defer(ctx context.Context, due map[uuid.UUID]time.Time) error {
	if len(due) == 0 {
		return nil
	}
	type later struct {
		ID    uuid.UUID `json:"id"`
		DueAt time.Time `json:"due_at"`
	}
	set := make([]later, 0, len(due))
	for id, at := range due {
		set = append(set, later{id, at})
	}
	err := s.db.WithContext(ctx).Exec("UPDATE messages m SET due_at = later.due_at FROM jsonb_to_recordset(?::jsonb) AS later (id uuid, due_at timestamptz) WHERE m.id = later.id", rows(set)).Error
	if err != nil {
		return fmt.Errorf("deferring messages: %w", err)
	}
	return nil
}

// NextDue is when the next queued message of a gateway is due; false if there
// is none.
func (s *Store) NextDue(ctx context.Context, gateway uuid.UUID) (time.Time, bool, error) {
	var due []*time.Time
	err := s.db.WithContext(ctx).Raw(`SELECT min(due_at) FROM (VALUES (0), (1), (2)) AS lanes (lane), LATERAL
		(SELECT due_at FROM messages m WHERE m.gateway_id = ? AND m.state = 'queued' AND m.lane = lanes.lane ORDER BY due_at LIMIT 1) AS firsts`, gateway).
		Scan(&due).Error
	if err != nil || len(due) == 0 || due[0] == nil {
		return time.Time{}, false, err
	}
	return *due[0], true, nil
}

// Orphans lists messages that are being sent through a gateway. When a keeper
// takes over, nobody knows what became of them.
func (s *Store) Orphans(ctx context.Context, gateway uuid.UUID, most int) ([]Message, error) {
	var orphans []Message
	err := s.db.WithContext(ctx).Omit("text").Where("gateway_id = ? AND state = 'sending'", gateway).Limit(most).Find(&orphans).Error
	return orphans, err
}

// TooLate locks messages whose validity ended before they went, and returns
// them with what is known of each. Call it within [Store.Transact]; what a
// keeper is claiming just now is passed over.
func (s *Store) TooLate(ctx context.Context, now time.Time, most int) ([]Message, []delivery.Outcome, error) {
	var late []Message
	err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}).Omit("text").
		Where("state IN ('held', 'queued') AND valid_until <= ?", now).Order("valid_until").Limit(most).Find(&late).Error
	if err != nil || len(late) == 0 {
		return nil, nil, err
	}
	outcomes, err := s.Known(ctx, late)
	return late, outcomes, err
}

// Known works out messages from all their evidence, in their order.
func (s *Store) Known(ctx context.Context, messages []Message) ([]delivery.Outcome, error) {
	if len(messages) == 0 {
		return nil, nil
	}
	ids := make([]uuid.UUID, len(messages))
	index := make(map[uuid.UUID]int, len(messages))
	for i, m := range messages {
		ids[i], index[m.ID] = m.ID, i
	}
	var all []Evidence
	if err := s.db.WithContext(ctx).Where("message_id = ANY(?::uuid[])", list(ids)).Find(&all).Error; err != nil {
		return nil, fmt.Errorf("reading evidence: %w", err)
	}
	facts := make([][]delivery.Evidence, len(messages))
	for _, e := range all {
		facts[index[e.MessageID]] = append(facts[index[e.MessageID]], e.Fact())
	}
	outcomes := make([]delivery.Outcome, len(messages))
	for i := range messages {
		outcomes[i] = delivery.Fold(facts[i])
	}
	return outcomes, nil
}

// TakeSilent takes messages of a gateway that are due to be looked after, and
// postpones each by a lease, so that another instance does not ask about them
// at the same time.
func (s *Store) TakeSilent(ctx context.Context, gateway uuid.UUID, now time.Time, lease time.Duration, most int) ([]Message, error) {
	var silent []Message
	err := s.db.WithContext(ctx).Raw(`UPDATE messages SET ask_at = ? WHERE id IN (
			SELECT id FROM messages WHERE gateway_id = ? AND ask_at <= ? ORDER BY ask_at LIMIT ? FOR UPDATE SKIP LOCKED)
		RETURNING *`, now.Add(lease), gateway, now, most).Scan(&silent).Error
	if err != nil {
		return nil, fmt.Errorf("taking silent messages: %w", err)
	}
	return silent, nil
}

// Postpone writes when messages are looked after next, unless they have moved
// meanwhile.
func (s *Store) Postpone(ctx context.Context, messages []Message) error {
	// In the order of ids, as Append locks, so that the two never wait for each
	// other.
	return s.db.WithContext(ctx).Exec(`WITH n AS (
			SELECT n.* FROM jsonb_to_recordset(?::jsonb) AS n (id uuid, state text, attempts int, ask_at timestamptz, asks int)),
		locked AS (SELECT id FROM messages WHERE id IN (SELECT id FROM n) ORDER BY id FOR UPDATE)
		UPDATE messages m SET ask_at = n.ask_at, asks = n.asks
		FROM n JOIN locked USING (id)
		WHERE m.id = n.id AND m.state = n.state AND m.attempts = n.attempts AND m.ask_at IS NOT NULL`, rows(messages)).Error
}

// Waiting locks messages that wait to be sent through a gateway and have a
// route, and returns them with what is known of each. Call it within
// [Store.Transact]; what a keeper is claiming just now is passed over.
func (s *Store) Waiting(ctx context.Context, gateway uuid.UUID, most int) ([]Message, []delivery.Outcome, error) {
	var waiting []Message
	err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}).Omit("text").
		Where("gateway_id = ? AND state = 'queued' AND route <> ''", gateway).Order("lane, due_at").Limit(most).Find(&waiting).Error
	if err != nil || len(waiting) == 0 {
		return nil, nil, err
	}
	outcomes, err := s.Known(ctx, waiting)
	return waiting, outcomes, err
}

// Append adds evidence and folds every message it speaks of anew, in one
// transaction: the row always agrees with the evidence. plan is called for each
// message with the outcome applied, to say what is to be done next. What is
// returned are the messages as they are now; evidence about messages that do
// not exist is left out.
func (s *Store) Append(ctx context.Context, now time.Time, evidence []Evidence, plan func(before, after *Message, known delivery.Outcome)) ([]Message, error) {
	if len(evidence) == 0 {
		return nil, nil
	}
	var messages []Message
	err := s.Transact(ctx, func(s *Store) error {
		ids := make([]uuid.UUID, 0, len(evidence))
		for _, e := range evidence {
			ids = append(ids, e.MessageID)
		}
		// Always in the order of ids: two sets that meet wait, and never for
		// each other.
		if err := s.db.Clauses(clause.Locking{Strength: "UPDATE"}).Omit("text").Where("id = ANY(?::uuid[])", list(ids)).Order("id").Find(&messages).Error; err != nil {
			return err
		}
		there := make(map[uuid.UUID]bool, len(messages))
		for _, m := range messages {
			there[m.ID] = true
		}
		known := evidence[:0:0]
		for _, e := range evidence {
			if there[e.MessageID] {
				known = append(known, e)
			}
		}
		if len(known) == 0 {
			return nil
		}
		if err := insert(s.db, "evidence", known); err != nil {
			return err
		}
		outcomes, err := s.Known(ctx, messages)
		if err != nil {
			return err
		}
		for i := range messages {
			before, m := messages[i], &messages[i]
			m.apply(outcomes[i], now)
			plan(&before, m, outcomes[i])
		}
		return s.update(messages)
	})
	if err != nil {
		return nil, fmt.Errorf("adding %d pieces of evidence: %w", len(evidence), err)
	}
	return messages, nil
}

// apply writes an outcome into the row.
func (m *Message) apply(o delivery.Outcome, now time.Time) {
	m.State, m.Cause, m.Attempts, m.GatewayRef, m.ChangedAt = o.State, o.Cause, o.Attempts, o.GatewayRef, now
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

// update writes what Append changes, as one statement: the rows travel as one
// JSON parameter.
func (s *Store) update(messages []Message) error {
	return s.db.Exec(`UPDATE messages m SET
			gateway_id = n.gateway_id, state = n.state, cause = n.cause, rivals = n.rivals, attempts = n.attempts,
			gateway_ref = n.gateway_ref, due_at = n.due_at, ask_at = n.ask_at, asks = n.asks, give_up_at = n.give_up_at,
			changed_at = n.changed_at, settled_at = n.settled_at, price_micros = n.price_micros, currency = n.currency
		FROM jsonb_to_recordset(?::jsonb) AS n (id uuid, gateway_id uuid, state text, cause text, rivals text, attempts int,
			gateway_ref text, due_at timestamptz, ask_at timestamptz, asks int, give_up_at timestamptz,
			changed_at timestamptz, settled_at timestamptz, price_micros bigint, currency text)
		WHERE m.id = n.id`, rows(messages)).Error
}

// Filter chooses messages. Zero fields choose all.
type Filter struct {
	To         string
	States     []delivery.State
	Kind       string
	Sender     string
	Gateway    uuid.UUID
	Reference  string
	GatewayRef string
	Contested  bool
	Since      time.Time
	Until      time.Time
}

func (f Filter) on(db *gorm.DB) *gorm.DB {
	for column, value := range map[string]string{
		"to_number": f.To, "kind": f.Kind, "sender": f.Sender, "reference": f.Reference, "gateway_ref": f.GatewayRef,
	} {
		if value != "" {
			db = db.Where(column+" = ?", value)
		}
	}
	if len(f.States) > 0 {
		db = db.Where("state IN ?", f.States)
	}
	if f.Gateway != uuid.Nil {
		db = db.Where("gateway_id = ?", f.Gateway)
	}
	if f.Contested {
		db = db.Where("rivals <> ''")
	}
	return between(db, "id", f.Since, f.Until)
}

// Find lists messages, the newest first, from the one after the cursor; the
// nil cursor starts at the newest.
func (s *Store) Find(ctx context.Context, f Filter, after uuid.UUID, most int) ([]Message, error) {
	db := f.on(s.db.WithContext(ctx))
	if after != uuid.Nil {
		db = db.Where("id < ?", after)
	}
	var messages []Message
	if err := db.Order("id DESC").Limit(most).Find(&messages).Error; err != nil {
		return nil, fmt.Errorf("finding messages: %w", err)
	}
	return messages, nil
}

// Tally counts the chosen messages by state.
func (s *Store) Tally(ctx context.Context, f Filter) (delivery.Tally, error) {
	var rows []struct {
		State     delivery.State
		N         int64
		Contested int64
	}
	var tally delivery.Tally
	err := f.on(s.db.WithContext(ctx).Model(&Message{})).
		Select("state, count(*) AS n, count(*) FILTER (WHERE rivals <> '') AS contested").Group("state").Scan(&rows).Error
	if err != nil {
		return tally, fmt.Errorf("counting messages: %w", err)
	}
	for _, r := range rows {
		tally.Add(r.State, r.N)
		tally.Contested += r.Contested
	}
	return tally, tally.Check()
}

// Message returns one message.
func (s *Store) Message(ctx context.Context, id uuid.UUID) (Message, error) {
	var m Message
	err := s.db.WithContext(ctx).Where("id = ?", id).First(&m).Error
	return m, found(err)
}

// Hold locks one message until the transaction ends, and returns it with what
// is known of it. Call it within [Store.Transact].
func (s *Store) Hold(ctx context.Context, id uuid.UUID) (Message, delivery.Outcome, error) {
	var m Message
	if err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", id).First(&m).Error; err != nil {
		return m, delivery.Outcome{}, found(err)
	}
	outcomes, err := s.Known(ctx, []Message{m})
	if err != nil {
		return m, delivery.Outcome{}, err
	}
	return m, outcomes[0], nil
}

// Timeline returns the evidence about a message in the order in which it was
// recorded.
func (s *Store) Timeline(ctx context.Context, message uuid.UUID) ([]Evidence, error) {
	var timeline []Evidence
	err := s.db.WithContext(ctx).Where("message_id = ?", message).Order("id").Find(&timeline).Error
	return timeline, err
}

// Matched is the message that a claim speaks of, and which submission of it.
type Matched struct {
	Message
	Attempt int
}

// Match finds which messages claims speak of: by our reference, which is a
// message's id, else by the gateway's own id and, where that stands for several,
// the number. What is left ambiguous matches none: it would be a guess. A
// message that went through several gateways is matched for each of them, by
// our reference.
func (s *Store) Match(ctx context.Context, claims []Stray) (map[uuid.UUID]Matched, error) {
	var ids []uuid.UUID
	var refs []gatewayRef
	for _, c := range claims {
		if id, err := uuid.Parse(c.Reference); err == nil {
			ids = append(ids, id)
		}
		if c.GatewayRef != "" {
			refs = append(refs, gatewayRef{c.GatewayRef, c.GatewayID})
		}
	}
	byID, byRef := map[uuid.UUID]Message{}, map[string][]Message{}
	var found []Message
	if len(ids) > 0 {
		if err := s.db.WithContext(ctx).Omit("text").Where("id = ANY(?::uuid[])", list(ids)).Find(&found).Error; err != nil {
			return nil, fmt.Errorf("matching by reference: %w", err)
		}
		for _, m := range found {
			byID[m.ID] = m
		}
	}
	if len(refs) > 0 {
		found = nil
		if err := s.db.WithContext(ctx).Omit("text").Where("gateway_ref <> '' AND (gateway_ref, gateway_id) IN ("+refRows+")", rows(refs)).Find(&found).Error; err != nil {
			return nil, fmt.Errorf("matching by the gateway's id: %w", err)
		}
		for _, m := range found {
			at := m.GatewayID.String() + m.GatewayRef
			byRef[at] = append(byRef[at], m)
		}
	}
	last, err := s.lastAttempts(ctx, byID)
	if err != nil {
		return nil, err
	}
	matched := map[uuid.UUID]Matched{}
	for _, c := range claims {
		if id, err := uuid.Parse(c.Reference); err == nil {
			m, ok := byID[id]
			attempt, several := last[through{id, c.GatewayID}]
			switch {
			case ok && several:
				matched[c.ID] = Matched{m, attempt}
				continue
			case ok && m.GatewayID == c.GatewayID:
				matched[c.ID] = Matched{m, m.Attempts}
				continue
			}
		}
		rivals := byRef[c.GatewayID.String()+c.GatewayRef]
		if len(rivals) > 1 && c.ToNumber != "" {
			rivals = slices.DeleteFunc(slices.Clone(rivals), func(m Message) bool { return !sameNumber(m.ToNumber, c.ToNumber) })
		}
		if len(rivals) == 1 {
			matched[c.ID] = Matched{rivals[0], rivals[0].Attempts}
		}
	}
	return matched, nil
}

// sameNumber reports whether a gateway's writing of a number stands for ours:
// digits with or without what is written before them.
func sameNumber(ours, theirs string) bool {
	digits := strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, theirs)
	return strings.TrimPrefix(digits, "00") == strings.TrimPrefix(ours, "+")
}

type through struct{ message, gateway uuid.UUID }

// lastAttempts is, for messages that may have been submitted through several
// gateways, the last submission through each.
func (s *Store) lastAttempts(ctx context.Context, messages map[uuid.UUID]Message) (map[through]int, error) {
	var several []uuid.UUID
	for id, m := range messages {
		if m.Attempts > 1 || m.Route != "" && m.Attempts == 1 {
			several = append(several, id)
		}
	}
	last := map[through]int{}
	if len(several) == 0 {
		return last, nil
	}
	var found []struct {
		MessageID, GatewayID uuid.UUID
		Attempt              int
	}
	err := s.db.WithContext(ctx).Raw(`SELECT message_id, gateway_id, max(attempt) AS attempt FROM evidence
		WHERE message_id = ANY(?::uuid[]) AND claim = 'sending' GROUP BY message_id, gateway_id`, list(several)).Scan(&found).Error
	if err != nil {
		return nil, fmt.Errorf("matching by submission: %w", err)
	}
	for _, f := range found {
		last[through{f.MessageID, f.GatewayID}] = f.Attempt
	}
	return last, nil
}
