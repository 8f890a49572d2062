package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// queueHeld keeps until when messages are held.
func queueHeld(b *pgx.Batch, set []sending) {
	if len(set) == 0 {
		return
	}
	b.Queue("INSERT INTO held (id, gateway_id, release_at) SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::timestamptz[])",
		ids(set, func(s *sending) uuid.UUID { return s.id }), ids(set, func(s *sending) uuid.UUID { return s.gateway }),
		column(set, func(s *sending) time.Time { return s.due }))
}

// Due takes messages whose time has come, at most so many. Call it within [Store.Transact].
func (s *Store) Due(ctx context.Context, now time.Time, most int) ([]Message, error) {
	due, err := query(ctx, s.hot(), scanID,
		"SELECT id FROM held WHERE release_at <= $1 ORDER BY release_at LIMIT $2 FOR UPDATE SKIP LOCKED", now, most)
	if err != nil {
		return nil, fmt.Errorf("looking for what is due: %w", err)
	}
	return s.read(ctx, due, "AND s.state = 'held'"+s.locking(" ORDER BY s.id FOR UPDATE OF s"))
}

// HeldUntil is until when messages are held; those that are not have no entry.
func (s *Store) HeldUntil(ctx context.Context, messages []uuid.UUID) (map[uuid.UUID]time.Time, error) {
	until := map[uuid.UUID]time.Time{}
	if len(messages) == 0 {
		return until, nil
	}
	_, err := query(ctx, s.reading(), func(rows pgx.Rows) (id uuid.UUID, err error) {
		var at time.Time
		err = rows.Scan(&id, &at)
		until[id] = at
		return id, err
	}, "SELECT id, release_at FROM held WHERE id = ANY($1)", uuids(messages))
	if err != nil {
		return nil, fmt.Errorf("reading until when messages are held: %w", err)
	}
	return until, nil
}

// HoldUntil changes until when a message is held, and with it how long it is of use. Call it
// within the transaction that locks the message.
func (s *Store) HoldUntil(ctx context.Context, m Message, at time.Time) error {
	var b pgx.Batch
	b.Queue(monthOf(m.ID).in(`UPDATE standings_%M s SET valid_until = s.valid_until + ($2 - h.release_at)
		FROM held h WHERE h.id = s.id AND s.id = $1`), m.ID, at)
	b.Queue("UPDATE held SET release_at = $2 WHERE id = $1", m.ID, at)
	return s.send(ctx, &b)
}
