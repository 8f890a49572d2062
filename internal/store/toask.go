package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/schedule"
)

// Orphans lists messages that are being sent through a gateway, in the order of their ids,
// after one of them. When a keeper takes over, nobody knows what became of them.
func (s *Store) Orphans(ctx context.Context, gateway, after uuid.UUID, most int) ([]Message, error) {
	found, err := query(ctx, s.hot(), scanTurn, `SELECT a.id, a.began_at FROM to_ask a JOIN standings s ON s.id = a.id
		WHERE a.gateway_id = $1 AND a.id > $2 AND s.state = 'sending' ORDER BY a.id LIMIT $3`, gateway, after, most)
	if err != nil {
		return nil, fmt.Errorf("looking for what was being sent: %w", err)
	}
	messages, err := s.read(ctx, ids(found, func(t *turn) uuid.UUID { return t.id }), "AND s.state = 'sending'")
	if err != nil {
		return nil, err
	}
	began := make(map[uuid.UUID]time.Time, len(found))
	for _, t := range found {
		began[t.id] = t.due
	}
	for i := range messages {
		messages[i].BeganAt = began[messages[i].ID]
	}
	slices.SortFunc(messages, func(a, b Message) int { return slices.Compare(a.ID[:], b.ID[:]) })
	return messages, nil
}

// sendingDays is how far back messages are counted that are being sent: their validity is shorter.
const sendingDays = 9

// Sending counts the messages that are being sent, by gateway, as tallies do.
func (s *Store) Sending(ctx context.Context, now time.Time) (map[uuid.UUID]int64, error) {
	counts := map[uuid.UUID]int64{}
	_, err := query(ctx, s.reading(), func(rows pgx.Rows) (none struct{}, err error) {
		var gateway uuid.UUID
		var n int64
		err = rows.Scan(&gateway, &n)
		counts[gateway] = n
		return none, err
	}, `SELECT gateway_id, sum(n)::bigint FROM (
			SELECT gateway_id, n FROM tallies WHERE grain = 'day' AND began_at >= $1 AND state = 'sending'
			UNION ALL SELECT gateway_id, n FROM tally_deltas WHERE state = 'sending') AS sending
		GROUP BY 1 HAVING sum(n) > 0`, now.UTC().Truncate(24*time.Hour).AddDate(0, 0, -sendingDays))
	if err != nil {
		return nil, fmt.Errorf("counting messages that are being sent: %w", err)
	}
	return counts, nil
}

// TakeSilent takes messages of a gateway that are due to be looked after, and
// postpones each by a lease, so that another instance does not ask about them
// at the same time.
func (s *Store) TakeSilent(ctx context.Context, gateway uuid.UUID, now time.Time, lease time.Duration, most int) ([]Message, error) {
	type watched struct {
		id uuid.UUID
		schedule.Times
	}
	taken, err := query(ctx, s.hot(), func(rows pgx.Rows) (w watched, err error) {
		w.GiveUpAt, w.AskAt = new(time.Time), new(time.Time)
		err = rows.Scan(&w.id, w.AskAt, w.GiveUpAt, &w.BeganAt, &w.Asks)
		return w, err
	}, `UPDATE to_ask SET ask_at = $3 WHERE id IN (
			SELECT a.id FROM to_ask a JOIN standings s ON s.id = a.id
			WHERE a.gateway_id = $1 AND a.ask_at <= $2 AND s.state <> 'sending' ORDER BY a.ask_at LIMIT $4 FOR UPDATE OF a SKIP LOCKED)
		RETURNING id, ask_at, give_up_at, began_at, asks`, gateway, now, now.Add(lease), most)
	if err != nil {
		return nil, fmt.Errorf("taking silent messages: %w", err)
	}
	silent, err := s.read(ctx, ids(taken, func(w *watched) uuid.UUID { return w.id }), "")
	if err != nil {
		return nil, err
	}
	times := make(map[uuid.UUID]schedule.Times, len(taken))
	for _, w := range taken {
		times[w.id] = w.Times
	}
	for i := range silent {
		silent[i].Times = times[silent[i].ID]
	}
	return silent, s.readSealed(ctx, silent)
}

// Postpone writes when messages are looked after next, unless they have moved
// meanwhile. Call it within [Store.Transact].
func (s *Store) Postpone(ctx context.Context, messages []Message) error {
	// They have to stay as they are until this is written, though their standing
	// is not.
	current, err := s.readStandings(ctx, ids(messages, func(m *Message) uuid.UUID { return m.ID }), inOrder)
	if err != nil {
		return fmt.Errorf("postponing messages: %w", err)
	}
	as := make(map[uuid.UUID]*Message, len(current))
	for i := range current {
		as[current[i].ID] = &current[i]
	}
	var unmoved []Message
	for _, m := range messages {
		if now := as[m.ID]; now != nil && now.State == m.State && now.Attempts == m.Attempts && now.AskAt != nil {
			unmoved = append(unmoved, m)
		}
	}
	var b pgx.Batch
	queueToAsk(&b, unmoved)
	return s.send(ctx, &b)
}

// queueToAsk writes when messages are asked about.
func queueToAsk(b *pgx.Batch, set []Message) {
	if len(set) == 0 {
		return
	}
	b.Queue(`INSERT INTO to_ask AS a (id, gateway_id, ask_at, give_up_at, began_at, asks)
		SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::timestamptz[], $4::timestamptz[], $5::timestamptz[], $6::int[])
		ON CONFLICT (id) DO UPDATE SET gateway_id = excluded.gateway_id, ask_at = excluded.ask_at, give_up_at = excluded.give_up_at,
			began_at = excluded.began_at, asks = excluded.asks`,
		ids(set, func(m *Message) uuid.UUID { return m.ID }), ids(set, func(m *Message) uuid.UUID { return m.GatewayID }),
		column(set, func(m *Message) time.Time { return *m.AskAt }), column(set, func(m *Message) time.Time { return *m.GiveUpAt }),
		column(set, func(m *Message) time.Time { return m.BeganAt }), numbers(set, func(m *Message) int { return m.Asks }))
}

// AskNow puts messages among those to be asked about, at once.
func (s *Store) AskNow(ctx context.Context, messages []Message, now time.Time) error {
	set := slices.Clone(messages)
	for i := range set {
		m := &set[i]
		m.AskAt = &now
		if m.GiveUpAt == nil {
			m.GiveUpAt = &now
		}
		if m.BeganAt.IsZero() {
			m.BeganAt = timeOf(m.ID)
		}
	}
	var b pgx.Batch
	queueToAsk(&b, set)
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("asking at once: %w", err)
	}
	return nil
}

// OpenAt is a message that a gateway has taken and of which more is to be heard; nil if there is none
// among the first that are to be asked about.
func (s *Store) OpenAt(ctx context.Context, gateway uuid.UUID) (uuid.UUID, error) {
	found, err := query(ctx, s.hot(), scanID, `SELECT a.id FROM (
			SELECT id FROM to_ask WHERE gateway_id = $1 ORDER BY ask_at LIMIT 1000) a
		JOIN standings s ON s.id = a.id WHERE s.state IN ('accepted', 'enroute') LIMIT 1`, gateway)
	if err != nil || len(found) == 0 {
		return uuid.Nil, err
	}
	return found[0], nil
}

// Unwatch takes messages out of those to be asked about.
func (s *Store) Unwatch(ctx context.Context, messages []Message) error {
	if len(messages) == 0 {
		return nil
	}
	var b pgx.Batch
	b.Queue("DELETE FROM to_ask WHERE id = ANY($1)", ids(messages, func(m *Message) uuid.UUID { return m.ID }))
	return s.send(ctx, &b)
}
