package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Receipt is a callback as it is kept, its secrets masked. Those that were read without more ado are
// kept in packs, like the exchanges; the others each by itself.
type Receipt struct {
	ID         uuid.UUID
	GatewayID  uuid.UUID
	ReceivedAt time.Time
	Method     string
	Query      string
	Header     map[string]string `gorm:"serializer:json"`
	Body       []byte
	Genuine    bool
	Problem    string
	Unread     bool  `gorm:"-"` // it is still to be read
	Came       *Came `gorm:"-"` // until it has been read; nil: it is as it came
}

// Came is a callback as it came, before anything in it was masked.
type Came struct {
	Query  string            `json:"query"`
	Header map[string]string `json:"header,omitempty"` // nil: as it is kept
	Body   []byte            `json:"body,omitempty"`   // nil: as it is kept
}

// AsItCame is what of a callback is to be read.
func (r *Receipt) AsItCame() (query string, header map[string]string, body []byte) {
	if r.Came == nil {
		return r.Query, r.Header, r.Body
	}
	query, header, body = r.Came.Query, r.Came.Header, r.Came.Body
	if header == nil {
		header = r.Header
	}
	if body == nil {
		body = r.Body
	}
	return query, header, body
}

// StoreReceipts keeps callbacks as they came in.
func (s *Store) StoreReceipts(ctx context.Context, receipts []Receipt) error {
	var b pgx.Batch
	var unread []Receipt
	divided := byMonth(s, receipts, func(r *Receipt) uuid.UUID { return r.ID })
	n := 0
	for m, set := range divided {
		n += len(set)
		headers, err := objects(set, func(r *Receipt) map[string]string { return r.Header })
		if err != nil {
			return err
		}
		b.Queue(
			m.in(`INSERT INTO receipts_%M (id, gateway_id, received_at, method, query, header, body, genuine, problem)
			SELECT n.id, n.gateway_id, n.received_at, n.method, n.query, n.header::jsonb, n.body, n.genuine, n.problem
			FROM unnest($1::uuid[], $2::uuid[], $3::timestamptz[], $4::text[], $5::text[], $6::text[], $7::bytea[], $8::boolean[], $9::text[])
				AS n (id, gateway_id, received_at, method, query, header, body, genuine, problem)`),
			ids(set, func(r *Receipt) uuid.UUID { return r.ID }),
			ids(set, func(r *Receipt) uuid.UUID { return r.GatewayID }),
			column(set, func(r *Receipt) time.Time { return r.ReceivedAt }),
			words(set, func(r *Receipt) string { return r.Method }),
			words(set, func(r *Receipt) string { return r.Query }),
			headers,
			column(set, func(r *Receipt) []byte { return present(r.Body) }),
			column(set, func(r *Receipt) bool { return r.Genuine }),
			words(set, func(r *Receipt) string { return r.Problem }),
		)
		for _, r := range set {
			if r.Unread {
				unread = append(unread, r)
			}
		}
	}
	if n < len(receipts) {
		return fmt.Errorf("storing receipts: there are no tables yet for the month of %d of them", len(receipts)-n)
	}
	if len(unread) > 0 {
		came := make([]*string, len(unread))
		for i, r := range unread {
			if r.Came == nil {
				continue
			}
			encoded, err := json.Marshal(r.Came)
			if err != nil {
				return fmt.Errorf("storing receipts: %w", err)
			}
			text := string(encoded)
			came[i] = &text
		}
		b.Queue("INSERT INTO to_read (id, gateway_id, came) SELECT n.id, n.gateway_id, n.came::jsonb "+
			"FROM unnest($1::uuid[], $2::uuid[], $3::text[]) AS n (id, gateway_id, came)",
			ids(unread, func(r *Receipt) uuid.UUID { return r.ID }), ids(unread, func(r *Receipt) uuid.UUID { return r.GatewayID }), came)
	}
	if err := s.send(ctx, &b); err != nil {
		s.missing(err)
		return fmt.Errorf("storing %d receipts: %w", len(receipts), err)
	}
	return nil
}

// objects is a column of JSON objects.
func objects[T any](records []T, of func(*T) map[string]string) ([]string, error) {
	values := make([]string, len(records))
	for i := range records {
		values[i] = "{}"
		if object := of(&records[i]); len(object) > 0 {
			encoded, err := json.Marshal(object)
			if err != nil {
				return nil, fmt.Errorf("headers: %w", err)
			}
			values[i] = string(encoded)
		}
	}
	return values, nil
}

// present is a list that is there, if only with nothing on it.
func present[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// UnreadReceipts lists callbacks of a gateway that nobody has read yet, and that
// came before a moment, the oldest first.
func (s *Store) UnreadReceipts(ctx context.Context, gateway uuid.UUID, before time.Time, most int) ([]Receipt, error) {
	type unread struct {
		id   uuid.UUID
		came []byte
	}
	waiting, err := query(ctx, s.hot(), func(rows pgx.Rows) (u unread, err error) {
		err = rows.Scan(&u.id, &u.came)
		return u, err
	}, "SELECT id, came FROM to_read WHERE gateway_id = $1 AND id < $2 ORDER BY id LIMIT $3", gateway, Floor(before), most)
	if err != nil {
		return nil, fmt.Errorf("looking for receipts to read: %w", err)
	}
	came := make(map[uuid.UUID][]byte, len(waiting))
	all := make([]uuid.UUID, len(waiting))
	for i, u := range waiting {
		all[i], came[u.id] = u.id, u.came
	}
	receipts, err := s.receipts(ctx, all)
	if err != nil {
		return nil, err
	}
	for i := range receipts {
		r := &receipts[i]
		r.Unread = true
		if came[r.ID] == nil {
			continue
		}
		r.Came = &Came{}
		if err := json.Unmarshal(came[r.ID], r.Came); err != nil {
			return nil, fmt.Errorf("reading receipt %s: %w", r.ID, err)
		}
	}
	return receipts, s.dropLost(ctx, all, receipts)
}

// dropLost takes out callbacks that are not there any more: their month is gone.
func (s *Store) dropLost(ctx context.Context, waiting []uuid.UUID, found []Receipt) error {
	if len(found) == len(waiting) {
		return nil
	}
	there := map[uuid.UUID]bool{}
	for _, r := range found {
		there[r.ID] = true
	}
	var b pgx.Batch
	for _, id := range waiting {
		if !there[id] {
			b.Queue("DELETE FROM to_read WHERE id = $1", id)
		}
	}
	return s.send(ctx, &b)
}

func scanID(rows pgx.Rows) (id uuid.UUID, err error) {
	err = rows.Scan(&id)
	return id, err
}

// TakeReceipts takes callbacks to be settled in this transaction, and tells
// which of them nobody else has settled or is settling. Call it within
// [Store.Transact].
func (s *Store) TakeReceipts(ctx context.Context, receipts []uuid.UUID) (map[uuid.UUID]bool, error) {
	if len(receipts) == 0 {
		return nil, nil
	}
	taken, err := query(ctx, s.hot(), scanID, `DELETE FROM to_read WHERE id IN (
		SELECT id FROM to_read WHERE id = ANY($1) ORDER BY id FOR UPDATE SKIP LOCKED) RETURNING id`, uuids(receipts))
	if err != nil {
		return nil, fmt.Errorf("taking receipts: %w", err)
	}
	mine := make(map[uuid.UUID]bool, len(taken))
	for _, id := range taken {
		mine[id] = true
	}
	return mine, nil
}

// NoteProblems notes what is wrong with callbacks that could not be read, or of
// which what was read could not be kept.
func (s *Store) NoteProblems(ctx context.Context, receipts []Receipt) error {
	var b pgx.Batch
	for m, set := range byMonth(s, receipts, func(r *Receipt) uuid.UUID { return r.ID }) {
		b.Queue(
			m.in("UPDATE receipts_%M r SET problem = n.problem FROM unnest($1::uuid[], $2::text[]) AS n (id, problem) WHERE r.id = n.id"),
			ids(set, func(r *Receipt) uuid.UUID { return r.ID }),
			words(set, func(r *Receipt) string { return r.Problem }),
		)
	}
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("noting what is wrong with receipts: %w", err)
	}
	return nil
}

// RewriteReceipts writes anew what callbacks said, once more of it is to be hidden.
func (s *Store) RewriteReceipts(ctx context.Context, receipts []Receipt) error {
	var b pgx.Batch
	for m, set := range byMonth(s, receipts, func(r *Receipt) uuid.UUID { return r.ID }) {
		headers, err := objects(set, func(r *Receipt) map[string]string { return r.Header })
		if err != nil {
			return err
		}
		b.Queue(m.in("UPDATE receipts_%M r SET query = n.query, header = n.header::jsonb, body = n.body "+
			"FROM unnest($1::uuid[], $2::text[], $3::text[], $4::bytea[]) AS n (id, query, header, body) WHERE r.id = n.id"),
			ids(set, func(r *Receipt) uuid.UUID { return r.ID }), words(set, func(r *Receipt) string { return r.Query }), headers,
			column(set, func(r *Receipt) []byte { return present(r.Body) }))
	}
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("hiding codes in receipts: %w", err)
	}
	return nil
}

func (s *Store) receipts(ctx context.Context, ids []uuid.UUID) ([]Receipt, error) {
	var all []Receipt
	for m, set := range byMonth(s, ids, itself) {
		var some []Receipt
		if err := s.gorm(ctx).Table("receipts_"+string(m)).Where("id = ANY(?::uuid[])", list(set)).Order("id").Find(&some).Error; err != nil {
			return nil, fmt.Errorf("reading receipts: %w", err)
		}
		all = append(all, some...)
	}
	return all, nil
}
