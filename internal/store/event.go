package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/label"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/webhook"
)

// Event is something that happened, of which applications are told.
type Event struct {
	ID      uuid.UUID
	Seq     int64 // the order in which those about one subject happened
	Type    webhook.Type
	Subject uuid.UUID
	Kind    pace.Kind // of the message that it is about; empty if it is about none
	Labels  label.Set
	Data    json.RawMessage // what was so then, and need not be so any more
	// ReportTo is where ReportVia is told of it in the place of its own address; empty: there.
	ReportTo  string
	ReportVia uuid.UUID
	// Only is the receiver that alone is told of it; empty: all that want to know.
	Only string

	cut *int32 // in which labels are kept
}

// At is when it happened, to the millisecond.
func (e *Event) At() time.Time { return timeOf(e.ID) }

// Told is what is told of where a message stood, beside what never changes of it.
type Told struct {
	At         time.Time        `json:"at"`
	State      delivery.State   `json:"state"`
	Cause      delivery.Cause   `json:"cause,omitempty"`
	Contested  []delivery.State `json:"contested,omitempty"`
	Weak       bool             `json:"weak,omitempty"`
	Gateway    uuid.UUID        `json:"gateway,omitzero"`
	GatewayRef string           `json:"gateway_ref,omitempty"`
	Attempts   int              `json:"attempts,omitempty"`
	Price      *int64           `json:"price_micros,omitempty"`
	Currency   string           `json:"currency,omitempty"`
}

// eventOf is what happened to a message; false if nobody need be told.
func eventOf(before, m *Message, now time.Time) (Event, bool) {
	t := webhook.OfMessage(m.State)
	if before.State == m.State {
		if t = webhook.Contested; m.Rivals == "" || before.Rivals == m.Rivals {
			return Event{}, false
		}
	}
	if t == "" {
		return Event{}, false
	}
	told := Told{At: now, State: m.State, Cause: m.Cause, Weak: m.digest.Weak(), Gateway: m.GatewayID, GatewayRef: m.digest.Ref(m.Attempt),
		Attempts: m.Attempts, Price: m.micros(), Currency: m.Price.Currency()}
	if m.Rivals != "" {
		for word := range strings.SplitSeq(m.Rivals, ",") {
			told.Contested = append(told.Contested, delivery.State(word))
		}
	}
	data, err := json.Marshal(told)
	if err != nil { // it cannot: words, numbers and a time
		return Event{}, false
	}
	return Event{ID: IDAt(now), Type: t, Subject: m.ID, Kind: m.Kind, Data: data, cut: &m.cut}, true
}

// happens writes what happened, and who is to be told of it. %E is the month of the events, %M that of the messages
// that they are about.
//
// A number is given to each when it is written: whoever changed its subject before has committed by then, so those
// about one subject are numbered in the order in which they happened.
const happens = `WITH n AS MATERIALIZED (SELECT n.*, nextval('event_seq') AS seq
			FROM unnest($1::uuid[], $2::text[], $3::text[], $4::uuid[], $5::int[], $6::text[], $7::text[], $8::text[], $10::text[])
				AS n (id, type, family, subject, cut_id, kind, labels, data, alone)),
		wanted AS MATERIALIZED (SELECT n.*, r.id AS receiver_id, %VIA AS report_via, %TO AS report_to
			FROM n CROSS JOIN receivers r LEFT JOIN cuts c ON c.id = n.cut_id %JOIN
			WHERE r.removed_at IS NULL AND (r.types = '{}' OR n.type = ANY(r.types) OR n.family = ANY(r.types))
				AND (n.alone = '' OR n.alone = r.name)
				AND (r.kinds = '{}' OR n.kind = ANY(r.kinds))
				AND (r.labels = '' OR string_to_array(r.labels, ',') <@ string_to_array(coalesce(c.labels, n.labels), ','))
				AND (r.reports <> 'only' OR %VIA = r.id)),
		kept AS (INSERT INTO events_%E (id, seq, type, subject, cut_id, kind, labels, report_via, report_to, data)
			SELECT DISTINCT ON (seq) id, seq, type, subject, cut_id, kind, labels, report_via, report_to, data::json FROM wanted ORDER BY seq)
	INSERT INTO to_tell (receiver_id, seq, event_id, subject, due_at, since)
		SELECT receiver_id, seq, id, subject, $9, $9 FROM wanted ORDER BY seq`

// With and without addresses that messages name.
var (
	happensPlain = strings.NewReplacer("%VIA", "NULL::uuid", "%TO", "NULL::text", "%JOIN", "").Replace(happens)
	happensNamed = strings.NewReplacer("%VIA", "m.report_via", "%TO", "m.report_to",
		"%JOIN", "LEFT JOIN messages_%M m ON m.id = n.subject").Replace(happens)
)

// queueEvents writes what happened.
func (s *Store) queueEvents(b *pgx.Batch, now time.Time, set []Event) {
	if len(set) == 0 || !s.heard().Any {
		return
	}
	at := string(monthAt(now))
	write := func(sql string, set []Event) {
		b.Queue(strings.ReplaceAll(sql, "%E", at), ids(set, func(e *Event) uuid.UUID { return e.ID }),
			words(set, func(e *Event) webhook.Type { return e.Type }),
			words(set, func(e *Event) string { return e.Type.Family() }),
			ids(set, func(e *Event) uuid.UUID { return e.Subject }),
			column(set, func(e *Event) *int32 { return e.cut }),
			words(set, func(e *Event) pace.Kind { return e.Kind }),
			words(set, func(e *Event) label.Set { return e.Labels }),
			column(set, func(e *Event) string { return string(e.Data) }), now, column(set, func(e *Event) string { return e.Only }))
	}
	if !s.heard().Reports {
		write(happensPlain, set)
		return
	}
	var others []Event
	var about []Event // messages
	for _, e := range set {
		if strings.HasPrefix(string(e.Type), "message.") {
			about = append(about, e)
		} else {
			others = append(others, e)
		}
	}
	for m, some := range byMonth(s, about, func(e *Event) uuid.UUID { return e.Subject }) {
		write(m.in(happensNamed), some)
	}
	if len(others) > 0 {
		write(happensPlain, others)
	}
}

// Happen writes what happened and is about no message, in the transaction in which it happens. What it is to
// applications is made into JSON.
func (s *Store) Happen(ctx context.Context, now time.Time, set []Event) error {
	if !s.heard().Any {
		return nil
	}
	for i := range set {
		if set[i].ID == (uuid.UUID{}) {
			set[i].ID = IDAt(now)
		}
	}
	var b pgx.Batch
	s.queueEvents(&b, now, set)
	return s.send(ctx, &b)
}

const eventColumns = "e.id, e.seq, e.type, e.subject, e.kind, coalesce(c.labels, e.labels), e.report_via, coalesce(e.report_to, ''), e.data"

func scanEvent(rows pgx.Rows) (e Event, err error) {
	var via *uuid.UUID
	var data string
	err = rows.Scan(&e.ID, &e.Seq, &e.Type, &e.Subject, &e.Kind, &e.Labels, &via, &e.ReportTo, &data)
	if e.Data = json.RawMessage(data); via != nil {
		e.ReportVia = *via
	}
	return e, err
}

// Events reads events by their ids, in no order.
func (s *Store) Events(ctx context.Context, all []uuid.UUID) (found []Event, err error) {
	for m, set := range byMonth(s, all, itself) {
		some, err := query(ctx, s.hot(), scanEvent, m.in("SELECT "+eventColumns+
			" FROM events_%M e LEFT JOIN cuts c ON c.id = e.cut_id WHERE e.id = ANY($1)"), uuids(set))
		if err != nil {
			s.missing(err)
			return nil, fmt.Errorf("reading events: %w", err)
		}
		found = append(found, some...)
	}
	return found, nil
}
